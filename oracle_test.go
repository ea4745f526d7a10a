package briskwarden_test

import (
	"flag"
	"fmt"
	"net/netip"
	"reflect"
	"slices"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/require"

	"briskwarden.example/briskwarden"
	"briskwarden.example/briskwarden/signon"
)

var oracleRulebooks = flag.Int("oracle.rulebooks", 600, "how many random rulebooks the oracle decides by, 200 sign-ons each")

const oracleSignOns = 200

// source writes the model as a rulebook.
func (m *oracleModel) source() string {
	var b strings.Builder
	unmatched := map[bool]string{true: "grant", false: "block"}[m.matched]
	floor := "none"
	if m.floor != nil {
		floor = m.floor.String()
	}
	fmt.Fprintf(&b, "rulebook random { unmatched %s floor %s break-glass user root => %s }\n", unmatched, floor, m.glass)
	b.WriteString(`network port trusted { 192.0.2.0/25 2001:db8::/32 }
network quay { 192.0.2.64/26 198.51.100.0/24 }
countries nordic { NO, SE, DK }
schedule day { mon-fri 06:00-20:00 except 2026-11-25 }
schedule night { fri 22:00-06:00 }
group crews { group deck, group bridge }
group deck { } group bridge { } group office { }
app roster { tags crew } app payroll { tags money, crew } app news { }
`)
	for _, u := range m.users {
		fmt.Fprintf(&b, "user %s { type %s", u.id, u.typ)
		if len(u.groups) > 0 {
			fmt.Fprintf(&b, " groups %s", strings.Join(u.groups, ", "))
		}
		if len(u.methods) > 0 {
			fmt.Fprintf(&b, " methods %s", strings.Join(u.methods, ", "))
		}
		if !u.joined.IsZero() {
			fmt.Fprintf(&b, " joined %s", u.joined.Format(time.DateOnly))
		}
		fmt.Fprintf(&b, " risk %s", u.risk)
		if u.off {
			b.WriteString(" active no")
		}
		b.WriteString(" }\n")
	}
	for name, d := range m.named {
		fmt.Fprintf(&b, "demand %s { %s }\n", name, d)
	}
	b.WriteString("baseline base {")
	for i, c := range m.checks {
		fmt.Fprintf(&b, " check \"%d\" %s", i, c.text)
	}
	b.WriteString(" }\n")
	if len(m.factors) > 0 {
		b.WriteString("risk model {")
		for i, c := range m.factors {
			fmt.Fprintf(&b, " add %d when %s", m.adds[i], c.text)
		}
		b.WriteString(" }\n")
	}
	for _, p := range m.policies {
		b.WriteString(p.source())
	}
	for _, w := range m.waivers {
		b.WriteString(w.source)
	}
	return b.String()
}

func (p *oraclePolicy) source() string {
	var b strings.Builder
	fmt.Fprintf(&b, "policy %s {\n who %s", p.name, strings.Join(p.who, ", "))
	if len(p.except) > 0 {
		fmt.Fprintf(&b, " except %s", strings.Join(p.except, ", "))
	}
	fmt.Fprintf(&b, "\n to %s\n doing %s\n", strings.Join(p.to, ", "), p.doing)
	for _, s := range p.stages {
		fmt.Fprintf(&b, " stage %s", s.stage)
		if s.group != "" {
			fmt.Fprintf(&b, " for group %s", s.group)
		}
		if !s.from.IsZero() {
			fmt.Fprintf(&b, " from %s", s.from.Format(time.DateOnly))
		}
		b.WriteString("\n")
	}
	for i, c := range p.conds {
		fmt.Fprintf(&b, " case \"c%d\" when %s => %s\n", i, c.text, p.cases[i].text)
	}
	fmt.Fprintf(&b, " otherwise => %s\n", p.cases[len(p.cases)-1].text)
	if p.limited {
		fmt.Fprintf(&b, " session lasts %dh\n", p.lasts/time.Hour)
	}
	b.WriteString("}\n")
	return b.String()
}

func (m *oracleModel) open(t *testing.T) *briskwarden.Rulebook {
	t.Helper()
	rules, err := briskwarden.OpenFS(fstest.MapFS{"rulebook.warden": {Data: []byte(m.source())}})
	require.NoError(t, err, "%s", m.source())
	return rules
}

