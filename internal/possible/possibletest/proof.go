package possibletest

// What can be proved, and what a baseline asks.

import (
	"slices"
	"strings"
	"time"

	"briskwarden.example/briskwarden/signon"
)

// sound adds what the one baseline asks, where a demand does and no condition.
func (s *Small) sound(device bool) {
	text := s.all
	if !strings.Contains(text, "baseline sound") || slices.Contains(s.asks, "device meets sound") {
		return
	}
	if !device {
		s.choices = append(s.choices, []statement{nothing, id("d9")})
	}
	s.choices = append(s.choices, flag(func(d *signon.Device) *signon.YesNo { return &d.Encrypted }), flag(func(d *signon.Device) *signon.YesNo { return &d.Jailbroken }))
}

// prove adds what can be proved: for each method that can matter, all that its records can reach.
func (s *Small) prove() {
	methods := s.provable()
	if strings.Count(s.all, "floor") < strings.Count(s.all, "rulebook small") && !slices.Contains(s.fresh, "") {
		s.fresh = append(s.fresh, "")
	}
	for _, m := range methods {
		list := []statement{nothing, func(so *signon.SignOn) { so.Presented = append(so.Presented, m) }}
		s.choices = append(s.choices, append(list, together(s.records(m))...))
	}
}

// provable are the methods that can matter.
func (s *Small) provable() (methods []string) {
	lockedOut := strings.Contains(s.all, "locked out")
	if lockedOut || strings.Contains(s.all, "change-password") {
		methods = append(methods, "change-password")
	}
	switch {
	case lockedOut || strings.Contains(s.all, "aal"): // the floor asks for aal1 unless it says otherwise
		methods = append(methods, "app-code", "passkey", "security-key", "password", "face") // one of each kind that levels tell apart
		if lockedOut {
			methods = append(methods, "certificate")
		}
	default:
		methods = append(methods, s.methods...)
		if !strings.Contains(s.all, "floor") {
			methods = append(methods, "face")
		}
	}
	return methods
}

// records are the statements of evidence of a method that can matter: one for each freshness that something asks for, just
// within it.
func (s *Small) records(method string) (list []statement) {
	record := func(edit func(*signon.SignOn, *signon.Evidence)) statement {
		return func(so *signon.SignOn) {
			e := signon.Evidence{Method: method, Time: so.Time.Add(-99 * 24 * time.Hour)}
			edit(so, &e)
			so.Evidence = append(so.Evidence, e)
		}
	}
	fresh := s.fresh
	if method == "change-password" && !slices.Contains(fresh, "") { // which is asked for as it is
		fresh = append(slices.Clone(fresh), "")
	}
	for _, f := range fresh {
		if within, is := justWithin[f]; is {
			list = append(list, record(within))
		}
	}
	if strings.Contains(s.all, "without") {
		list = append(list, record(func(*signon.SignOn, *signon.Evidence) {}))
	}
	return list
}

// justWithin makes evidence that is just fresh enough, by what is asked for.
var justWithin = map[string]func(*signon.SignOn, *signon.Evidence){
	"":                                func(so *signon.SignOn, e *signon.Evidence) { e.Session = so.Session.ID },
	" every 12h":                      onDevice(12 * time.Hour),
	" every 2h":                       onDevice(2 * time.Hour),
	" every 12h on any device":        func(so *signon.SignOn, e *signon.Evidence) { e.Time = so.Time.Add(-12 * time.Hour) },
	" every session per app":          func(so *signon.SignOn, e *signon.Evidence) { e.Session, e.App = so.Session.ID, so.App },
	" every 2h on any device per app": func(so *signon.SignOn, e *signon.Evidence) { e.Time, e.App = so.Time.Add(-2*time.Hour), so.App },
}

func onDevice(age time.Duration) func(*signon.SignOn, *signon.Evidence) {
	return func(so *signon.SignOn, e *signon.Evidence) {
		if e.Time = so.Time.Add(-age); so.Device != nil {
			e.Device = so.Device.ID
		}
	}
}

// together are all ways to state some of the records, at least one.
func together(records []statement) (list []statement) {
	for set := 1; set < 1<<len(records); set++ {
		list = append(list, func(so *signon.SignOn) {
			for i, r := range records {
				if set>>i&1 == 1 {
					r(so)
				}
			}
		})
	}
	return list
}
