package condition

// How a comparison is compiled, by the type of its fact.

import (
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"

	"briskwarden.example/briskwarden/internal/fact"
	"briskwarden.example/briskwarden/internal/schedule"
	"briskwarden.example/briskwarden/internal/spell"
	"briskwarden.example/briskwarden/language/ast"
	"briskwarden.example/briskwarden/language/parser"
)

// value compiles a comparison whose operator suits the fact.
func (k *compiler) value(c *ast.Compare, f *fact.Fact) Node {
	var n Node
	switch f.Type {
	case fact.Membership, fact.Addresses, fact.Methods, fact.Baselines:
		n = &memberNode{f, k.sets(c, f), written(c.Values)}
	case fact.ScopeSet:
		return &scopesNode{f, c.Op == ast.Within, k.sets(c, f), ast.Names(c.Values)}
	case fact.YesNo:
		return k.yesNo(c, f)
	case fact.Word, fact.Level:
		n = k.words(c, f)
	case fact.CountryCode:
		n = k.countries(c, f)
	case fact.Band:
		n = k.bands(c, f)
	case fact.Clock:
		if c.Op == ast.Before || c.Op == ast.After {
			return k.time(c, f)
		}
		n = &memberNode{f, k.sets(c, f), written(c.Values)}
	case fact.Instant:
		n = k.within(c, f)
	case fact.Version:
		bound, ok := parseVersion(c.Values[0].Text)
		if !ok {
			return k.fail(c.Values[0], "write whole numbers with dots between them: 17.2", "%q is no version", c.Values[0].Text)
		}
		return &versionNode{f, c.Op, bound}
	default:
		return k.number(c, f)
	}
	if c.Op == ast.NotIn || c.Op == ast.IsNot || c.Op == ast.NotWithin {
		return &notNode{n}
	}
	return n
}

func (k *compiler) sets(c *ast.Compare, f *fact.Fact) []int {
	ids := make([]int, 0, len(c.Values))
	for _, v := range c.Values {
		if id, ok := k.Names.Set(f, v); ok {
			ids = append(ids, id)
		}
	}
	return ids
}

func (k *compiler) yesNo(c *ast.Compare, f *fact.Fact) Node {
	n := &yesNoNode{f}
	if c.Op == ast.Bare {
		return n
	}
	switch v := c.Values[0]; v.Text {
	case "yes":
		return n
	case "no":
		return &notNode{n}
	default:
		return k.fail(v, "write \"is yes\" or \"is no\"", "%q is yes or no, not %q", f.Name, v.Text)
	}
}

func (k *compiler) words(c *ast.Compare, f *fact.Fact) Node {
	n := &wordNode{fact: f}
	for _, v := range c.Values {
		if f.Values == nil {
			n.values = append(n.values, v.Text)
			continue
		}
		i := slices.Index(f.Values, v.Text)
		if i < 0 {
			return k.fail(v, nearestOf(v.Text, f.Values), "%q is no value of %q", v.Text, f.Name)
		}
		switch c.Op {
		case ast.AtLeast:
			n.values = f.Values[i:]
		case ast.AtMost:
			n.values = f.Values[:i+1]
		default:
			n.values = append(n.values, v.Text)
		}
	}
	return n
}

func nearestOf(text string, known []string) string {
	if hint := spell.Hint(text, known); hint != "" {
		return hint
	}
	return "known here: " + strings.Join(known, ", ")
}

func (k *compiler) countries(c *ast.Compare, f *fact.Fact) Node {
	n := &countryNode{fact: f, set: map[string]bool{}, names: ast.Names(c.Values)}
	for _, v := range c.Values {
		codes, _ := k.Names.Countries(v)
		for _, code := range codes {
			n.set[code] = true
		}
	}
	return n
}

func (k *compiler) bands(c *ast.Compare, f *fact.Fact) Node {
	n := &bandNode{fact: f}
	var wanted [101]bool
	names := make([]string, len(k.Bands))
	for i, b := range k.Bands {
		names[i] = b.Name
	}
	for _, v := range c.Values {
		i := slices.Index(names, v.Text)
		if i < 0 {
			return k.fail(v, nearestOf(v.Text, names), "the risk model has no band %q", v.Text)
		}
		low, high := k.Bands[i].Low, k.Bands[i].High
		switch c.Op {
		case ast.AtLeast:
			high = 100
		case ast.AtMost:
			low = 0
		}
		for score := low; score <= high; score++ {
			wanted[score] = true
		}
	}
	for score, w := range wanted {
		n.below[score+1] = n.below[score]
		if w {
			n.below[score+1]++
		}
	}
	return n
}

func (k *compiler) within(c *ast.Compare, f *fact.Fact) Node {
	v := c.Values[0]
	d, err := parser.ParseDuration(v.Text)
	if err != nil || v.Quoted || len(c.Values) > 1 {
		help := "write one whole number and m, h, d or w: within 24h"
		if short := parser.ShortDuration(v.Text, ""); short != "" {
			help = "write " + short
		}
		return k.fail(c.Values[len(c.Values)-1], help, "%q asks for one age", "within")
	}
	return &withinNode{f, d.Elapsed()}
}

func (k *compiler) time(c *ast.Compare, f *fact.Fact) Node {
	v := c.Values[0]
	n := &timeNode{fact: f, before: c.Op == ast.Before}
	if a, ok := k.Facts.Lookup(v.Text); ok {
		if a.Type != fact.Date {
			return k.fail(v, "name a date, an instant or an attribute that is a date", "%q is no date but a %s", v.Text, a.Type)
		}
		n.attribute = a
		return n
	}
	if d, err := schedule.ParseDate(v.Text); err == nil {
		if n.bound = d.Start(k.Zone); !n.before {
			n.bound = d.Next().Start(k.Zone)
		}
		return n
	}
	t, err := schedule.ParseInstant(v.Text, k.Zone)
	if err != nil {
		help := "write a date (2026-12-01), an instant (2026-12-01T08:00) or an attribute that is a date"
		if hint := spell.Hint(v.Text, k.Facts.Names()); hint != "" {
			help = hint
		} else if strings.HasPrefix(v.Text, "user.") || strings.HasPrefix(v.Text, "device.") {
			help = fmt.Sprintf("declare it: attribute %s date", v.Text)
		}
		return k.fail(v, help, "%q is neither a date nor an instant", v.Text)
	}
	n.bound, n.strict = t, true
	return n
}

func (k *compiler) number(c *ast.Compare, f *fact.Fact) Node {
	v := c.Values[0]
	x, ok := ParseNumber(v.Text)
	if !ok {
		return k.fail(v, "write a number such as 80 or 0.5", "%q is no number", v.Text)
	}
	return &numberNode{f, c.Op, x}
}

// ParseNumber reads a decimal number.
func ParseNumber(text string) (float64, bool) {
	for i := range len(text) {
		if !strings.ContainsRune("0123456789.-+", rune(text[i])) {
			return 0, false
		}
	}
	x, err := strconv.ParseFloat(text, 64)
	return x, err == nil && !math.IsInf(x, 0)
}

// written are the names as they are written.
func written(list []ast.Name) []string {
	names := make([]string, len(list))
	for i, n := range list {
		names[i] = n.String()
	}
	return names
}
