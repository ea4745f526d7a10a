package engine

// Facts that a sign-on supposes, in place of what history and directory say.

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"briskwarden.example/briskwarden/internal/fact"
	"briskwarden.example/briskwarden/internal/rulebook"
	"briskwarden.example/briskwarden/internal/schedule"
	"briskwarden.example/briskwarden/signon"
)

// suppose binds what the sign-on supposes.
func (f *frame) suppose() error {
	if len(f.so.Suppose) == 0 {
		return nil
	}
	f.supposed = map[fact.Slot]*fact.Value{}
	for _, name := range slices.Sorted(maps.Keys(f.so.Suppose)) {
		field := func(err error) error { return &signon.FieldError{Field: "context.suppose." + name, Msg: err.Error()} }
		of, err := f.rb.Supposable(name)
		if err != nil {
			return field(err)
		}
		v, err := f.rb.SupposedValue(of, f.so.Suppose[name])
		if err != nil {
			return field(err)
		}
		if f.nobodyTells(of.Slot) {
			v = fact.Value{}
		}
		f.supposed[of.Slot] = &v
	}
	return nil
}

// nobodyTells reports a fact that stays unknown, whatever is supposed: of the past without a history,
// and whether an account is compromised without a source of signals that tells it.
func (f *frame) nobodyTells(s fact.Slot) bool {
	switch s {
	case fact.NewCountry, fact.NewDevice, fact.OddHour, fact.TravelSpeed:
		return f.pastSource() == nil && !f.e.HasHistory()
	}
	return s == fact.UserCompromised && !f.rb.Accepts(rulebook.CredentialCompromise)
}

// supposeJoined has what counts from the day on which the user joined count from what is supposed.
func (f *frame) supposeJoined() {
	if v, is := f.supposed[fact.UserJoined]; is {
		f.proof.Joined = fact.Value{}.At()
		if v.Known {
			f.proof.Joined = schedule.DateOf(v.At(), f.rb.Zone).Start(f.rb.Zone)
		}
	}
}

// supposedText lists what is supposed.
func (f explainer) supposedText() string {
	var list []string
	for _, s := range slices.Sorted(maps.Keys(f.supposed)) {
		name, value := f.rb.Facts.Fact(s).Name, "unknown"
		if f.Known(s) {
			value = f.Show(s)
		}
		list = append(list, fmt.Sprintf("%s %s", name, value))
	}
	return strings.Join(list, ", ")
}