// signOn makes a random sign-on, for the oracle and for the engine.
func (m *oracleModel) signOn() *oracleCase {
	c := &oracleCase{m: m, userID: pick(m.r, []string{"ada", "ben@x.example", "cleo", "dov", "ada", "cleo", "root", "zoe"}),
		app: pick(m.r, oracleApps), action: "sign-on", device: map[string]string{}, presented: map[string]bool{}}
	if m.chance(2) {
		c.app = "zoo"
	}
	if m.chance(10) {
		c.action = pick(m.r, []string{"enrol-method", "reset-password", "swim"})
	}
	c.now = oracleEpoch.Add(time.Duration(m.r.IntN(14*24*60)-3*24*60) * time.Minute)
	c.ip = pick(m.r, []string{"", "192.0.2.10", "192.0.2.70", "192.0.2.200", "198.51.100.4", "2001:db8::7", "::ffff:192.0.2.70", "203.0.113.1", "192.0.2.8", "192.0.2.91"})
	c.country = pick(m.r, []string{"", "NO", "SE", "DK", "PT"})
	c.client = pick(m.r, []string{"", "browser", "native"})
	if c.hasDevice = m.chance(70); c.hasDevice {
		for name, values := range map[string][]string{"id": {"", "d1", "d2"}, "os": {"", "ios", "linux"}, "form": {"", "mobile", "laptop"},
			"version": {"", "14.2", "14.10", "14", "15", "14.x", "14.2.0.1", "9"}, "managed": {"", "yes", "no"}, "encrypted": {"", "yes", "no"}} {
			c.device[name] = values[m.r.IntN(len(values))]
		}
		if m.chance(60) {
			c.device["reported"] = c.now.Add(-time.Duration(m.r.IntN(50)-2) * time.Hour).Format(time.RFC3339)
		}
	}
	if c.session = pick(m.r, []string{"", "s1", "s2"}); c.session != "" && m.chance(60) {
		c.started = c.now.Add(-time.Duration(m.r.IntN(25)-1) * time.Hour)
	}
	every := append(slices.Clone(oracleMethods), "change-password", "semaphore")
	for range m.r.IntN(3) {
		c.presented[pick(m.r, every)] = true
	}
	for range m.r.IntN(4) {
		c.evidence = append(c.evidence, oracleEvidence{pick(m.r, every[:7]), pick(m.r, []string{"", "s1", "s2"}), pick(m.r, []string{"", "d1", "d2"}),
			pick(m.r, []string{"", "roster", "payroll"}), c.now.Add(-time.Duration(m.r.IntN(40)-2) * time.Hour)})
	}
	if m.chance(50) {
		risk := float64(m.r.IntN(101))
		c.risk = &risk
	}
	c.find()
	delete(c.presented, "semaphore")
	return c
}

func (c *oracleCase) find() {
	for _, u := range c.m.users {
		if u.id == c.userID {
			c.user = u
		}
	}
}

// forEngine is the same sign-on as the engine takes it.
func (c *oracleCase) forEngine() signon.SignOn {
	flag := map[string]signon.YesNo{"yes": signon.Yes, "no": signon.No}
	s := signon.SignOn{User: c.userID, App: c.app, Action: c.action, Time: c.now, Country: c.country, Client: signon.Client(c.client),
		Session: signon.Session{ID: c.session, Started: c.started}, Risk: c.risk}
	if c.ip != "" {
		s.IP = netip.MustParseAddr(c.ip)
	}
	if c.hasDevice {
		d := c.device
		s.Device = &signon.Device{ID: d["id"], OS: d["os"], Form: d["form"], Version: d["version"], Managed: flag[d["managed"]], Encrypted: flag[d["encrypted"]]}
		s.Device.Reported, _ = time.Parse(time.RFC3339, d["reported"])
	}
	for _, m := range append(slices.Clone(oracleMethods), "change-password") {
		if c.presented[m] {
			s.Presented = append(s.Presented, m)
		}
	}
	for _, e := range c.evidence {
		s.Evidence = append(s.Evidence, signon.Evidence{Method: e.method, Time: e.time, Session: e.session, Device: e.device, App: e.app})
	}
	return s
}

// answerOf puts a decision of the engine into the oracle's form.
func answerOf(d *signon.Decision) oracleAnswer {
	a := oracleAnswer{outcome: d.Outcome}
	for _, e := range d.Explanation.Policies {
		a.entries = append(a.entries, strings.Join([]string{e.Policy, e.Case, e.Outcome, map[bool]string{true: "sure", false: "perhaps"}[e.Sure], e.Stage}, "/"))
	}
	for _, x := range d.Demands {
		a.demands = append(a.demands, x.Policy+": "+map[bool]string{true: "met", false: "unmet"}[x.Met])
	}
	if w := d.Explanation.Watch; w != nil {
		a.watch = w.Outcome.String()
	}
	if d.Session.Lifetime != "" {
		lasts, _ := time.ParseDuration(d.Session.Lifetime)
		a.lasts = lasts.String()
	}
	return a
}

func TestEngineAgreesWithOracle(t *testing.T) {
	seen := map[signon.Outcome]int{}
	for seed := range uint64(*oracleRulebooks) {
		m := newOracleModel(seed, false)
		rules := m.open(t)
		for range oracleSignOns {
			c := m.signOn()
			s := c.forEngine()
			d, err := rules.Explain(t.Context(), s)
			require.NoError(t, err)
			want, got := c.decide(), answerOf(&d)
			want.demands, got.demands = slices.Compact(want.demands), slices.Compact(got.demands)
			if want.outcome == signon.Block { // what was asked beside a block is the engine's to tell
				want.demands, got.demands = nil, nil
			}
			want.spoken = false
			if !reflect.DeepEqual(want, got) {
				require.Equal(t, want, got, "seed %d\n%s\n%+v", seed, m.source(), s)
			}
			lean, err := rules.Decide(t.Context(), s)
			require.NoError(t, err)
			d.Explanation = nil
			if !reflect.DeepEqual(d, lean) {
				require.Equal(t, d, lean, "seed %d: the lean decision differs", seed)
			}
			seen[d.Outcome]++
		}
	}
	t.Logf("%d decisions: %v", *oracleRulebooks*oracleSignOns, seen)
	for _, o := range []signon.Outcome{signon.Grant, signon.StepUp, signon.Block} {
		require.Greater(t, seen[o], *oracleRulebooks, "the sample must hold every outcome")
	}
}
