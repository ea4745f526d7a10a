package history_test

import (
	"fmt"
	"io"
	"math/rand/v2"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"briskwarden.example/briskwarden/internal/history"
	"briskwarden.example/briskwarden/internal/known"
	"briskwarden.example/briskwarden/internal/place"
)

var (
	oslo, _ = time.LoadLocation("Europe/Oslo")
	noon    = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)
)

func at(lat, long, radius float64) place.Location {
	return place.Location{Positioned: true, Latitude: lat, Longitude: long, AccuracyKM: radius}
}

// naive says the same from a list of all that was learned, straight from the definition.
func naive(learned []history.SignOn, q history.Query) (f history.Facts) {
	near := 0
	var last *history.SignOn
	clock := func(t time.Time) time.Duration {
		t = t.In(oslo)
		return time.Duration(t.Hour())*time.Hour + time.Duration(t.Minute())*time.Minute + time.Duration(t.Second())*time.Second + time.Duration(t.Nanosecond())
	}
	newCountry, newDevice := true, true
	for i := range learned {
		s := &learned[i]
		if s.User != q.User || !s.At.Before(q.At) || s.At.Before(q.At.Add(-90*24*time.Hour)) {
			continue
		}
		f.Learned++
		apart := (clock(s.At) - clock(q.At)).Abs()
		if min(apart, 24*time.Hour-apart) <= time.Hour {
			near++
		}
		newCountry, newDevice = newCountry && s.Country != q.Country, newDevice && s.Device != q.Device
		if s.Place.Positioned && (last == nil || !s.At.Before(last.At)) {
			last = s
		}
	}
	f.AroundNow = near
	f.OddHour = known.Of(f.Learned >= 20 && near*100 < 2*f.Learned)
	if q.Country != "" {
		f.NewCountry = known.Of(newCountry)
	}
	if q.Device != "" {
		f.NewDevice = known.Of(newDevice)
	}
	if f.TravelKnown = q.Place.Positioned; f.TravelKnown && last != nil {
		km := place.Kilometres(last.Place.Latitude, last.Place.Longitude, q.Place.Latitude, q.Place.Longitude)
		f.TravelSpeed = max(0, km-last.Place.AccuracyKM-q.Place.AccuracyKM) / q.At.Sub(last.At).Hours()
	}
	return f
}

// TestPastAgreesWithTheDefinition learns and asks at random, out of order too, at whole seconds that never meet.
func TestPastAgreesWithTheDefinition(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 4))
	for range 60 {
		past := history.NewPast(oslo)
		var learned []history.SignOn
		random := func() history.Query {
			q := history.Query{User: fmt.Sprint("u", r.IntN(3)), At: noon.Add(-time.Duration(r.IntN(120*24*3600)) * time.Second),
				Country: []string{"", "NO", "PT", "DK"}[r.IntN(4)], Device: []string{"", "a", "b", "c"}[r.IntN(4)]}
			if r.IntN(2) == 0 { // many at the same time of day
				q.At = q.At.Truncate(24 * time.Hour).Add(time.Duration(r.IntN(600)) * time.Second)
			}
			if r.IntN(3) > 0 {
				q.Place = at(r.Float64()*180-90, r.Float64()*360-180, float64(r.IntN(100)))
			}
			return q
		}
		for i := range 200 + r.IntN(200) {
			if i == 100 {
				for _, before := range learned { // what a branch began with, it knows
					branch := past.Branch()
					require.False(t, branch.Learn(&before), "an id of what it began with")
					before.Query = history.Query{User: before.User + "'", At: before.At}
					require.True(t, branch.Learn(&before), "the same id of another user is another")
				}
				past = past.Branch()
			}
			s := history.SignOn{Query: random(), ID: fmt.Sprint("s", i)}
			if slices.ContainsFunc(learned, func(o history.SignOn) bool { return o.At.Equal(s.At) }) {
				continue
			}
			require.True(t, past.Learn(&s))
			again := random()
			again.User = s.User
			require.False(t, past.Learn(&history.SignOn{Query: again, ID: s.ID}), "the same id of a user teaches once")
			learned = append(learned, s)
		}
		for range 200 {
			q := random()
			q.At = q.At.Add(time.Second / 2)
			lean := past.Before(&q)
			q.Counts = true
			want, got := naive(learned, q), past.Before(&q)
			require.LessOrEqual(t, lean.AroundNow, got.AroundNow)
			lean.AroundNow = got.AroundNow
			require.Equal(t, got, lean, "counting makes no difference but in what is counted")
			require.Equal(t, []any{want.NewCountry, want.NewDevice, want.OddHour, want.Learned, want.AroundNow, want.TravelKnown},
				[]any{got.NewCountry, got.NewDevice, got.OddHour, got.Learned, got.AroundNow, got.TravelKnown}, "%+v", q)
			require.InDelta(t, want.TravelSpeed, got.TravelSpeed, 1e-3*(1+want.TravelSpeed))
		}
	}
}

