package briskwarden_test

import (
	"net/netip"
	"slices"
	"strings"
	"time"

	"briskwarden.example/briskwarden/signon"
)

// The yardstick is what a programmer would write by hand for the same policies: the demo
// rulebook's, as far as they bear on signing on to the roster, the payroll and the tills.

type handUser struct {
	kind    string
	groups  []string
	methods []string
	leaked  bool
}

var handUsers = map[string]*handUser{
	"mira.holt":    {"employee", []string{"deck-crew", "crews", "pilot"}, []string{"password", "passkey"}, false},
	"odd.kvale":    {"employee", []string{"deck-crew", "crews"}, []string{"password", "app-code"}, false},
	"ylva.fjell":   {"employee", []string{"finance", "shore-staff", "payment-leads"}, []string{"password", "passkey"}, false},
	"hedda.roth":   {"employee", []string{"ticket-desk", "shore-staff"}, []string{"password", "app-code"}, false},
	"elias.kvale":  {"employee", []string{"sundhamn-office", "harbour-offices", "shore-staff"}, []string{"password", "app-code"}, true},
	"envelope.red": {"employee", []string{"emergency"}, []string{"security-key"}, false},
}

var (
	handPorts     = []netip.Prefix{pfx("192.0.2.0/26"), pfx("2001:db8:40::/48"), pfx("192.0.2.64/26"), pfx("2001:db8:41::/48"), pfx("192.0.2.128/26")}
	handTerminals = []netip.Prefix{pfx("198.51.100.0/26"), pfx("198.51.100.200/29"), pfx("198.51.100.208/29")}
	handFerries   = []netip.Prefix{pfx("198.51.100.64/27")}
	handRelays    = []netip.Prefix{pfx("203.0.113.192/27"), pfx("203.0.113.77/32")}
	handOslo, _   = time.LoadLocation("Europe/Oslo")
)

func pfx(s string) netip.Prefix { return netip.MustParsePrefix(s) }

func handIn(a netip.Addr, list []netip.Prefix) bool {
	return slices.ContainsFunc(list, func(p netip.Prefix) bool { return p.Contains(a) })
}

// handProves reports whether one of the methods was given now, or in this session.
func handProves(s *signon.SignOn, session bool, methods ...string) bool {
	for _, m := range methods {
		if slices.Contains(s.Presented, m) {
			return true
		}
		for _, e := range s.Evidence {
			if session && e.Method == m && e.Session == s.Session.ID && e.Session != "" && !e.Time.After(s.Time) {
				return true
			}
		}
	}
	return false
}

func handRecent(s *signon.SignOn, age time.Duration, methods ...string) bool {
	if handProves(s, false, methods...) {
		return true
	}
	for _, e := range s.Evidence {
		if slices.Contains(methods, e.Method) && e.Device != "" && s.Device != nil && e.Device == s.Device.ID && s.Time.Sub(e.Time) <= age && !e.Time.After(s.Time) {
			return true
		}
	}
	return false
}

func (u *handUser) can(methods ...string) bool {
	return slices.ContainsFunc(methods, func(m string) bool { return slices.Contains(u.methods, m) })
}

// handStep is a step-up: met, or to be met with a method that the user has, else a block.
func handStep(met, can bool) signon.Outcome {
	switch {
	case met:
		return signon.Grant
	case can:
		return signon.StepUp
	}
	return signon.Block
}

var handFactors = []string{"passkey", "security-key", "app-code", "shore-push"}

// handDecide decides on sign-ons that say their address, country and device.
func handDecide(s *signon.SignOn) signon.Outcome {
	u := handUsers[s.User]
	if u == nil {
		return signon.Block
	}
	if strings.HasPrefix(s.User, "envelope.") {
		return handStep(handProves(s, false, "security-key"), u.can("security-key"))
	}
	if s.Client == signon.Legacy || handIn(s.IP, handRelays) {
		return signon.Block
	}
	anything := []string{"password", "app-code", "passkey", "security-key", "shore-push"}
	outcome := handStep(handProves(s, true, anything...), u.can(anything...))
	if u.leaked {
		outcome = min(outcome, handStep(handProves(s, false, handFactors...) && handProves(s, false, "change-password"), u.can(handFactors...)))
	}
	switch s.App {
	case "crew-roster":
		if slices.Contains(u.groups, "crews") {
			outcome = min(outcome, handRoster(s, u))
		}
	case "payroll":
		if !slices.Contains(u.groups, "finance") && !slices.Contains(u.groups, "harbour-it") {
			break
		}
		outcome = min(outcome, handPayroll(s, u))
	case "ticketing":
		if slices.Contains(u.groups, "ticket-desk") {
			outcome = min(outcome, handTills(s, u))
		}
	}
	return outcome
}

func handRoster(s *signon.SignOn, u *handUser) signon.Outcome {
	d := s.Device
	switch {
	case handIn(s.IP, handTerminals) && d.Managed == signon.Yes:
		return signon.Grant
	case handIn(s.IP, handFerries):
		return handStep(handProves(s, true, "password"), u.can("password"))
	case s.Country != "NO" && s.Country != "SE" && s.Country != "DK":
		return handStep(handProves(s, false, "passkey"), u.can("passkey"))
	case (d.Form == "mobile" || d.Form == "tablet") && d.Managed != signon.Yes:
		meets := (d.OS == "ios" && d.Version >= "17.2" || d.OS == "android" && d.Version >= "14") && d.Encrypted == signon.Yes &&
			d.ScreenLock == signon.Yes && d.Jailbroken == signon.No
		if !meets {
			return signon.Block
		}
		return handStep(handRecent(s, 12*time.Hour, "passkey", "app-code"), u.can("passkey", "app-code"))
	}
	return handStep(handProves(s, true, "password") && handProves(s, false, handFactors...), u.can("password") && u.can(handFactors...))
}

func handPayroll(s *signon.SignOn, u *handUser) signon.Outcome {
	d := s.Device
	if d.Form == "mobile" || d.Form == "tablet" {
		return signon.Block // no phone of the sample is in order
	}
	if c := s.Country; c != "NO" && c != "SE" && c != "DK" && c != "DE" && c != "FI" {
		return signon.Block
	}
	age := s.Time.Sub(d.Reported)
	if d.Managed != signon.Yes || d.Encrypted != signon.Yes || age < 0 || age > 24*time.Hour {
		return signon.Block
	}
	return handStep(handRecent(s, 12*time.Hour, "password") && handRecent(s, 12*time.Hour, handFactors...), u.can("password") && u.can(handFactors...))
}

func handTills(s *signon.SignOn, u *handUser) signon.Outcome {
	local := s.Time.In(handOslo)
	day, hour := local.Weekday(), local.Hour()
	y, m, dd := local.Date()
	holiday := y == 2026 && m == time.December && (dd >= 24 && dd <= 26 || dd == 31) || y == 2027 && m == time.January && dd == 1
	if day == time.Saturday || day == time.Sunday || hour < 7 || hour >= 18 || holiday {
		return signon.Block
	}
	if handIn(s.IP, handPorts) && s.Device.Managed == signon.Yes {
		return handStep(handProves(s, true, "password"), u.can("password"))
	}
	return handStep(handProves(s, true, "password") && handProves(s, false, handFactors...), u.can("password") && u.can(handFactors...))
}
