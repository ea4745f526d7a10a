package briskwarden_test

import (
	"fmt"
	"math/rand/v2"
	"net/netip"
	"strings"
	"time"
)

// The oracle decides on random sign-ons by random rulebooks straight from the reference of
// the language, as plainly as possible and with nothing of the engine's. A model is a
// rulebook as the oracle sees it; the engine gets the same thing as text.

// truth is -1 false, 0 unknown, 1 true.
type truth int

type oracleCond struct {
	text string
	eval func(*oracleCase) truth
}

type oracleDemand struct {
	op       string // and, or, method, level, change, device, enrol, named
	parts    []*oracleDemand
	name     string
	level    int
	fresh    *oracleFresh // its own, if any; of an and/or: that of its parentheses
	grace    time.Duration
	hasGrace bool
}

type oracleFresh struct {
	kind string // time, session or age
	age  time.Duration
	any  bool // on any device
	per  bool // per app
}

type oracleStage struct {
	stage string
	group string // "" is all
	from  time.Time
}

type oracleOutcome struct {
	word   string
	demand *oracleDemand
	text   string
}

type oraclePolicy struct {
	name    string
	who     []string // selectors as written
	except  []string
	to      []string
	doing   string
	stages  []oracleStage
	conds   []oracleCond
	cases   []oracleOutcome // one more than conds: the otherwise
	lasts   time.Duration
	limited bool
}

type oracleWaiver struct {
	name   string
	who    string
	to     string
	when   *oracleCond
	lifts  []string
	until  time.Time // first instant at which it is over
	source string
}

type oracleUser struct {
	id      string
	typ     string
	groups  []string // direct
	methods []string
	joined  time.Time
	risk    string
	off     bool
	glass   bool
}

type oracleModel struct {
	users    []*oracleUser
	apps     map[string][]string // tags
	named    map[string]*oracleDemand
	checks   []oracleCond // of the one baseline
	factors  []oracleCond
	adds     []int
	policies []*oraclePolicy // in name order
	waivers  []*oracleWaiver
	floor    *oracleDemand
	glass    *oracleDemand
	matched  bool // unmatched grant
	calm     bool // nothing by which a missing fact could loosen
	r        *rand.Rand
}

// oracleCase is one sign-on as the oracle sees it.
type oracleCase struct {
	m         *oracleModel
	user      *oracleUser
	userID    string
	app       string
	action    string
	now       time.Time
	ip        string
	country   string
	client    string
	hasDevice bool
	device    map[string]string // id, os, version, form, managed, encrypted, reported
	session   string
	started   time.Time
	presented map[string]bool
	evidence  []oracleEvidence
	risk      *float64
	enrolling int // 0 not asked, 1 being asked, 2 may, 3 may not
}

type oracleEvidence struct {
	method, session, device, app string
	time                         time.Time
}

var (
	oracleGroups  = []string{"deck", "bridge", "crews", "office"} // deck and bridge are in crews
	oracleMethods = []string{"password", "pin", "app-code", "security-key", "passkey", "face"}
	oracleKinds   = map[string]string{"password": "k", "pin": "k", "app-code": "p", "security-key": "p", "passkey": "p", "face": "i"}
	oracleEpoch   = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)
	oracleApps    = []string{"roster", "payroll", "news"}
)

func pick[T any](r *rand.Rand, list []T) T { return list[r.IntN(len(list))] }

func (m *oracleModel) chance(percent int) bool { return m.r.IntN(100) < percent }

func newOracleModel(seed uint64, calm bool) *oracleModel {
	m := &oracleModel{r: rand.New(rand.NewPCG(seed, 17)), calm: calm, named: map[string]*oracleDemand{},
		apps: map[string][]string{"roster": {"crew"}, "payroll": {"money", "crew"}, "news": nil}}
	for i, id := range []string{"ada", "ben@x.example", "cleo", "dov", "root"} {
		u := &oracleUser{id: id, typ: pick(m.r, []string{"employee", "guest", "service"}), risk: pick(m.r, []string{"none", "low", "medium", "high"}),
			off: m.chance(4), glass: i == 4}
		for _, g := range oracleGroups[:4] {
			if m.chance(35) {
				u.groups = append(u.groups, g)
			}
		}
		for _, x := range oracleMethods {
			if m.chance(45) {
				u.methods = append(u.methods, x)
			}
		}
		if m.chance(50) {
			u.joined = time.Date(2026, 11, 1+m.r.IntN(28), 0, 0, 0, 0, time.UTC)
		}
		u.off = u.off && !u.glass
		m.users = append(m.users, u)
	}
	for i := range 2 {
		m.named[fmt.Sprintf("named%d", i)] = m.demand(1, true)
	}
	m.checks = []oracleCond{m.cond(1, "check"), m.cond(1, "check")}
	for range m.r.IntN(3) {
		m.factors = append(m.factors, m.cond(1, "factor"))
		m.adds = append(m.adds, 1+m.r.IntN(60))
	}
	for i := range 1 + m.r.IntN(6) {
		m.policies = append(m.policies, m.policy(fmt.Sprintf("p%d", i)))
	}
	for i := range m.r.IntN(3) {
		m.waivers = append(m.waivers, m.waiver(fmt.Sprintf("w%d", i)))
	}
	m.matched = m.chance(40)
	if m.chance(70) {
		m.floor = m.demand(1, false)
	}
	m.glass = m.demand(1, false)
	return m
}