func TestTravel(t *testing.T) {
	past := history.NewPast(time.UTC)
	bergen, lisbon := at(60.39, 5.32, 20), at(38.72, -9.14, 30)
	ask := func(minutes int, where place.Location) history.Facts {
		return past.Before(&history.Query{User: "ann", At: noon.Add(time.Duration(minutes) * time.Minute), Place: where})
	}
	first := ask(0, bergen)
	require.True(t, first.TravelKnown)
	require.Zero(t, first.TravelSpeed, "no earlier position")
	require.False(t, ask(0, place.Location{}).TravelKnown)
	past.Learn(&history.SignOn{Query: history.Query{User: "ann", At: noon, Place: bergen}})
	past.Learn(&history.SignOn{Query: history.Query{User: "ann", At: noon.Add(time.Minute)}}) // has no position
	require.Zero(t, ask(101*24*60, lisbon).Learned, "all of it is too long ago")
	again := history.Query{User: "ann", At: noon.Add(time.Hour)}
	require.Equal(t, 2, past.Before(&again).Learned)
	again.At = noon.Add(-time.Hour)
	require.Zero(t, past.Before(&again).Learned, "the same query is asked about another time")
	require.InDelta(t, 2616-50, ask(60, lisbon).TravelSpeed, 15)
	require.InDelta(t, (2616-50)/2, ask(120, lisbon).TravelSpeed, 8)
	require.Zero(t, ask(60, at(60.3, 5.2, 20)).TravelSpeed, "within the radii")
	require.Equal(t, float64(history.AtOnce), ask(0, lisbon).TravelSpeed, "in two places at once")
	require.Zero(t, ask(0, bergen).TravelSpeed, "itself, learned already, is not elsewhere")
	require.Zero(t, ask(-1, lisbon).TravelSpeed, "what comes later does not count")
	require.Zero(t, ask(90*24*60+1, lisbon).TravelSpeed, "nor does what is older than 90 days")
	require.Positive(t, ask(90*24*60, lisbon).TravelSpeed)
}

// TestMemoryIsBounded lets users sign on 8,000 times from ever new devices and all countries.
func TestMemoryIsBounded(t *testing.T) {
	require.Equal(t, 92264, history.BytesPerUser)
	past := history.NewPast(time.UTC)
	country := func(i int) string { return string([]byte{byte('A' + i/26%26), byte('A' + i%26)}) }
	var before, after runtime.MemStats
	const users, each = 20, 8_000
	runtime.GC()
	runtime.ReadMemStats(&before)
	for u := range users {
		for i := range each {
			q := history.Query{User: fmt.Sprint("u", u), At: noon.Add(time.Duration(i-each) * 5 * time.Minute), Country: country(i / 400), Device: fmt.Sprint("d", i/50)}
			past.Learn(&history.SignOn{Query: q})
		}
	}
	runtime.GC()
	runtime.ReadMemStats(&after)
	require.Less(t, float64(after.HeapAlloc-before.HeapAlloc), 1.3*users*float64(history.BytesPerUser))
	ask := func(i int, device int) history.Facts {
		return past.Before(&history.Query{User: "u7", At: noon, Country: country(i / 400), Device: fmt.Sprint("d", device)})
	}
	f := ask(each-1, (each-1)/50)
	require.Equal(t, []any{known.False, known.False, each}, []any{f.NewCountry, f.NewDevice, f.Learned})
	f = ask(each-5000, (each-5000)/50)
	require.Equal(t, []any{known.False, known.False}, []any{f.NewCountry, f.NewDevice}, "countries and devices are remembered for longer")
	require.Equal(t, known.Unknown, ask(0, 0).NewDevice, "and then forgotten, so that nothing is known")
	require.Equal(t, known.False, ask(0, 0).NewCountry)
}

