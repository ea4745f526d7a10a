package explain

// The layout of an explanation.

import (
	"cmp"
	"fmt"
	"iter"
	"maps"
	"slices"
	"strings"

	"briskwarden.example/briskwarden"
	"briskwarden.example/briskwarden/internal/bridge"
	"briskwarden.example/briskwarden/internal/rulebook"
	"briskwarden.example/briskwarden/internal/screen"
	"briskwarden.example/briskwarden/internal/spell"
	"briskwarden.example/briskwarden/signon"
)

// Options say how a decision is laid out.
type Options struct {
	Width  int  // in the cells of a terminal; 0 is 100
	Colour bool // with the escape sequences of ECMA-48
	Brief  bool // leave out what did not decide
}

// Text explains a decision of [briskwarden.Rulebook.Explain] on a sign-on. Whatever anybody named
// stands there in characters that can be seen. Of a lean decision there is less to tell.
func Text(rules *briskwarden.Rulebook, s signon.SignOn, d signon.Decision, o Options) string {
	return Head(s, d.Outcome, o) + Reasons(rules, s, d, o)
}

// Head is the first line of [Text]: the outcome, and who signs on to what.
func Head(s signon.SignOn, outcome signon.Outcome, o Options) string {
	paint := screen.Painter(o.Colour)
	return string(screen.Styledf("%s%s\n", paint.Outcome(outcome, screen.Pad(strings.ToUpper(outcome.String()), labelWidth)),
		paint.Bold(fmt.Sprintf("%s, %s to %s", orNone(s.User), cmp.Or(s.Action, rulebook.SignOn), orNone(s.App)))))
}

// Row is a line of [Text] with its label, broken to the width.
func Row(label, text string, o Options) string {
	return string(screen.Styledf("%s%s\n", screen.Painter(o.Colour).Faint(screen.Pad(label, labelWidth)),
		screen.WrappedTo(text, labelWidth, labelWidth, cmp.Or(o.Width, screen.Width))))
}

// Reasons are what follows the first line of [Text].
func Reasons(rules *briskwarden.Rulebook, s signon.SignOn, d signon.Decision, o Options) string {
	if d.Explanation == nil {
		d.Explanation = &signon.Explanation{}
	}
	o.Width = cmp.Or(o.Width, screen.Width)
	v := &verdict{rb: bridge.Engine(rules).Rulebook(), so: &s, d: &d, o: o, paint: screen.Painter(o.Colour)}
	v.why()
	if !o.Brief {
		v.rest()
		v.stoodBy()
	}
	return v.text.String()
}

// verdict is a decision that is laid out.
type verdict struct {
	text  strings.Builder
	o     Options
	paint screen.Painter
	rb    *rulebook.Rulebook
	so    *signon.SignOn
	d     *signon.Decision
}

// labelWidth is the width of the labels at the left.
const labelWidth = 10

func (v *verdict) printf(format string, args ...any) {
	v.text.WriteString(string(screen.Styledf(format, args...)))
}

func (v *verdict) wrapped(text string, indent int) screen.Styled {
	return screen.WrappedTo(text, indent, indent, v.o.Width)
}

func (v *verdict) row(label, format string, args ...any) {
	v.text.WriteString(Row(label, fmt.Sprintf(format, args...), v.o))
}

// why tells what is asked, what decided, and what stood by.
func (v *verdict) why() {
	if v.d.Message != "" {
		v.row("Told", "“%s”%s", v.d.Message, map[bool]string{true: " (built in)"}[v.d.Explanation.BuiltIn])
	}
	v.asked()
	v.scopes()
	v.decided()
}

func orNone(name string) string {
	if name == "" {
		return "(none)"
	}
	return name
}

// asked tells what the person can do next.
func (v *verdict) asked() {
	for i, s := range v.d.Next {
		label := map[bool]string{true: "Asked", false: "and"}[i == 0]
		switch s.Do {
		case signon.Verify:
			v.row(label, "present %s%s", sets(s.AnyOf), v.challenge())
		case signon.Enrol:
			v.row(label, "enrol in %s", sets(s.AnyOf))
		case signon.ChangePassword:
			v.row(label, "change the password")
		case signon.Remedy:
			v.row("Mend", "the device, to meet %s: %s", s.Baseline, strings.Join(s.Checks, ", "))
		case signon.EnrolElsewhere:
			v.row("Mend", "enrol in %s, elsewhere: nobody enrols in this sign-on", sets(s.AnyOf))
		case signon.WaitForReview:
			v.row("Waits", "for a review by group %s", s.Group)
		}
	}
}

