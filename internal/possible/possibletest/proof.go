package possibletest

import (
	"slices"
	"strings"
	"time"

	"briskwarden.example/briskwarden/signon"
)

// What can be proved, and what a baseline asks.

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
	record := func(method string, edit func(*signon.SignOn, *signon.Evidence)) statement {
		return func(so *signon.SignOn) {
			e := signon.Evidence{Method: method, Time: so.Time.Add(-99 * 24 * time.Hour)}
			edit(so, &e)
			so.Evidence = append(so.Evidence, e)
		}
	}
	text := s.all
	methods := []string{"change-password"}
	if !strings.Contains(text, "change-password") && !strings.Contains(text, "locked out") {
		methods = nil
	}
	if strings.Contains(text, "aal") || strings.Contains(text, "locked out") { // the floor asks for aal1 unless it says otherwise
		methods = append(methods, "app-code", "passkey", "security-key", "password", "face") // one of each kind that levels tell apart
		if strings.Contains(text, "locked out") {
			methods = append(methods, "certificate")
		}
	} else {
		methods = append(methods, s.methods...)
		if !strings.Contains(text, "floor") {
			methods = append(methods, "face")
		}
	}
	if strings.Count(text, "floor") < strings.Count(text, "rulebook small") && !slices.Contains(s.fresh, "") {
		s.fresh = append(s.fresh, "")
	}
	for _, m := range methods {
		list := []statement{nothing, func(so *signon.SignOn) { so.Presented = append(so.Presented, m) }}
		var records []statement
		kinds := map[string]func(*signon.SignOn, *signon.Evidence){
			"": func(so *signon.SignOn, e *signon.Evidence) { e.Session = so.Session.ID },
			" every 12h": func(so *signon.SignOn, e *signon.Evidence) {
				if e.Time = so.Time.Add(-12 * time.Hour); so.Device != nil {
					e.Device = so.Device.ID
				}
			},
			" every 2h": func(so *signon.SignOn, e *signon.Evidence) {
				if e.Time = so.Time.Add(-2 * time.Hour); so.Device != nil {
					e.Device = so.Device.ID
				}
			},
			" every 12h on any device":        func(so *signon.SignOn, e *signon.Evidence) { e.Time = so.Time.Add(-12 * time.Hour) },
			" every session per app":          func(so *signon.SignOn, e *signon.Evidence) { e.Session, e.App = so.Session.ID, so.App },
			" every 2h on any device per app": func(so *signon.SignOn, e *signon.Evidence) { e.Time, e.App = so.Time.Add(-2*time.Hour), so.App },
		}
		fresh := s.fresh
		if m == "change-password" && !slices.Contains(fresh, "") { // which is asked for as it is
			fresh = append(slices.Clone(fresh), "")
		}
		for _, f := range fresh {
			if kind, is := kinds[f]; is {
				records = append(records, record(m, kind))
			}
		}
		if strings.Contains(text, "without") {
			records = append(records, record(m, func(*signon.SignOn, *signon.Evidence) {}))
		}
		for set := 1; set < 1<<len(records); set++ {
			list = append(list, func(so *signon.SignOn) {
				for i, r := range records {
					if set>>i&1 == 1 {
						r(so)
					}
				}
			})
		}
		s.choices = append(s.choices, list)
	}
}