// TestWhatIsForgottenIsUnknown teaches far more than is kept, some of it late, and asks about times
// in between too: whatever is told is what the definition says, or unknown.
func TestWhatIsForgottenIsUnknown(t *testing.T) {
	r := rand.New(rand.NewPCG(8, 1))
	told, unknown := 0, 0
	for round := range 14 {
		past := history.NewPast(oslo)
		var learned []history.SignOn
		n := []int{1_900, 2_100, 4_000, 7_000, 600}[round%5]
		days := []int{80, 150, 400}[round%3]
		rare := r.IntN(24) // an hour at which little happens
		random := func(i int) history.Query {
			q := history.Query{User: "u", At: noon.Add(time.Duration(float64(i-n)/float64(n)*float64(days)*24) * time.Hour).Add(time.Duration(r.IntN(3_600_000)) * time.Millisecond),
				Country: []string{"", "NO", "PT", string([]byte{byte('A' + r.IntN(26)), byte('A' + i*26/n)})}[r.IntN(4)], Device: fmt.Sprint("d", i/25)}
			if q.At.In(oslo).Hour() == rare && r.IntN(3) > 0 {
				q.At = q.At.Add(4 * time.Hour)
			}
			if r.IntN(40) == 0 {
				q.Place = at(r.Float64()*180-90, r.Float64()*360-180, float64(r.IntN(100)))
			}
			return q
		}
		for i := range n {
			s := history.SignOn{Query: random(i)}
			if r.IntN(50) == 0 { // late
				s.At = s.At.Add(-time.Duration(r.IntN(20*24)) * time.Hour)
			}
			past.Learn(&s)
			learned = append(learned, s)
			if i == n/2 {
				past = past.Branch()
			}
		}
		for range 60 {
			q := random(n - r.IntN(1+r.IntN(n)))
			q.Counts = r.IntN(2) == 0
			if r.IntN(3) == 0 {
				q.Place = at(10, 10, 0)
			}
			want, got := naive(learned, q), past.Before(&q)
			for i, fact := range [][2]known.Truth{{want.NewCountry, got.NewCountry}, {want.NewDevice, got.NewDevice}, {want.OddHour, got.OddHour}} {
				if fact[1] == known.Unknown && fact[0] != known.Unknown {
					unknown++
					require.False(t, n < 2_000 && days < 100, "everything is kept")
					continue
				}
				told++
				require.Equal(t, fact[0], fact[1], "fact %d, round %d: %+v, %+v", i, round, want, got)
			}
			require.LessOrEqual(t, got.Learned, want.Learned)
			require.True(t, got.Forgotten || got.Learned == want.Learned, "%+v, %+v", want, got)
			if want.TravelKnown && got.TravelKnown {
				require.InDelta(t, want.TravelSpeed, got.TravelSpeed, 1e-3*(1+want.TravelSpeed))
			}
			require.Equal(t, want.TravelKnown, got.TravelKnown || got.Strayed)
		}
	}
	require.Greater(t, told, 3*unknown, "mostly it is known: %d, %d", told, unknown)
	require.Greater(t, unknown, 20)
}

