package prove

import (
	"context"
	"flag"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/require"

	"briskwarden.example/briskwarden"
	"briskwarden.example/briskwarden/internal/possible/possibletest"
)

var largest = flag.Int("bench.sizes", 1, "how many sizes of rulebooks are benchmarked")

// large is a rulebook of 1,000 policies, about 50 for each of 100 apps, and of people of so many kinds. The
// change is something that is written differently in one of its policies.
func large(people, kinds int, change string) fstest.MapFS {
	r := rand.New(rand.NewPCG(11, 12))
	var b strings.Builder
	pick := func(list ...string) string { return list[r.IntN(len(list))] }
	b.WriteString("rulebook large {\ntimezone \"Europe/Oslo\"\nfloor aal1 every session\nbreak-glass user key => security-key every time\ndirectory \"people.csv\"\ndevices \"fleet.jsonl\"\ngeo \"geo.csv\"\nhistory \"past.jsonl\"\n}\n")
	b.WriteString("user key { methods security-key }\nattribute user.leaked yes-no default no\nattribute user.end date\n")
	var geo, fleet, directory strings.Builder
	directory.WriteString("id,type,groups,methods,joined,risk,leaked,end\n")
	for i := range 20 {
		fmt.Fprintf(&b, "network n%d%s { 192.0.2.%d/28 2001:db8:%d::/48 198.51.100.%d-198.51.100.%d }\n", i, pick("", " trusted", " anonymous"), 16*(i%16), i, 10*i, 10*i+15)
		fmt.Fprintf(&geo, "192.0.2.%d/29,%s\n2001:db8:%d::/49,%s\n", 8*i, pick("NO", "SE", "DK", "DE", ""), i, pick("NO", "SE", "FI"))
	}
	for i := range 300 {
		fmt.Fprintf(&fleet, "{\"id\":\"d%d\",\"os\":%q,\"managed\":%t,\"encrypted\":%t}\n", i, pick("ios", "android", "linux"), r.IntN(2) == 0, r.IntN(2) == 0)
	}
	b.WriteString("countries home { NO, SE, DK }\n")
	for i := range 8 {
		fmt.Fprintf(&b, "schedule s%d in \"Europe/Oslo\" { mon-fri %02d:00-%02d:30 sat %02d:15-14:00 except 2026-12-%02d }\n", i, 5+i%4, 16+i%5, 7+i%3, 20+i)
	}
	b.WriteString("baseline phone { check \"System\" device.os is ios and device.version >= 17.2 or device.os is android and device.version >= 14 check \"Disk\" device.encrypted check \"Lock\" device.screenlock }\n")
	b.WriteString("baseline office { check \"Managed\" device.managed check \"Disk\" device.encrypted check \"Report\" device.reported within 24h }\n")
	b.WriteString("demand second { passkey or security-key or app-code }\ndemand strong { passkey or security-key and password }\n")
	b.WriteString("risk model { add 100 when network.anonymous add 60 when travel.speed > 900 add 40 when surely reported.risk >= 70 add 30 when user.risk at least medium add 30 when surely new.country add 15 when surely odd.hour band calm to 29, guarded to 69, severe to 100 }\n")
	methods := []string{"password", "password;app-code", "password;passkey", "passkey;security-key", "password;app-code;passkey", "certificate", "password;text-code"}
	for i := range people {
		k := i % kinds
		kr := rand.New(rand.NewPCG(uint64(k), 3))
		groups := map[int]bool{}
		for range 1 + kr.IntN(4) {
			groups[kr.IntN(40)] = true
		}
		var list []string
		for g := range 40 {
			if groups[g] {
				list = append(list, fmt.Sprintf("g%d", g))
			}
		}
		fmt.Fprintf(&directory, "u%d,%s,%s,%s,2026-%02d-%02d,%s,%s\n", i, []string{"employee", "employee", "guest", "service"}[kr.IntN(4)], strings.Join(list, ";"),
			methods[kr.IntN(len(methods))], 1+kr.IntN(12), 1+kr.IntN(28), []string{"none", "none", "low", "high"}[kr.IntN(4)],
			[]string{",", "yes,", ",2027-02-0" + fmt.Sprint(1+kr.IntN(9))}[kr.IntN(3)])
	}
	for i := range 100 {
		fmt.Fprintf(&b, "app a%d { tags t%d, t%d }\n", i, i%10, 10+i%7)
	}
	conds := func() string {
		return pick(fmt.Sprintf("network in n%d, n%d", r.IntN(20), r.IntN(20)), "country not in home", "network.trusted", fmt.Sprintf("time in s%d", r.IntN(8)), fmt.Sprintf("time not in s%d", r.IntN(8)),
			"device.managed", "device.form in mobile, tablet", "device.os is android", "client is legacy", "user.leaked", "risk.band is severe", "risk >= 40", "user has passkey",
			"device.reported within 24h", "device meets phone", "time after user.end", "user.joined within 30d", "user.risk at least medium", "new.device", "surely country in DE, FI")
	}
	outcome := func() string {
		return pick("block", "abstain", "grant", "step-up password", "step-up second every 12h", "step-up strong every time", "step-up device meets office and password and second every 12h",
			"step-up aal2 every 24h on any device", "step-up password and enrol passkey grace 21d", "step-up aal1", "abstain", "abstain")
	}
	for i := range 1000 {
		fmt.Fprintf(&b, "policy p%d {\nwho %s\nto %s\n", i, pick("everyone", "people", fmt.Sprintf("group g%d", r.IntN(40)), fmt.Sprintf("group g%d, group g%d", r.IntN(40), r.IntN(40)), fmt.Sprintf("everyone except group g%d", r.IntN(40))),
			fmt.Sprintf("app a%d, app a%d, app a%d, app a%d, app a%d", r.IntN(100), r.IntN(100), r.IntN(100), r.IntN(100), r.IntN(100)))
		if r.IntN(20) == 0 {
			b.WriteString("doing enrol-method\n")
		}
		if r.IntN(5) == 0 {
			fmt.Fprintf(&b, "stage enforce for group g%d from 2026-%d-%02d\nstage enforce from 2027-%02d-01\n", r.IntN(40), 10+r.IntN(3), 1+r.IntN(28), 1+r.IntN(12))
		}
		for c := range 1 + r.IntN(4) {
			fmt.Fprintf(&b, "case \"c%d\" when %s%s => %s\n", c, conds(), pick("", " and "+conds(), " or "+conds()), outcome())
		}
		last := outcome()
		if i == 500 && change != "" {
			last = change
		}
		fmt.Fprintf(&b, "otherwise => %s\n%s}\n", pick("abstain", last, last), pick("", "session lasts 10h\n"))
	}
	for i := range 30 {
		fmt.Fprintf(&b, "waiver w%d { because \"b\" owner \"o\" who group g%d to tag t%d when %s lifts %s until 2027-%02d-15 }\n", i, r.IntN(40), r.IntN(17), conds(), pick("second", "strong", "aal2", "password", "device meets office"), 1+r.IntN(12))
	}
	for i := range 20 {
		form := []string{"never grant without aal1", "never grant without aal2", "never grant without strong", "never locked out", "never grant", "always block", "never grant without device meets office",
			"never grant without password every 12h", "never step-up"}[i%9]
		fmt.Fprintf(&b, "promise \"q%d\" { who %s to %s %s%s }\n", i, pick("everyone", "people", fmt.Sprintf("group g%d", r.IntN(40))), pick("everything", fmt.Sprintf("tag t%d", r.IntN(17))), pick("", "when "+conds()+" "), form)
	}
	return fstest.MapFS{"rulebook.warden": {Data: []byte(b.String())}, "geo.csv": {Data: []byte(geo.String())}, "fleet.jsonl": {Data: []byte(fleet.String())}, "past.jsonl": {Data: []byte("\n")},
		"people.csv": {Data: []byte(directory.String())}}
}

