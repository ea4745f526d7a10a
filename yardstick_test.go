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
	risk    string
	groups  []string
	methods []string
	leaked  bool
}

var handUsers = map[string]*handUser{
	"mira.holt":    {"none", []string{"deck-crew", "crews", "pilot"}, []string{"password", "passkey"}, false},
	"odd.kvale":    {"none", []string{"deck-crew", "crews"}, []string{"password", "app-code"}, false},
	"ylva.fjell":   {"none", []string{"finance", "shore-staff", "payment-leads"}, []string{"password", "passkey"}, false},
	"hedda.roth":   {"none", []string{"ticket-desk", "shore-staff"}, []string{"password", "app-code"}, false},
	"elias.kvale":  {"none", []string{"sundhamn-office", "harbour-offices", "shore-staff"}, []string{"password", "app-code"}, true},
	"envelope.red": {"none", []string{"emergency"}, []string{"security-key"}, false},
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

// handVerdict is what is decided by hand: the same as a lean decision has of it.
type handVerdict struct {
	signon.Decision
	must  []string // methods that are all asked for
	oneOf []string // methods of which one is asked for besides
}

func (v *handVerdict) block(policy, text string) {
	if text != "" {
		v.Demands = append(v.Demands, signon.Demand{Policy: policy, Demand: text})
	}
	v.Outcome = signon.Block
}

// demand notes what a policy asks for, and what of it is still to be given: every method of
// must, and one of oneOf; what the user does not have cannot be given.
func (v *handVerdict) demand(u *handUser, policy, text string, must, oneOf []string) {
	met := len(must) == 0 && len(oneOf) == 0
	v.Demands = append(v.Demands, signon.Demand{Policy: policy, Demand: text, Met: met})
	if met {
		return
	}
	able := len(oneOf) == 0 || u.can(oneOf...)
	for _, m := range must {
		able = able && u.can(m)
	}
	if !able {
		v.Outcome = signon.Block
		return
	}
	v.Outcome = min(v.Outcome, signon.StepUp)
	for _, m := range must {
		if !slices.Contains(v.must, m) {
			v.must = append(v.must, m)
		}
	}
	if len(oneOf) > 0 && (v.oneOf == nil || len(oneOf) < len(v.oneOf)) {
		v.oneOf = oneOf
	}
}

// write lists the sets of methods that would do.
func (v *handVerdict) write(u *handUser) {
	if v.Outcome != signon.StepUp {
		return
	}
	v.Next = append(v.Next[:0], signon.Step{Do: signon.Verify, AnyOf: v.anyOf()})
	sets := v.Next[0].AnyOf
	done := len(v.oneOf) == 0 || slices.ContainsFunc(v.must, func(m string) bool { return slices.Contains(v.oneOf, m) })
	if done {
		v.Next[0].AnyOf = append(sets, v.must)
		return
	}
	for _, m := range v.oneOf {
		if u.can(m) {
			sets = appendSet(sets, v.must, m)
		}
	}
	v.Next[0].AnyOf = sets
}

// anyOf is the space of the sets of the last verdict.
func (v *handVerdict) anyOf() [][]string {
	if cap(v.Next) == 0 {
		return nil
	}
	return v.Next[:1][0].AnyOf[:0]
}

func appendSet(sets [][]string, must []string, m string) [][]string {
	if len(sets) < cap(sets) {
		sets = sets[:len(sets)+1]
	} else {
		sets = append(sets, nil)
	}
	last := &sets[len(sets)-1]
	*last = append(append((*last)[:0], must...), m)
	return sets
}

var (
	handFactors  = []string{"passkey", "security-key", "app-code", "shore-push"}
	handAnything = []string{"password", "app-code", "passkey", "security-key", "shore-push"}
	handKey      = []string{"security-key"}
	handPasskey  = []string{"passkey"}
	handPassword = []string{"password"}
	handOwnPhone = []string{"passkey", "app-code"}
)

// lacking is what is still to be given.
func lacking(met bool, methods []string) []string {
	if met {
		return nil
	}
	return methods
}

// handDecide decides on sign-ons that say their address, country and device.
func handDecide(s *signon.SignOn, v *handVerdict) {
	v.Outcome, v.Demands, v.Next, v.must, v.oneOf = signon.Grant, v.Demands[:0], v.Next[:0], v.must[:0], nil
	u := handUsers[s.User]
	if u == nil {
		v.Outcome = signon.Block
		return
	}
	if strings.HasPrefix(s.User, "envelope.") {
		v.demand(u, "break-glass", "security-key every time", nil, lacking(handProves(s, false, "security-key"), handKey))
		v.write(u)
		return
	}
	if s.Client == signon.Legacy || handIn(s.IP, handRelays) {
		v.block("", "")
		return
	}
	if slices.Contains(u.groups, "pilot") && !u.can("passkey") {
		v.Outcome = signon.Block // nobody of the sample is
		return
	}
	if score := handScore(s, u); s.App != "noticeboard" && score >= 70 {
		v.block("", "")
		return
	} else if s.App != "noticeboard" && score >= 30 {
		v.demand(u, "risky-sign-ons", "second-factor every time", nil, lacking(handProves(s, false, handFactors...), handFactors))
	}
	v.demand(u, "base", "aal1", nil, lacking(handProves(s, true, handAnything...), handAnything))
	if u.leaked {
		v.demand(u, "leaked-password", "second-factor every time and change-password", nil, lacking(handProves(s, false, handFactors...), handFactors))
	}
	switch s.App {
	case "crew-roster":
		if slices.Contains(u.groups, "crews") {
			handRoster(s, u, v)
		}
	case "payroll":
		if slices.Contains(u.groups, "finance") || slices.Contains(u.groups, "harbour-it") {
			handPayroll(s, u, v)
		}
	case "ticketing":
		if slices.Contains(u.groups, "ticket-desk") {
			handTills(s, u, v)
		}
	}
	if v.Outcome != signon.Block {
		v.demand(u, "floor", "aal1 every session", nil, lacking(handProves(s, true, handAnything...), handAnything))
		v.write(u)
	}
}

// handScore is the risk of a sign-on.
func handScore(s *signon.SignOn, u *handUser) (score int) {
	if handIn(s.IP, handRelays) {
		score += 100
	}
	if s.Risk != nil && *s.Risk >= 70 {
		score += 40
	}
	if u.risk == "medium" || u.risk == "high" {
		score += 30
	}
	if s.Client == signon.Legacy {
		score += 20
	}
	return min(score, 100)
}

func handRoster(s *signon.SignOn, u *handUser, v *handVerdict) {
	const own = "device meets crew-phone and (passkey or app-code) every 12h"
	d := s.Device
	switch {
	case handIn(s.IP, handTerminals) && d.Managed == signon.Yes:
	case handIn(s.IP, handFerries):
		v.demand(u, "roster-away", "password every session", lacking(handProves(s, true, "password"), handPassword), nil)
	case s.Country != "NO" && s.Country != "SE" && s.Country != "DK":
		v.demand(u, "roster-away", "passkey every time", lacking(handProves(s, false, "passkey"), handPasskey), nil)
	case (d.Form == "mobile" || d.Form == "tablet") && d.Managed != signon.Yes:
		meets := (d.OS == "ios" && d.Version >= "17.2" || d.OS == "android" && d.Version >= "14") && d.Encrypted == signon.Yes &&
			d.ScreenLock == signon.Yes && d.Jailbroken == signon.No
		if !meets {
			v.block("roster-away", own)
			return
		}
		v.demand(u, "roster-away", own, nil, lacking(handRecent(s, 12*time.Hour, "passkey", "app-code"), handOwnPhone))
	default:
		v.demand(u, "roster-away", "password every session and second-factor every time", lacking(handProves(s, true, "password"), handPassword),
			lacking(handProves(s, false, handFactors...), handFactors))
	}
}

func handPayroll(s *signon.SignOn, u *handUser, v *handVerdict) {
	const desk = "device meets office-machine and password and second-factor every 12h"
	d := s.Device
	if d.Form == "mobile" || d.Form == "tablet" {
		v.block("money", "device meets crew-phone and second-factor every time") // no phone of the sample is in order
		return
	}
	if c := s.Country; c != "NO" && c != "SE" && c != "DK" && c != "DE" && c != "FI" {
		v.block("", "")
		return
	}
	age := s.Time.Sub(d.Reported)
	if d.Managed != signon.Yes || d.Encrypted != signon.Yes || age < 0 || age > 24*time.Hour {
		v.block("money", desk)
		return
	}
	v.demand(u, "money", desk, lacking(handProves(s, true, "password"), handPassword), lacking(handRecent(s, 12*time.Hour, handFactors...), handFactors))
}

func handTills(s *signon.SignOn, u *handUser, v *handVerdict) {
	local := s.Time.In(handOslo)
	day, hour := local.Weekday(), local.Hour()
	y, m, dd := local.Date()
	holiday := y == 2026 && m == time.December && (dd >= 24 && dd <= 26 || dd == 31) || y == 2027 && m == time.January && dd == 1
	switch {
	case day == time.Saturday || day == time.Sunday || hour < 7 || hour >= 18 || holiday:
		v.block("", "")
	case handIn(s.IP, handPorts) && s.Device.Managed == signon.Yes:
		v.demand(u, "ticket-desks", "password", lacking(handProves(s, true, "password"), handPassword), nil)
	default:
		v.demand(u, "ticket-desks", "password and second-factor every time", lacking(handProves(s, true, "password"), handPassword),
			lacking(handProves(s, false, handFactors...), handFactors))
	}
}
