package rulebook

// Facts as if they were so.

import (
	"fmt"
	"math"
	"slices"
	"strings"

	"briskwarden.example/briskwarden/internal/fact"
	"briskwarden.example/briskwarden/internal/known"
	"briskwarden.example/briskwarden/internal/schedule"
	"briskwarden.example/briskwarden/internal/spell"
)

// supposable are the built-in facts that a sign-on may suppose.
var supposable = []fact.Slot{fact.NewCountry, fact.NewDevice, fact.OddHour, fact.TravelSpeed, fact.UserRisk, fact.UserJoined, fact.UserCompromised}

// Supposable is the fact of a name, if a sign-on may suppose it: one of the few built-in ones, or a declared attribute.
func (rb *Rulebook) Supposable(name string) (*fact.Fact, error) {
	f, ok := rb.Facts.Lookup(name)
	if ok && (rb.Facts.Attribute(f.Slot) != nil || slices.Contains(supposable, f.Slot)) {
		return f, nil
	}
	var names []string
	for _, s := range supposable {
		names = append(names, rb.Facts.Fact(s).Name)
	}
	for _, a := range rb.Facts.Attributes() {
		names = append(names, a.Name)
	}
	what := fmt.Sprintf("there is no fact %q", name)
	if ok {
		what = fmt.Sprintf("%q cannot be supposed", name)
	}
	help := spell.Hint(name, names)
	if help == "" {
		help = "what can be: " + strings.Join(names, ", ")
	}
	return nil, fmt.Errorf("%s; %s", what, help)
}

// SupposedValue reads the value that is supposed of a fact, as a program or request states it; nil is
// unknown, and so is "unknown" where no word is meant.
func (rb *Rulebook) SupposedValue(f *fact.Fact, stated any) (v fact.Value, err error) {
	word, isWord := stated.(string)
	if stated == nil || word == "unknown" && f.Type != fact.Word {
		return fact.Value{}, nil
	}
	switch f.Type {
	case fact.YesNo:
		switch yes, is := stated.(bool); {
		case is:
			return fact.Value{Known: true, YesNo: known.Of(yes)}, nil
		case isWord && (word == "yes" || word == "no"):
			return fact.Value{Known: true, YesNo: known.Of(word == "yes")}, nil
		}
		return v, fmt.Errorf("expected true or false, found %s", found(stated))
	case fact.Level:
		if i := slices.Index(f.Values, word); isWord && i >= 0 {
			return fact.Value{Known: true, Word: f.Values[i]}, nil
		}
		return v, fmt.Errorf("expected one of %s", strings.Join(f.Values, ", "))
	case fact.Number:
		x, is := stated.(float64)
		if !is || math.IsNaN(x) || math.IsInf(x, 0) {
			return v, fmt.Errorf("expected a number, found %s", found(stated))
		}
		if f.Slot == fact.TravelSpeed && x < 0 {
			return v, fmt.Errorf("%v is no speed: it is 0 or more", x)
		}
		return fact.Value{Known: true, Number: x}, nil
	case fact.Instant:
		if !isWord {
			return v, fmt.Errorf("expected a date or an instant as a string, found %s", found(stated))
		}
		at, _, err := schedule.ParseDayOrInstant(word, rb.Zone)
		return fact.Value{Known: true, Day: &fact.Day{Start: at}}, err
	}
	return StatedValue(rb.Facts.Attribute(f.Slot), stated, rb.Zone)
}