func openLarge(t testing.TB, files fstest.MapFS) *briskwarden.Rulebook {
	rules, err := briskwarden.OpenFS(files, briskwarden.WithClock(func() time.Time { return possibletest.Start }))
	require.NoError(t, err)
	return rules
}

// BenchmarkLarge proves 20 promises of 1,000 policies, of people of about 100 kinds or who all differ, and
// compares two rulebooks of that size.
func BenchmarkLarge(b *testing.B) {
	sizes := [][2]int{{1000, 100}, {100_000, 100}, {1000, 1000}}
	for _, size := range sizes[:max(1, min(*largest, len(sizes)))] {
		b.Run(fmt.Sprintf("prove/%d-people-of-%d-kinds", size[0], size[1]), func(b *testing.B) {
			rules := openLarge(b, large(size[0], size[1], ""))
			for b.Loop() {
				r, err := Promises(context.Background(), rules, Span{})
				require.NoError(b, err)
				require.Len(b, r.Promises, 20)
			}
		})
	}
	for _, change := range []string{"", "step-up passkey every time"} {
		b.Run("compare/changed-"+fmt.Sprint(change != ""), func(b *testing.B) {
			before, after := openLarge(b, large(1000, 100, "")), openLarge(b, large(1000, 100, change))
			for b.Loop() {
				c, err := Compare(context.Background(), before, after, Span{}, Scope{})
				require.NoError(b, err)
				require.Equal(b, change == "", c.Same)
			}
		})
	}
}