func (m *oracleModel) who() string {
	return pick(m.r, []string{"everyone", "people", "group deck", "group crews", "group office", "user ada", "user cleo", "type guest", "domain x.example"})
}

func (m *oracleModel) policy(name string) *oraclePolicy {
	p := &oraclePolicy{name: name, who: []string{m.who()}, to: []string{pick(m.r, []string{"everything", "app roster", "app payroll", "tag crew"})},
		doing: "sign-on"}
	if m.chance(30) {
		p.who = append(p.who, m.who())
	}
	if m.chance(25) {
		p.except = []string{m.who()}
	}
	if m.chance(20) {
		p.doing = "enrol-method"
	}
	for range m.r.IntN(3) {
		s := oracleStage{stage: pick(m.r, []string{"enforce", "enforce", "watch", "draft"}), group: pick(m.r, []string{"", "", "deck", "crews"})}
		if m.chance(60) {
			s.from = time.Date(2026, 11, 15+m.r.IntN(14), 0, 0, 0, 0, time.UTC)
		}
		p.stages = append(p.stages, s)
	}
	for range m.r.IntN(4) {
		p.conds = append(p.conds, m.cond(2, "case"))
	}
	for range len(p.conds) + 1 {
		p.cases = append(p.cases, m.outcome())
	}
	if m.chance(30) {
		p.lasts, p.limited = time.Duration(1+m.r.IntN(20))*time.Hour, true
	}
	return p
}

func (m *oracleModel) outcome() oracleOutcome {
	switch n := m.r.IntN(10); {
	case n < 3:
		return oracleOutcome{word: "grant", text: "grant"}
	case n < 4:
		return oracleOutcome{word: "block", text: "block"}
	case n < 5:
		return oracleOutcome{word: "abstain", text: "abstain"}
	}
	d := m.demand(2, false)
	return oracleOutcome{word: "step-up", demand: d, text: "step-up " + d.String()}
}

func (m *oracleModel) waiver(name string) *oracleWaiver {
	w := &oracleWaiver{name: name, who: m.who(), to: pick(m.r, []string{"everything", "app roster", "tag crew"})}
	if m.chance(50) {
		c := m.cond(1, "case")
		w.when = &c
	}
	for range 1 + m.r.IntN(2) {
		w.lifts = append(w.lifts, pick(m.r, []string{"password", "app-code", "passkey", "aal1", "aal2", "named0", "change-password", "device meets base", "everything"}))
	}
	day := time.Date(2026, 11, 18+m.r.IntN(12), 0, 0, 0, 0, time.UTC)
	w.until = day.AddDate(0, 0, 1)
	w.source = fmt.Sprintf("waiver %s { because \"x\" owner \"y\" who %s to %s", name, w.who, w.to)
	if w.when != nil {
		w.source += " when " + w.when.text
	}
	w.source += fmt.Sprintf(" lifts %s until %s }\n", strings.Join(w.lifts, ", "), day.Format(time.DateOnly))
	return w
}

// demand makes a random demand; underOr keeps enrol away.
func (m *oracleModel) demand(depth int, underOr bool) *oracleDemand {
	if depth > 0 && m.chance(60) {
		d := &oracleDemand{op: pick(m.r, []string{"and", "or"})}
		for range 2 + m.r.IntN(2) {
			part := m.demand(depth-1, underOr || d.op == "or")
			if m.chance(40) && (part.op == "and" || part.op == "or") {
				part.fresh = m.fresh()
			}
			d.parts = append(d.parts, part)
		}
		return d
	}
	d := &oracleDemand{op: "method", name: pick(m.r, oracleMethods)}
	switch n := m.r.IntN(20); {
	case n < 4:
		d.op, d.level = "level", 1+m.r.IntN(3)
		d.name = fmt.Sprintf("aal%d", d.level)
	case n < 6 && len(m.named) == 2 && !underOr:
		d.op, d.name = "named", pick(m.r, []string{"named0", "named1"})
	case n < 7:
		d.op, d.name = "change", "change-password"
	case n < 8 && len(m.checks) > 0:
		return &oracleDemand{op: "device", name: "base"}
	case n < 10 && !underOr && len(m.named) == 2:
		return &oracleDemand{op: "enrol", name: d.name, grace: time.Duration(m.r.IntN(20)) * 24 * time.Hour, hasGrace: m.chance(60)}
	}
	if m.chance(60) {
		d.fresh = m.fresh()
	}
	return d
}