// TestNothingForgottenLoosens are sign-ons that were pushed out of memory, and let an odd hour pass.
func TestNothingForgottenLoosens(t *testing.T) {
	learn := func(past *history.Past, n int, from time.Time, every time.Duration, where place.Location) {
		for i := range n {
			past.Learn(&history.SignOn{Query: history.Query{User: "ann", At: from.Add(time.Duration(i) * every), Place: where}})
		}
	}
	ask := func(past *history.Past, at time.Time, where place.Location) history.Facts {
		return past.Before(&history.Query{User: "ann", At: at, Place: where})
	}
	night := noon.Add(20*24*time.Hour + 15*time.Hour) // 03:00
	past := history.NewPast(time.UTC)
	learn(past, 20, noon, 24*time.Hour, place.Location{})
	require.Equal(t, known.True, ask(past, night, place.Location{}).OddHour)
	learn(past, 512, noon.AddDate(1, 0, 0), time.Minute, place.Location{})
	require.NotEqual(t, known.False, ask(past, night, place.Location{}).OddHour, "they are of a year later")

	past = history.NewPast(time.UTC) // 11 near of 1,000, and those are the oldest
	learn(past, 11, night.AddDate(0, 0, -60), time.Minute, place.Location{})
	learn(past, 989, night.AddDate(0, 0, -50).Add(9*time.Hour), 30*time.Second, place.Location{})
	require.Equal(t, known.True, ask(past, night, place.Location{}).OddHour)
	learn(past, 60_000, night.AddDate(0, 0, -40).Add(9*time.Hour), time.Second/4, place.Location{})
	f := ask(past, night, place.Location{})
	require.Equal(t, []any{known.True, 61_000}, []any{f.OddHour, f.Learned}, "the quarters of hours agree")
	learn(past, 60_000, night.AddDate(0, 0, -35).Add(-time.Minute), time.Second/4, place.Location{})
	require.Equal(t, known.False, ask(past, night, place.Location{}).OddHour, "many were near")
	learn(past, 70_000, night.AddDate(0, 0, -20).Add(9*time.Hour), time.Second/100, place.Location{})
	learn(past, 3_000, night.AddDate(0, 0, -20).Add(10*time.Hour), time.Second, place.Location{})
	require.Equal(t, known.Unknown, ask(past, night, place.Location{}).OddHour, "more in a quarter than are counted")

	past = history.NewPast(time.UTC) // the last position, long ago
	learn(past, 1, night.AddDate(0, 0, -30), time.Minute, at(60, 5, 10))
	learn(past, 4_000, night.AddDate(0, 0, -20), time.Minute, place.Location{})
	require.Positive(t, ask(past, night, at(38, -9, 10)).TravelSpeed)
	learn(past, 1, night.Add(time.Hour), time.Minute, at(60, 5, 10))
	learn(past, 4_000, night.Add(2*time.Hour), time.Minute, place.Location{})
	before := ask(past, night.Add(time.Minute), at(38, -9, 10))
	require.Equal(t, []bool{false, true}, []bool{before.TravelKnown, before.Strayed}, "where the user was before that is forgotten")

	past = history.NewPast(time.UTC) // a device and a country that were seen long ago, and again since
	for _, days := range []int{-100, -80} {
		past.Learn(&history.SignOn{Query: history.Query{User: "ann", At: night.AddDate(0, 0, days), Device: "tab", Country: "NO"}})
	}
	learn(past, 5_000, night.AddDate(0, 0, -30), time.Minute, place.Location{})
	seen := past.Before(&history.Query{User: "ann", At: night, Device: "tab", Country: "NO"})
	require.Equal(t, []known.Truth{known.False, known.False}, []known.Truth{seen.NewDevice, seen.NewCountry}, "the last time counts")

	past = history.NewPast(time.UTC)
	learn(past, 20, noon.Add(-20*24*time.Hour), 24*time.Hour, place.Location{})
	for apart, want := range map[time.Duration]known.Truth{time.Hour: known.False, time.Hour + time.Second/2: known.True, time.Hour + time.Microsecond: known.True,
		-time.Hour: known.False, -time.Hour - time.Second/2: known.True} {
		require.Equal(t, want, ask(past, noon.Add(apart), place.Location{}).OddHour, apart)
	}
}

func TestReadLog(t *testing.T) {
	line := func(user, more string) string {
		return `{"subject":{"type":"user","id":"` + user + `"},"resource":{"id":"news"},"context":{` + more + `}}` + "\n"
	}
	const when = `"time":"2026-11-23T08:00:00Z"`
	var atlas place.Atlas
	feed, _ := place.ReadGeofeed(strings.NewReader("192.0.2.0/24,NO\n"), "f.csv")
	atlas = append(atlas, feed)
	read := func(text string) (got []string, passed int, err error) {
		passed, err = history.ReadLog(strings.NewReader(text), atlas, func(s history.SignOn) {
			got = append(got, fmt.Sprint(s.ID, s.User, s.Country, s.Device))
		}, func(history.Device) {})
		return got, passed, err
	}
	got, passed, err := read("\ufeff" + line("ann", when+`,"id":"1","ip":"192.0.2.7"`) + "\r\n" + line("ann", when+`,"outcome":"block"`) +
		line("bob", when+`,"outcome":"grant","ip":"::ffff:192.0.2.7","country":"PT","device":{"id":"tab","managed":true},"session":null`))
	require.NoError(t, err)
	require.Equal(t, []string{"1annNO", "bobPTtab"}, got)
	require.Equal(t, 1, passed)
	for text, want := range map[string]string{
		line("", when): "line 1: subject.id: is missing", line("a", ""): "line 1: context.time: is missing", line("a", when) + line("a", `"time":"today"`): "line 2: context.time: ",
		line("a", when+`,"ip":"here"`): "line 1: context.ip: ", line("a", when+`,"country":"XX"`): `context.country: "XX" is no country`, line("a", when+`,"outcome":"ok"`): `context.outcome: "ok" is none of grant`,
		line("a", when)[:30]: "line 1: subject.id: not JSON: unexpected EOF", "[]": "expected an object, found an array", line("a\xff", when): "line 1: subject.id: not JSON: invalid UTF-8",
		line("a", `"device":7`): "context.device: expected",
	} {
		_, _, err := read(text)
		require.ErrorContains(t, err, want, text)
	}
}

