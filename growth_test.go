//go:build !race

package briskwarden_test

// How long lists may be: twice as much may cost little more than twice. With the race detector no time tells.

import (
	"bytes"
	"flag"
	"fmt"
	"io"
	"math"
	"os"
	"runtime"
	"runtime/debug"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/require"

	"briskwarden.example/briskwarden"
	"briskwarden.example/briskwarden/consent"
	"briskwarden.example/briskwarden/findings"
	"briskwarden.example/briskwarden/internal/cli"
	"briskwarden.example/briskwarden/internal/rulebook"
	"briskwarden.example/briskwarden/signon"
)

// growing is a list in a request or a file: it makes one of that many items, and gives what is
// to be timed about it.
type growing struct {
	name  string
	items int // of the smaller of the two
	grow  func(t testing.TB, n int) (timed func())
}

// repeated writes a line for each number, with the number for every N in it.
func repeated(n int, line string) string {
	var b strings.Builder
	for i := range n {
		b.WriteString(strings.NewReplacer("%N", fmt.Sprint(i), "%X", fmt.Sprintf("%x", i)).Replace(line))
	}
	return b.String()
}

// loading reads a rulebook with clauses, declarations and one file.
func loading(clauses, declared, file string, text func(n int) string) func(testing.TB, int) func() {
	return func(t testing.TB, n int) func() {
		declarations := declared
		if strings.Contains(declarations, "%N") {
			declarations = repeated(n, declarations)
		}
		fsys := fstest.MapFS{"rulebook.warden": {Data: []byte("rulebook r { " + clauses + " }\n" + declarations)}}
		if file != "" {
			fsys[file] = &fstest.MapFile{Data: []byte(text(n))}
		}
		return func() {
			rb := rulebook.Load(fsys, rulebook.Options{})
			require.NoError(t, rb.Diagnostics.Err())
		}
	}
}

func lineOf(line string) func(int) string { return func(n int) string { return repeated(n, line) } }

func between(before, line, after string) func(int) string {
	return func(n int) string { return before + repeated(n, line) + after }
}

// checking is loading, and looking for what is hardly meant.
func checking(declarations func(n int) string) func(testing.TB, int) func() {
	return func(t testing.TB, n int) func() {
		fsys := fstest.MapFS{"rulebook.warden": {Data: []byte("rulebook r { floor none }\n" + declarations(n))}}
		return func() {
			r, err := findings.Read(t.Context(), fsys, findings.Options{At: oracleEpoch.Format(time.RFC3339)})
			require.NoError(t, err)
			require.Zero(t, r.Errors)
		}
	}
}

// deciding decides on a request whose JSON has a list.
func deciding(request func(n int) string) func(testing.TB, int) func() {
	return func(t testing.TB, n int) func() {
		rules := open(t, `rulebook r { floor none }
attribute user.mode word from request
user ann { methods password, passkey }
app news { }
scopes data { "d.*", e, f }
policy p { who everyone to everything doing sign-on, consent
  case "known" when user.mode is "x" or scopes touch data and scopes.weight > 3 or scopes within data => step-up aal2 every 12h or passkey every session and password
  otherwise => step-up password every 12h and app-code every time }
`)
		text := []byte(request(n))
		return func() {
			so, err := signon.Decode(text)
			require.NoError(t, err)
			_, err = rules.Explain(t.Context(), so)
			require.NoError(t, err)
		}
	}
}

func request(context string) string {
	return `{"subject":{"id":"ann"},"resource":{"id":"news"},"context":{"time":"2026-11-23T08:15:00Z",` + context + `}}`
}

// commas writes items with commas between.
func commas(n int, item string) string { return strings.TrimSuffix(repeated(n, item+","), ",") }