func (m *oracleModel) fresh() *oracleFresh {
	f := &oracleFresh{kind: pick(m.r, []string{"time", "session", "age"})}
	if f.kind == "age" {
		f.age, f.any = time.Duration(1+m.r.IntN(30))*time.Hour, m.chance(40)
	}
	f.per = f.kind != "time" && m.chance(30)
	return f
}

func (d *oracleDemand) String() string {
	text := d.name
	switch d.op {
	case "and", "or":
		var texts []string
		for _, p := range d.parts {
			if t := p.String(); (p.op == "and" || p.op == "or") && p.fresh == nil {
				texts = append(texts, "("+t+")")
			} else {
				texts = append(texts, t)
			}
		}
		if text = strings.Join(texts, " "+d.op+" "); d.fresh != nil {
			text = "(" + text + ")"
		}
	case "device":
		return "device meets base"
	case "enrol":
		if d.hasGrace {
			return fmt.Sprintf("enrol %s grace %dd", d.name, d.grace/(24*time.Hour))
		}
		return "enrol " + d.name
	}
	if f := d.fresh; f != nil {
		text += " every " + f.kind
		if f.kind == "age" {
			text = strings.TrimSuffix(text, "age") + fmt.Sprintf("%dh", f.age/time.Hour)
		}
		if f.any {
			text += " on any device"
		}
		if f.per {
			text += " per app"
		}
	}
	return text
}

// cond makes a random condition and its text.
func (m *oracleModel) cond(depth int, place string) oracleCond {
	if depth > 0 && m.chance(55) {
		a, b := m.cond(depth-1, place), m.cond(depth-1, place)
		switch m.r.IntN(4) {
		case 0:
			return oracleCond{"(" + a.text + ") and (" + b.text + ")", func(c *oracleCase) truth { return min(a.eval(c), b.eval(c)) }}
		case 1:
			return oracleCond{"(" + a.text + ") or (" + b.text + ")", func(c *oracleCase) truth { return max(a.eval(c), b.eval(c)) }}
		case 2:
			return oracleCond{"not (" + a.text + ")", func(c *oracleCase) truth { return -a.eval(c) }}
		}
		if !m.calm {
			return oracleCond{"surely (" + a.text + ")", func(c *oracleCase) truth { return yes(a.eval(c) == 1) }}
		}
	}
	leaves := oracleLeaves(m)
	for {
		l := pick(m.r, leaves)
		switch {
		case m.calm && l.loosens, place != "case" && strings.Contains(l.text, "risk >="), place == "check" && strings.Contains(l.text, "meets"),
			place != "case" && strings.HasPrefix(l.text, "user has named"), strings.Contains(l.text, "risk >=") && !strings.Contains(l.text, "reported") && len(m.factors) == 0:
			continue
		}
		return oracleCond{l.text, l.eval}
	}
}

func yes(b bool) truth {
	if b {
		return 1
	}
	return -1
}

func ifKnown(known, holds bool) truth {
	if !known {
		return 0
	}
	return yes(holds)
}

type oracleLeaf struct {
	text    string
	loosens bool
	eval    func(*oracleCase) truth
}

