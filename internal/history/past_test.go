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
	seconds := func(t time.Time) int { h, m, s := t.In(oslo).Clock(); return h*3600 + m*60 + s }
	newCountry, newDevice := true, true
	for i := range learned {
		s := &learned[i]
		if s.User != q.User || !s.At.Before(q.At) || s.At.Before(q.At.Add(-90*24*time.Hour)) {
			continue
		}
		f.Learned++
		apart := seconds(s.At) - seconds(q.At)
		if apart < 0 {
			apart = -apart
		}
		if min(apart, 86400-apart) <= 3600 {
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
	require.Equal(t, 19968, history.BytesPerUser)
	past := history.NewPast(time.UTC)
	country := func(i int) string { return string([]byte{byte('A' + i/26%26), byte('A' + i%26)}) }
	var before, after runtime.MemStats
	const users, each = 20, 8_000
	runtime.GC()
	runtime.ReadMemStats(&before)
	for u := range users {
		for i := range each {
			q := history.Query{User: fmt.Sprint("u", u), At: noon.Add(time.Duration(i-each) * 5 * time.Minute), Country: country(i / 400), Device: fmt.Sprint("d", i/100)}
			past.Learn(&history.SignOn{Query: q})
		}
	}
	runtime.GC()
	runtime.ReadMemStats(&after)
	require.Less(t, float64(after.HeapAlloc-before.HeapAlloc), 1.3*users*history.BytesPerUser)
	ask := func(i int, device int) history.Facts {
		return past.Before(&history.Query{User: "u7", At: noon, Country: country(i / 400), Device: fmt.Sprint("d", device)})
	}
	f := ask(each-1, (each-1)/100)
	require.Equal(t, []any{known.False, known.False, 512}, []any{f.NewCountry, f.NewDevice, f.Learned})
	f = ask(each-5000, (each-5000)/100)
	require.Equal(t, []any{known.False, known.False}, []any{f.NewCountry, f.NewDevice}, "countries and devices are remembered for longer")
	require.Equal(t, known.True, ask(0, 0).NewDevice, "and then forgotten, which can only tighten")
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
		})
		return got, passed, err
	}
	got, passed, err := read("\ufeff" + line("ann", when+`,"id":"1","ip":"192.0.2.7"`) + "\r\n" + line("ann", when+`,"outcome":"block"`) +
		line("bob", when+`,"outcome":"grant","ip":"::ffff:192.0.2.7","country":"PT","device":{"id":"tab","managed":true},"session":null`))
	require.NoError(t, err)
	require.Equal(t, []string{"1annNO", "bobPTtab"}, got)
	require.Equal(t, 1, passed)
	for text, want := range map[string]string{
		"{}\n": "line 1: subject.id: is missing", line("a", ""): "line 1: context.time: is missing", line("a", when) + line("a", `"time":"today"`): "line 2: context.time: ",
		line("a", when+`,"ip":"here"`): "line 1: context.ip: ", line("a", when+`,"country":"XX"`): `there is no country "XX"`, line("a", when+`,"outcome":"ok"`): `context.outcome: "ok" is no outcome`,
		line("a", when)[:30]: "line 1: it ends in the middle", "[]": "expected an object, found an array", line("a\xff", when): "is not UTF-8",
		line("a", `"device":7`): "/context/device: expected an object, found a number",
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
	_, err := history.ReadLog(&logOf{lines: b.N}, place.Atlas{feed}, func(s history.SignOn) { past.Learn(&s) })
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