// lists are all lists that a request or a file can hold. Their sizes take a fraction of a second.
var lists = []growing{
	{"presented methods, none known", 20_000, deciding(func(n int) string { return request(`"presented":[` + commas(n, `"m%N"`) + `]`) })},
	{"evidence", 10_000, deciding(func(n int) string {
		return request(`"evidence":[` + commas(n, `{"method":"passkey","time":"2026-11-20T08:00:00Z","session":"s%N"}`) + `]`)
	})},
	{"evidence of methods that are not known", 10_000, deciding(func(n int) string {
		return request(`"evidence":[` + commas(n, `{"method":"m%N","time":"2026-11-20T08:00:00Z"}`) + `]`)
	})},
	{"scopes", 20_000, deciding(func(n int) string {
		return strings.Replace(request(`"consent":{"client":"c","scopes":[`+commas(n, `"s%N"`)+`]}`), `"resource"`, `"action":{"name":"consent"},"resource"`, 1)
	})},
	{"properties", 20_000, deciding(func(n int) string {
		return strings.Replace(request(`"ip":"192.0.2.1"`), `"id":"ann"`, `"id":"ann","properties":{`+commas(n, `"p%N":"x"`)+`}`, 1)
	})},
	{"fields of a device", 20_000, deciding(func(n int) string { return request(`"device":{` + commas(n, `"f%N":"x"`) + `}`) })},

	{"people in SCIM", 10_000, loading(`directory "f.jsonl"`, "", "f.jsonl", lineOf(`{"id":"i%N","userName":"u%N"}`+"\n"))},
	{"members of a group in SCIM", 20_000, loading(`directory "f.jsonl"`, "", "f.jsonl", func(n int) string {
		return repeated(n, `{"id":"i%N","userName":"u%N"}`+"\n") + `{"id":"g","displayName":"g","members":[` + commas(n, `{"value":"i%N"}`) + `]}`
	})},
	{"groups of one person in SCIM", 20_000, loading(`directory "f.jsonl"`, "", "f.jsonl", func(n int) string {
		return `{"id":"i","userName":"u","groups":[` + commas(n, `{"value":"g%N","display":"g%N"}`) + `]}`
	})},
	{"groups nested in each other in SCIM", 4_000, loading(`directory "f.jsonl"`, "", "f.jsonl", func(n int) string {
		var b strings.Builder
		for i := range n {
			fmt.Fprintf(&b, `{"id":"g%d","displayName":"g%d","members":[{"value":"g%d"}]}`+"\n", i, i, i+1)
		}
		return b.String() + fmt.Sprintf(`{"id":"g%d","displayName":"g%d","members":[{"value":"u"}]}`+"\n"+`{"id":"u","userName":"u"}`, n, n)
	})},
	{"groups nested in each other in blocks", 5_000, loading("", "group g%N { group h%N }\ngroup h%N { user u%N }\nuser u%N { }\n", "", nil)},
	{"people in CSV", 10_000, loading(`directory "f.csv"`, "", "f.csv", between("id,groups,methods\n", "u%N,a;b,password\n", ""))},
	{"columns in CSV", 4_000, loading(`directory "f.csv"`, "", "f.csv", func(n int) string { return "id," + commas(n, "c%N") + "\nu," + commas(n, "x") + "\n" })},
	{"groups in a cell of CSV", 60_000, loading(`directory "f.csv"`, "", "f.csv", func(n int) string { return "id,groups\nu," + repeated(n, "g%N;") + "\n" })},
	{"people in LDIF", 10_000, loading(`directory "f.ldif"`, "", "f.ldif", lineOf("dn: uid=u%N,dc=x\nobjectClass: person\nuid: u%N\n\n"))},
	{"members in LDIF", 10_000, loading(`directory "f.ldif"`, "", "f.ldif", func(n int) string {
		return repeated(n, "dn: uid=u%N,dc=x\nobjectClass: person\nuid: u%N\n\n") + "dn: cn=g,dc=x\nobjectClass: groupOfNames\ncn: g\n" + repeated(n, "member: uid=u%N,dc=x\n")
	})},
	{"folds of a line in LDIF", 200_000, loading(`directory "f.ldif"`, "", "f.ldif", between("dn: uid=u,dc=x\nobjectClass: person\nuid: u\ndescription: x\n", " y%N\n", ""))},
	{"values in LDIF", 50_000, loading(`directory "f.ldif"`, "", "f.ldif", between("dn: uid=u,dc=x\nobjectClass: person\nuid: u\n", "description: y%N\n", ""))},
	{"devices in JSON Lines", 10_000, loading(`devices "f.jsonl"`, "", "f.jsonl", lineOf(`{"id":"d%N","os":"ios"}`+"\n"))},
	{"devices in CSV", 10_000, loading(`devices "f.csv"`, "", "f.csv", between("id,os\n", "d%N,ios\n", ""))},
	{"prefixes of a geofeed", 4_000, loading(`geo "f.csv"`, "", "f.csv", lineOf("2001:db8:%X::/48,NO\n"))},
	{"lines of a network", 4_000, loading("", "network x from \"f.txt\"\n", "f.txt", lineOf("2001:db8:%X::/48\n"))},
	{"past sign-ons of many", 20_000, loading(`history "f.jsonl"`, "", "f.jsonl", lineOf(`{"subject":{"id":"u%N"},"context":{"time":"2026-11-23T08:15:00Z","id":"s%N"}}`+"\n"))},
	{"past sign-ons of one", 20_000, loading(`history "f.jsonl"`, "", "f.jsonl", lineOf(`{"subject":{"id":"u"},"context":{"time":"2026-11-23T08:15:00Z","id":"s%N","device":{"id":"d%N"}}}`+"\n"))},
	{"events of a calendar", 5_000, calendar(lineOf("BEGIN:VEVENT\nUID:e%N\nDTSTART;VALUE=DATE:20261225\nEND:VEVENT\n"))},
	{"recurring events of a calendar", 200, calendar(lineOf("BEGIN:VEVENT\nUID:e%N\nDTSTART;VALUE=DATE:20261225\nRRULE:FREQ=YEARLY\nEND:VEVENT\n"))},
	{"exceptions of an event", 20_000, calendar(between("BEGIN:VEVENT\nUID:e\nDTSTART:20260101T000000Z\nDURATION:PT1H\nRRULE:FREQ=DAILY\n", "EXDATE:20260101T000000Z\n", "END:VEVENT\n"))},
	{"occurrences that others replace", 2_000, calendar(between("BEGIN:VEVENT\nUID:e\nDTSTART:20260101T000000Z\nDURATION:PT1H\nRRULE:FREQ=DAILY;COUNT=9\nEND:VEVENT\n",
		"BEGIN:VEVENT\nUID:e\nRECURRENCE-ID:20260101T000000Z\nDTSTART:20260101T000000Z\nDURATION:PT%NS\nEND:VEVENT\n", ""))},
	{"rules that never occur", 7, calendar(lineOf("BEGIN:VEVENT\nUID:e%N\nDTSTART;VALUE=DATE:20260101\nRRULE:FREQ=DAILY;BYMONTH=2;BYMONTHDAY=30\nEND:VEVENT\n"))},
	{"folds of a line of a calendar", 200_000, calendar(between("BEGIN:VEVENT\nUID:e\nDTSTART;VALUE=DATE:20260101\nSUMMARY:x\n", " y%N\n", "END:VEVENT\n"))},

	{"users", 5_000, loading("", "user u%N { groups g%N, h  methods password }\n", "", nil)},
	{"apps", 5_000, loading("", "app a%N { tags t, t%N }\n", "", nil)},
	{"policies for one app each", 2_000, loading("", "app a%N { }\npolicy p%N { who everyone to app a%N otherwise => grant }\n", "", nil)},
	{"policies for people and apps of their own, checked", 1_000, checking(lineOf("user u%N { methods password }\napp a%N { }\npolicy p%N { who user u%N to app a%N otherwise => step-up password }\n"))},
	{"policies for groups of people, checked", 500, checking(func(n int) string {
		return "app a { }\n" + repeated(n, "user u%N { groups g%N methods password }\npolicy p%N { who group g%N to app a case \"x\" when user.id is u%N => block otherwise => step-up password }\n")
	})},
	{"cases of a policy, checked", 1_000, checking(func(n int) string {
		return "user u { }\napp a { }\npolicy p { who everyone to app a " + repeated(n, "case \"c%N\" when user.id is x%N => block\n") + "otherwise => grant }\n"
	})},
	{"waivers, checked", 1_000, checking(func(n int) string {
		return "user u { }\napp a { }\npolicy p { who everyone to app a otherwise => step-up password }\n" + repeated(n, "waiver w%N { because \"x\" owner \"y\" who user u to app a lifts password until 2027-12-31 }\n")
	})},
	{"people, checked", 10_000, checking(func(n int) string {
		return "app a { }\npolicy p { who everyone to app a otherwise => step-up password }\n" + repeated(n, "user u%N { groups g methods password }\n")
	})},

	{"clients that look alike, waiting", 300, waiting(func(n int) []string {
		var names []string
		for i := range n {
			names = append(names, "client"+strings.NewReplacer("0", "-", "1", "_").Replace(fmt.Sprintf("%020b", i)))
		}
		return names
	})},
	{"registered clients", 5_000, func(t testing.TB, n int) func() {
		text := repeated(n, `{"client_id":"c%N","client_name":"Client %N","scope":"openid"}`+"\n")
		return func() {
			list, err := consent.ReadClients(strings.NewReader(text))
			require.NoError(t, err)
			require.Len(t, list, n)
		}
	}},
	{"past consents", 5_000, func(t testing.TB, n int) func() {
		text := "user,client,app,scopes\n" + repeated(n, "u%N,c%N,news,openid\n")
		return func() {
			list, err := consent.ReadPast(strings.NewReader(text), time.UTC, []string{"news"})
			require.NoError(t, err)
			require.Len(t, list, n)
		}
	}},
	{"clients, waiting", 2_000, waiting(func(n int) []string { return strings.Fields(repeated(n, "c%N ")) })},
	{"lines of a log", 5_000, logged(lineOf(`{"subject":{"id":"u%N"},"resource":{"id":"a"},"context":{"time":"2026-11-23T08:15:00Z","id":"s%N"}}` + "\n"))},
}