// scopes tells by which sets the scopes are known that a client application asks for.
func (v *verdict) scopes() {
	if v.so.Consent == nil {
		return
	}
	label := "Scopes"
	for _, c := range v.rb.Classify(v.so.Consent.Scopes) {
		const most = 8
		v.row(label, "%s, of %s", spell.Few(c.Scopes, most), briskwarden.ScopeSet{Name: c.Name, Weight: c.Weight})
		label = ""
	}
}

// sets tells alternatives: "passkey, or password and app-code".
func sets(list [][]string) string {
	alternatives := make([]string, len(list))
	for i, set := range list {
		alternatives[i] = strings.Join(set, " and ")
	}
	return strings.Join(alternatives, ", or ")
}

// challenge tells what a resource server would ask for.
func (v *verdict) challenge() string {
	var parts []string
	if v.d.ACR != "" {
		parts = append(parts, v.d.ACR)
	}
	switch age := v.d.MaxAge; {
	case age == 0:
		parts = append(parts, "with this very sign-on")
	case age != signon.NoMaxAge:
		parts = append(parts, "at most "+span(age)+" old")
	}
	if len(parts) == 0 {
		return ""
	}
	return " (" + strings.Join(parts, ", ") + ")"
}

// span tells a number of seconds in the largest unit that divides it.
func span(seconds int64) string {
	for _, unit := range []struct {
		size int64
		name string
	}{{7 * 86400, "w"}, {86400, "d"}, {3600, "h"}} {
		if seconds%unit.size == 0 {
			return fmt.Sprintf("%d%s", seconds/unit.size, unit.name)
		}
	}
	return fmt.Sprintf("%dm", seconds/60)
}

// decided tells which policy and case gave the outcome, and where they stand.
func (v *verdict) decided() {
	x := v.d.Explanation
	label := "Decided"
	for _, e := range particularFirst(x.Deciding) {
		v.entry(label, e)
		label = "and"
	}
	switch ground := x.Ground; {
	case ground.Identity():
		v.row(label, "before any policy was asked%s", v.nearest())
	case ground == signon.GroundBreakGlass:
		v.row(label, "break-glass asks for %s", v.d.Demands[0].Demand)
	case ground == signon.GroundUnmatched:
		v.row(label, "no policy surely spoke: the rulebook's unmatched is %s", v.d.Outcome)
	case ground == signon.GroundFloor:
		if len(x.Deciding) > 0 {
			return // what the floor asks for is asked for anyway
		}
		for _, d := range v.d.Demands {
			if d.Policy == "floor" {
				v.row(label, "the floor asks for %s", d.Demand)
			}
		}
	}
}

// particularFirst puts cases with a condition before those that are otherwise.
func particularFirst(list []signon.Entry) []signon.Entry {
	rank := map[bool]int{true: 1}
	return slices.SortedStableFunc(slices.Values(list), func(a, b signon.Entry) int {
		return rank[a.Case == "otherwise"] - rank[b.Case == "otherwise"]
	})
}

// nearest suggests a known name for one that is not.
func (v *verdict) nearest() string {
	if _, ok := v.rb.People[v.so.User]; !ok {
		return hint(v.so.User, maps.Keys(v.rb.People))
	} else if _, ok := v.rb.Apps[v.so.App]; !ok {
		return hint(v.so.App, maps.Keys(v.rb.Apps))
	} else if !v.rb.Actions[v.so.Action] {
		return hint(v.so.Action, maps.Keys(v.rb.Actions))
	}
	return ""
}

// hint suggests the nearest known name at the end of a sentence.
func hint(name string, known iter.Seq[string]) string {
	if text := spell.Hint(name, slices.Collect(known)); text != "" {
		return "; " + text
	}
	return ""
}

func (v *verdict) entry(label string, e signon.Entry) {
	sure := ""
	if !e.Sure {
		sure = ", which cannot be ruled out"
	}
	v.row(label, "%s %q%s, at %s", e.Policy, e.Case, sure, e.At)
	if d, ok := v.demandOf(e); ok {
		v.row("", "asks %s%s", d.Demand, v.whether(d.Met))
	}
	v.row("", "because %s", e.Why)
}

// whether tells what became of a demand.
func (v *verdict) whether(met bool) string {
	switch {
	case met:
		return " (met)"
	case v.d.Outcome == signon.Block:
		return " (cannot be met here)"
	}
	return ""
}

// demandOf finds what a case asked for, and whether it was met.
func (v *verdict) demandOf(e signon.Entry) (signon.Demand, bool) {
	for _, p := range v.rb.Policies {
		for _, c := range p.Cases {
			if p.Name != e.Policy || c.Label != e.Case || c.Demand == nil {
				continue
			}
			i := slices.IndexFunc(v.d.Demands, func(d signon.Demand) bool { return d.Policy == e.Policy && d.Demand == c.Demand.Text })
			if i >= 0 {
				return v.d.Demands[i], true
			}
		}
	}
	return signon.Demand{}, false
}