func oracleLeaves(m *oracleModel) []oracleLeaf {
	inside := func(prefixes ...string) func(*oracleCase) truth {
		return func(c *oracleCase) truth {
			in := false
			for _, p := range prefixes {
				in = in || c.ip != "" && netip.MustParsePrefix(p).Contains(netip.MustParseAddr(c.ip).Unmap())
			}
			return ifKnown(c.ip != "", in)
		}
	}
	word := func(fact, value string) func(*oracleCase) truth {
		return func(c *oracleCase) truth {
			return ifKnown(c.hasDevice && c.device[fact] != "", c.device[fact] == value)
		}
	}
	return []oracleLeaf{
		{"network in port", false, inside("192.0.2.0/25", "2001:db8::/32")},
		{"network in port, quay", false, inside("192.0.2.0/25", "2001:db8::/32", "192.0.2.64/26", "198.51.100.0/24")},
		{"network not in quay", false, func(c *oracleCase) truth { return -inside("192.0.2.64/26", "198.51.100.0/24")(c) }},
		{"network in 192.0.2.8-192.0.2.90", false, func(c *oracleCase) truth {
			a := c.ip
			in := a != "" && netip.MustParseAddr(a).Unmap().Is4() && netip.MustParseAddr(a).Unmap().Compare(netip.MustParseAddr("192.0.2.8")) >= 0 &&
				netip.MustParseAddr(a).Unmap().Compare(netip.MustParseAddr("192.0.2.90")) <= 0
			return ifKnown(a != "", in)
		}},
		{"network.trusted", false, inside("192.0.2.0/25", "2001:db8::/32")},
		{"network is known", true, func(c *oracleCase) truth { return yes(c.ip != "") }},
		{"country in NO, SE", false, func(c *oracleCase) truth { return ifKnown(c.country != "", c.country == "NO" || c.country == "SE") }},
		{"country not in nordic", false, func(c *oracleCase) truth {
			return -ifKnown(c.country != "", strings.Contains("NO SE DK", c.country))
		}},
		{"country is unknown", true, func(c *oracleCase) truth { return yes(c.country == "") }},
		{"group in crews, office", false, func(c *oracleCase) truth { return yes(c.in("crews") || c.in("office")) }},
		{"tag in money", false, func(c *oracleCase) truth { return yes(c.app == "payroll") }},
		{"client is browser", false, func(c *oracleCase) truth { return ifKnown(c.client != "", c.client == "browser") }},
		{"user.type is not guest", false, func(c *oracleCase) truth { return yes(c.user.typ != "guest") }},
		{"user.risk at least medium", false, func(c *oracleCase) truth { return yes(c.user.risk == "medium" || c.user.risk == "high") }},
		{"user.joined within 10d", false, func(c *oracleCase) truth {
			age := c.now.Sub(c.user.joined)
			return ifKnown(!c.user.joined.IsZero(), age >= 0 && age <= 240*time.Hour)
		}},
		{"user has passkey, aal3", false, func(c *oracleCase) truth { return yes(c.enrolledIn("passkey") || oracleReach(3, c.user.methods)) }},
		{"time in day", false, func(c *oracleCase) truth {
			t := c.now.UTC()
			weekday := t.Weekday() >= time.Monday && t.Weekday() <= time.Friday
			return yes(weekday && t.Hour() >= 6 && t.Hour() < 20 && t.Format(time.DateOnly) != "2026-11-25")
		}},
		{"time in night", false, func(c *oracleCase) truth {
			t := c.now.UTC()
			return yes(t.Weekday() == time.Friday && t.Hour() >= 22 || t.Weekday() == time.Saturday && t.Hour() < 6)
		}},
		{"time after 2026-11-24", false, func(c *oracleCase) truth {
			return yes(!c.now.Before(time.Date(2026, 11, 25, 0, 0, 0, 0, time.UTC)))
		}},
		{"device.encrypted", false, word("encrypted", "yes")},
		{"device.managed", true, func(c *oracleCase) truth { return ifKnown(c.hasDevice, c.device["managed"] == "yes") }},
		{"device.os in ios, android", false, func(c *oracleCase) truth {
			return ifKnown(c.hasDevice && c.device["os"] != "", c.device["os"] == "ios" || c.device["os"] == "android")
		}},
		{"device.form is not mobile", false, func(c *oracleCase) truth { return -word("form", "mobile")(c) }},
		{"device.version >= 14.2", false, func(c *oracleCase) truth {
			v := c.device["version"]
			newer := map[string]bool{"14.2": true, "14.10": true, "15": true, "14.2.0.1": true}
			return ifKnown(c.hasDevice && v != "" && v != "14.x", newer[v])
		}},
		{"device.reported within 24h", false, func(c *oracleCase) truth {
			at, err := time.Parse(time.RFC3339, c.device["reported"])
			return ifKnown(c.hasDevice && err == nil, !at.After(c.now) && c.now.Sub(at) <= 24*time.Hour)
		}},
		{"device meets base", false, func(c *oracleCase) truth { return c.baseline() }},
		{"reported.risk >= 50", false, func(c *oracleCase) truth { return ifKnown(c.risk != nil, c.risk != nil && *c.risk >= 50) }},
		{"risk >= 40", false, func(c *oracleCase) truth {
			low, high := c.score()
			if (low >= 40) != (high >= 40) {
				return 0
			}
			return yes(low >= 40)
		}},
		{"new.country", false, func(*oracleCase) truth { return 0 }},
	}
}
