package briskwarden_test

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/require"

	"briskwarden.example/briskwarden"
	"briskwarden.example/briskwarden/demo"
	"briskwarden.example/briskwarden/signon"
)

// sample are sign-ons to the demo rulebook that say their address, country and device.
func sample() (list []*signon.SignOn) {
	at := time.Date(2026, 11, 23, 9, 0, 0, 0, handOslo)
	add := func(user, app, ip, country string, d signon.Device, evidence []signon.Evidence, presented ...string) {
		list = append(list, &signon.SignOn{User: user, App: app, Time: at, IP: netip.MustParseAddr(ip), Country: country, Client: signon.Browser,
			Device: &d, Session: signon.Session{ID: "s", Started: at.Add(-time.Hour)}, Presented: presented, Evidence: evidence})
	}
	tablet := signon.Device{ID: "t", OS: "android", Version: "14", Form: "tablet", Managed: signon.Yes}
	phone := signon.Device{ID: "p", OS: "ios", Version: "17.4", Form: "mobile", Encrypted: signon.Yes, ScreenLock: signon.Yes, Jailbroken: signon.No}
	laptop := signon.Device{ID: "l", Form: "laptop", Managed: signon.Yes, Encrypted: signon.Yes, Reported: at.Add(-3 * time.Hour)}
	earlier := []signon.Evidence{{Method: "password", Time: at.Add(-30 * time.Minute), Session: "s", Device: "l"},
		{Method: "app-code", Time: at.Add(-2 * time.Hour), Session: "s", Device: "p"}}
	add("mira.holt", "crew-roster", "198.51.100.14", "NO", tablet, nil, "password")
	add("mira.holt", "crew-roster", "198.51.100.70", "NO", tablet, nil, "password")
	add("mira.holt", "crew-roster", "203.0.113.20", "PT", tablet, nil, "password")
	add("odd.kvale", "crew-roster", "203.0.113.21", "NO", phone, earlier)
	add("odd.kvale", "crew-roster", "203.0.113.21", "NO", laptop, earlier)
	add("ylva.fjell", "payroll", "192.0.2.20", "NO", laptop, earlier, "passkey")
	add("ylva.fjell", "payroll", "192.0.2.20", "NO", laptop, nil, "password")
	add("ylva.fjell", "payroll", "203.0.113.9", "PT", laptop, nil, "password")
	add("hedda.roth", "ticketing", "192.0.2.30", "NO", laptop, nil, "password")
	add("hedda.roth", "ticketing", "203.0.113.30", "NO", laptop, nil, "password")
	add("elias.kvale", "noticeboard", "192.0.2.70", "NO", laptop, nil, "password")
	add("mira.holt", "noticeboard", "203.0.113.200", "NO", laptop, nil, "passkey")
	add("mira.holt", "noticeboard", "203.0.113.100", "NO", laptop, nil, "passkey")
	add("hedda.roth", "noticeboard", "192.0.2.30", "NO", laptop, earlier)
	add("envelope.red", "payroll", "203.0.113.200", "NO", laptop, nil, "security-key")
	return list
}

// openHarbour opens the rulebook of which the yardstick is the same in Go.
func openHarbour(t testing.TB) *briskwarden.Rulebook {
	rules, err := briskwarden.Open("testdata/yardstick")
	require.NoError(t, err)
	return rules
}

func TestYardstickDecidesLikeTheRulebook(t *testing.T) {
	rules := openHarbour(t)
	seen := map[signon.Outcome]bool{}
	for i, s := range sample() {
		d, err := rules.Explain(t.Context(), *s)
		require.NoError(t, err)
		var v handVerdict
		handDecide(s, &v)
		require.Equal(t, v.Outcome.String(), d.Outcome.String(), "sample %d: %+v", i, d.Explanation.Deciding)
		if d.Outcome != signon.Block {
			require.ElementsMatch(t, v.Demands, d.Demands, "sample %d", i)
		}
		if d.Outcome == signon.StepUp {
			for _, sets := range [][][]string{d.Next[0].AnyOf, v.Next[0].AnyOf} {
				for _, set := range sets {
					slices.Sort(set)
				}
			}
			require.ElementsMatch(t, v.Next[0].AnyOf, d.Next[0].AnyOf, "sample %d", i)
		}
		seen[d.Outcome] = true
	}
	require.Len(t, seen, 3)
}

func BenchmarkYardstick(b *testing.B) {
	list := sample()
	var v handVerdict
	b.ReportAllocs()
	for i := 0; b.Loop(); i++ {
		handDecide(list[i%len(list)], &v)
	}
}

func BenchmarkDecideLean(b *testing.B) {
	rules, list := openHarbour(b), sample()
	ctx := b.Context()
	var d signon.Decision
	b.ReportAllocs()
	for i := 0; b.Loop(); i++ {
		_ = rules.DecideInto(ctx, list[i%len(list)], &d)
	}
}