func calendar(events func(int) string) func(testing.TB, int) func() {
	return loading("", "schedule s { mon-sun 06:00-20:00 except calendar \"c.ics\" }\n", "c.ics", func(n int) string { return "BEGIN:VCALENDAR\n" + events(n) + "END:VCALENDAR\n" })
}

// waiting lists what waits in a ledger that many clients asked.
func waiting(names func(n int) []string) func(testing.TB, int) func() {
	return func(t testing.TB, n int) func() {
		rules, err := briskwarden.OpenFS(fstest.MapFS{"rulebook.warden": {Data: []byte("rulebook r { floor none }\nuser ann { }\nuser rev { groups r }\napp news { }\n" +
			"policy c { who everyone to everything doing consent otherwise => review by group r }\n")}}, briskwarden.WithClock(func() time.Time { return oracleEpoch }))
		require.NoError(t, err)
		l := consent.New(consent.NewMemory(), rules)
		for _, name := range names(n) {
			_, err := l.Ask(t.Context(), signon.SignOn{User: "ann", App: "news", Consent: &signon.Consent{Client: name, Scopes: []string{"x"}}})
			require.NoError(t, err)
		}
		return func() {
			list, err := l.Waiting(t.Context())
			require.NoError(t, err)
			require.Len(t, list, n)
		}
	}
}