func TestConcurrentLearning(t *testing.T) {
	base := history.NewPast(time.UTC)
	base.Learn(&history.SignOn{Query: history.Query{User: "u0", At: noon, Country: "NO"}})
	past := base.Branch()
	var wg sync.WaitGroup
	for w := range 8 {
		wg.Go(func() {
			for i := range 2000 {
				q := history.Query{User: fmt.Sprint("u", (w+i)%5), At: noon.Add(time.Duration(i) * time.Second), Country: "DK"}
				past.Before(&q)
				past.Learn(&history.SignOn{Query: q, ID: fmt.Sprint(w, "-", i)})
			}
		})
	}
	wg.Wait()
	q := history.Query{User: "u0", At: noon.Add(time.Hour), Country: "DK"}
	require.Equal(t, known.False, past.Before(&q).NewCountry)
	other := history.NewPast(oslo)
	other.Learn(&history.SignOn{Query: q})
	q.At = q.At.Add(time.Hour)
	require.Equal(t, 1, other.Before(&q).Learned, "what one history found of a query is not another's")
	require.Equal(t, known.True, base.Before(&q).NewCountry, "what a branch learns stays in it")
}

// logOf makes up the lines of a log as they are read: 10,000 users, one sign-on every 7 seconds.
type logOf struct {
	lines, made int
	rest        []byte
}

// Read makes further lines.
func (l *logOf) Read(p []byte) (int, error) {
	if len(l.rest) == 0 {
		if l.made == l.lines {
			return 0, io.EOF
		}
		l.rest = fmt.Appendf(l.rest[:0], `{"subject":{"type":"user","id":"user.%d"},"action":{"name":"sign-on"},"resource":{"type":"app","id":"crew-roster"},"context":{"id":"s-%09d",`+
			`"time":"%s","ip":"192.0.2.%d","client":"browser","device":{"id":"device-%d","os":"android","version":"14","form":"tablet","managed":true,"encrypted":true},`+
			`"session":{"id":"w-%d","started":"2026-11-23T07:50:00Z"},"presented":["password"],"outcome":"grant"}}`+"\n",
			l.made%10_000, l.made, noon.Add(time.Duration(l.made)*7*time.Second).Format(time.RFC3339), l.made%250, l.made%20_000, l.made)
		l.made++
	}
	n := copy(p, l.rest)
	l.rest = l.rest[n:]
	return n, nil
}

// BenchmarkReadLog reads b.N lines of a log, and tells the bytes that are kept of each of its
// 10,000 users: with -benchtime 10000000x a thousand sign-ons each.
func BenchmarkReadLog(b *testing.B) {
	feed, wrong := place.ReadGeofeed(strings.NewReader("192.0.2.0/24,NO\n"), "f.csv")
	require.Empty(b, wrong)
	past := history.NewPast(oslo)
	_, err := history.ReadLog(&logOf{lines: b.N}, place.Atlas{feed}, func(s history.SignOn) { past.Learn(&s) }, func(history.Device) {})
	require.NoError(b, err)
	var m runtime.MemStats
	runtime.ReadMemStats(&m)
	b.ReportMetric(float64(m.Sys)/(1<<20), "MiB-from-system")
	runtime.GC()
	runtime.ReadMemStats(&m)
	b.ReportMetric(float64(m.HeapAlloc)/10_000, "B/user")
	runtime.KeepAlive(past)
}

// TestIDsAreForgotten learns many more ids than are remembered.
func TestIDsAreForgotten(t *testing.T) {
	past := history.NewPast(time.UTC)
	learn := func(i int) bool {
		return past.Learn(&history.SignOn{ID: strconv.Itoa(i), Query: history.Query{User: "ann", At: noon}})
	}
	const all = history.RememberedIDs * 5 / 2
	for i := range all {
		require.True(t, learn(i))
		if i == 50_000 {
			for j := range i {
				require.False(t, learn(j), "all are known while they are few")
			}
		}
	}
	require.False(t, learn(all-history.RememberedIDs/2), "the last are known")
	require.True(t, learn(0), "the first is not, or memory would grow for ever")
}