// BenchmarkFactsBesideNone takes turns between decisions with every fact at hand (an address,
// its network, country and position, a device of the inventory, past sign-ons, the score),
// and decisions on the same people and apps with none.
func BenchmarkFactsBesideNone(b *testing.B) {
	rules, err := briskwarden.OpenFS(demo.SkerryLine())
	require.NoError(b, err)
	at := time.Date(2026, 11, 23, 8, 15, 0, 0, time.UTC)
	var all, none []*signon.SignOn
	for _, who := range [][4]string{{"mira.holt", "crew-roster", "198.51.100.14", "deck-tab-03"}, {"ylva.fjell", "payroll", "192.0.2.20", "fin-lap-01"},
		{"henrik.sund", "berth-planner", "192.0.2.130", "eastholm-lap-01"}, {"torben.engan", "ledger", "203.0.113.50", "fin-lap-02"},
		{"dagny.roth", "engine-log", "198.51.100.70", "engine-tab-02"}} {
		risk := 20.0
		all = append(all, &signon.SignOn{User: who[0], App: who[1], Time: at, IP: netip.MustParseAddr(who[2]), Client: signon.Browser, Risk: &risk,
			Device: &signon.Device{ID: who[3]}, Session: signon.Session{ID: "w-1", Started: at.Add(-time.Minute)}, Presented: []string{"password"}})
		none = append(none, &signon.SignOn{User: who[0], App: who[1], Time: at})
	}
	var d signon.Decision
	decide := func(list []*signon.SignOn) time.Duration {
		start := time.Now()
		for range 20 {
			for _, s := range list {
				if err := rules.DecideInto(b.Context(), s, &d); err != nil {
					b.Fatal(err)
				}
			}
		}
		return time.Since(start)
	}
	var with, without time.Duration
	for b.Loop() {
		with += decide(all)
		without += decide(none)
	}
	b.ReportMetric(with.Seconds()/without.Seconds(), "×none")
}

// BenchmarkLeanBesideYardstick takes turns between the two, so that a noisy machine is as
// noisy for both, and reports how many times the yardstick's time the lean decision takes.
func BenchmarkLeanBesideYardstick(b *testing.B) {
	rules, list := openHarbour(b), sample()
	var d signon.Decision
	var v handVerdict
	var byHand, lean time.Duration
	for b.Loop() {
		start := time.Now()
		for range 20 {
			for _, s := range list {
				handDecide(s, &v)
			}
		}
		middle := time.Now()
		for range 20 {
			for _, s := range list {
				_ = rules.DecideInto(b.Context(), s, &d)
			}
		}
		byHand, lean = byHand+middle.Sub(start), lean+time.Since(middle)
	}
	b.ReportMetric(float64(lean)/float64(byHand), "×yardstick")
}

func BenchmarkDecideExplained(b *testing.B) {
	rules, list := openHarbour(b), sample()
	b.ReportAllocs()
	for i := 0; b.Loop(); i++ {
		_, _ = rules.Explain(b.Context(), *list[i%len(list)])
	}
}

// large writes a rulebook of n policies over the given number of apps and 1,000 people. The
// first 10 apps have 10 policies each, whatever n is.
func large(n, apps int) fstest.MapFS {
	var b strings.Builder
	b.WriteString("rulebook large { break-glass user key => security-key every time }\nuser key { methods security-key }\n")
	b.WriteString("network office { 192.0.2.0/24 }\n")
	for i := range 1000 {
		fmt.Fprintf(&b, "user u%d { groups g%d, g%d  methods password, app-code }\n", i, i%50, 50+i%20)
	}
	for i := range apps {
		fmt.Fprintf(&b, "app a%d { }\n", i)
	}
	for i := range n {
		app := i % 10
		if i >= 100 {
			app = 10 + i%(apps-10)
		}
		fmt.Fprintf(&b, `policy p%d {
  who  group g%d, group g%d except user key
  to   app a%d
  case "office" when network in office and device.managed => step-up password
  case "risky"  when user.risk at least medium or reported.risk >= 60 => block "No"
  otherwise => step-up password and app-code every 12h
}
`, i, i%50, 50+i%20, app)
	}
	return fstest.MapFS{"rulebook.warden": {Data: []byte(b.String())}}
}

func BenchmarkDecidePolicies(b *testing.B) {
	for _, n := range []int{100, 1000, 10000} {
		b.Run(fmt.Sprint(n), func(b *testing.B) {
			rules, err := briskwarden.OpenFS(large(n, 100))
			require.NoError(b, err)
			risk := 10.0
			var d signon.Decision
			s := signon.SignOn{App: "a3", IP: netip.MustParseAddr("192.0.2.7"), Device: &signon.Device{Managed: signon.Yes}, Time: oracleEpoch,
				Presented: []string{"password"}, Risk: &risk}
			for i := 0; b.Loop(); i++ {
				s.User = largeUsers[i%len(largeUsers)]
				_ = rules.DecideInto(b.Context(), &s, &d)
			}
		})
	}
}

// BenchmarkDecideOtherGroups has all policies for one app, each for one group of 5,000.
func BenchmarkDecideOtherGroups(b *testing.B) {
	for _, n := range []int{100, 10000} {
		b.Run(fmt.Sprint(n), func(b *testing.B) {
			var src strings.Builder
			src.WriteString("rulebook r { }\nuser ann { groups g7, g12, g50  methods password }\napp news { }\n")
			for i := range 5000 {
				fmt.Fprintf(&src, "group g%d { }\n", i)
			}
			for i := range n {
				fmt.Fprintf(&src, "policy p%d { who group g%d  to app news  otherwise => step-up password }\n", i, (i*7919)%5000)
			}
			rules, err := briskwarden.OpenFS(fstest.MapFS{"rulebook.warden": {Data: []byte(src.String())}})
			require.NoError(b, err)
			var d signon.Decision
			s := signon.SignOn{User: "ann", App: "news", Time: oracleEpoch, Presented: []string{"password"}}
			for b.Loop() {
				_ = rules.DecideInto(b.Context(), &s, &d)
			}
		})
	}
}

var largeUsers = func() (ids []string) {
	for i := range 1000 {
		ids = append(ids, fmt.Sprintf("u%d", i))
	}
	return ids
}()

func BenchmarkLoad10000Policies(b *testing.B) {
	files := large(10000, 100)
	for b.Loop() {
		_, err := briskwarden.OpenFS(files)
		require.NoError(b, err)
	}
}