// logged replays a log, as the command does.
func logged(log func(int) string) func(testing.TB, int) func() {
	return func(t testing.TB, n int) func() {
		dir := t.TempDir()
		require.NoError(t, os.WriteFile(dir+"/rulebook.warden", []byte("rulebook r { unmatched grant floor none }\napp a { }\nuser u0 { }\n"), 0o600))
		text := log(n)
		return func() {
			status := cli.Main([]string{"replay", "-r", dir, "-"}, cli.Streams{In: strings.NewReader(text), Out: io.Discard, Err: &bytes.Buffer{}})
			require.Zero(t, status)
		}
	}
}

// ratio is how much longer twice as much takes, on average of two doublings, since with one of them
// what is looked at may just leave the processor's caches: by the shortest of some turns of each,
// between which the garbage is collected and not while they run.
func (g *growing) ratio(t testing.TB, times int) (ratio float64) {
	small, large := g.grow(t, g.items*times/2), g.grow(t, 2*g.items*times)
	defer debug.SetGCPercent(debug.SetGCPercent(-1))
	shortest := [2]time.Duration{1 << 62, 1 << 62}
	for range 3 {
		for i, timed := range []func(){small, large} {
			runtime.GC()
			start := time.Now()
			timed()
			shortest[i] = min(shortest[i], time.Since(start))
		}
	}
	return math.Sqrt(float64(shortest[1]) / float64(shortest[0]))
}

// mostRatio is the bound. What grows with the square takes four times as long; a busy machine makes
// it look like less than three.
const mostRatio = 2.5

// TestTwiceAsMuch grows every list.
func TestTwiceAsMuch(t *testing.T) {
	for _, g := range lists {
		best := 100.0
		for attempt := 0; attempt < 30 && best > mostRatio; attempt++ { // others keep the machine busy at times
			best = min(best, g.ratio(t, 1))
		}
		if testing.Verbose() {
			t.Logf("%-60s %.2f", g.name, best)
		}
		require.LessOrEqual(t, best, mostRatio, "twice as many %s take %.1f times as long", g.name, best)
	}
}

var growthTimes = flag.Int("growth.times", 4, "how many times the size of the test the benchmark grows")

// BenchmarkTwiceAsMuch tells of each list how much longer twice as much takes.
func BenchmarkTwiceAsMuch(b *testing.B) {
	for _, g := range lists {
		b.Run(strings.NewReplacer(" ", "-", ",", "").Replace(g.name), func(b *testing.B) {
			best := 100.0
			for b.Loop() {
				best = min(best, g.ratio(b, *growthTimes))
			}
			b.ReportMetric(best, "×half")
			b.ReportMetric(0, "ns/op")
		})
	}
}
