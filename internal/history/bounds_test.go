package history_test

import (
	"fmt"
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"briskwarden.example/briskwarden/internal/history"
	"briskwarden.example/briskwarden/internal/known"
	"briskwarden.example/briskwarden/internal/place"
)

const (
	window  = 90 * 24 * time.Hour
	kept    = window + 30*24*time.Hour
	quarter = 15 * time.Minute
	micro   = time.Microsecond
)

// crowded is a history out of whose full memory the first sign-ons were pushed by 2,048 later ones, at a time of day of their own.
func crowded(zone *time.Location, fillers time.Time, first ...history.Query) *history.Past {
	past := history.NewPast(zone)
	for _, q := range first {
		past.Learn(&history.SignOn{Query: q})
	}
	for i := range 2048 {
		past.Learn(&history.SignOn{Query: history.Query{User: "ann", At: fillers.Add(time.Duration(i) * time.Second)}})
	}
	return past
}

func several(n int, from time.Time, every time.Duration) (list []history.Query) {
	for i := range n {
		list = append(list, history.Query{User: "ann", At: from.Add(time.Duration(i) * every)})
	}
	return list
}

func asked(past *history.Past, at time.Time) history.Facts {
	return past.Before(&history.Query{User: "ann", At: at, Counts: true})
}

// TestQuartersOfAnHour asks of sign-ons of which only the quarter of an hour is left, second by second around an hour from it: they are
// near, or not, or that is not known, whatever the clock, midnight included.
func TestQuartersOfAnHour(t *testing.T) {
	for _, zone := range []*time.Location{time.UTC, time.FixedZone("crooked", 7*60), time.FixedZone("west", -(11*3600 + 52*60))} {
		for _, start := range []time.Duration{12 * time.Hour, 0, 23*time.Hour + 45*time.Minute} {
			q := time.Date(2026, 9, 20, 0, 0, 0, 0, time.UTC).Add(start)
			past := crowded(zone, q.Add(48*time.Hour+11*time.Hour), several(30, q, 30*time.Second)...)
			for _, apart := range []int{-4501, -4500, -4499, -3601, -3600, -3599, -1800, -1, 0, 1, 2699, 2700, 2701, 3599, 3600, 3601, 4500} {
				f := asked(past, q.Add(10*24*time.Hour-time.Duration(apart)*time.Second))
				all, some := apart >= -3599 && apart+900 <= 3600, apart <= 3600 && apart+900 > -3600 // of now's whole second
				near := map[bool]int{true: 30, false: 0}[all]
				require.Equal(t, []any{2078, near, some && !all}, []any{f.Learned, f.AroundNow, f.Forgotten}, "%s, %s, %d", zone, start, apart)
			}
		}
	}
}

// TestWindowOfQuarters asks when a quarter of an hour, of which only the count is left, comes into the window and leaves it.
func TestWindowOfQuarters(t *testing.T) {
	q := time.Date(2026, 9, 20, 9, 0, 0, 0, time.UTC)
	past := crowded(time.UTC, q.Add(100*24*time.Hour), several(30, q, 30*time.Second)...)
	for at, want := range map[time.Time][]any{
		q.Add(-micro):                   {0, false},
		q.Add(micro):                    {0, true}, // perhaps some of them
		q.Add(quarter - micro):          {0, true},
		q.Add(quarter):                  {30, false},
		q.Add(window):                   {30, false},
		q.Add(window + micro):           {0, true},
		q.Add(window + quarter - micro): {0, true},
		q.Add(window + quarter):         {0, false},
	} {
		f := asked(past, at)
		require.Equal(t, want, []any{f.Learned, f.Forgotten}, at)
	}
}

// TestOddWhateverWasForgotten counts sign-ons that surely were near, perhaps, or not at all, those of the quarter that has only begun, and those of
// the quarter in which the window begins, before the clock was put back: an odd hour is told where every way in which they may have
// been says so.
func TestOddWhateverWasForgotten(t *testing.T) {
	r := rand.New(rand.NewPCG(5, 6))
	now := time.Date(2026, 11, 20, 3, 7, 0, 0, oslo)
	day := now.AddDate(0, 0, -20)
	counts := map[known.Truth]int{}
	for range 600 {
		near, perhaps, apart, begun, edge := r.IntN(4), r.IntN(3), r.IntN(130), r.IntN(3), r.IntN(3)
		if r.IntN(3) == 0 {
			near, perhaps, begun, edge = r.IntN(2), r.IntN(20), r.IntN(20), r.IntN(20)
		}
		first := several(edge, now.Add(-window).Truncate(quarter), time.Second)
		first = append(first, several(near, day.Truncate(quarter), time.Second)...)
		first = append(first, several(perhaps, day.Truncate(quarter).Add(time.Hour), time.Second)...)
		first = append(first, several(apart, day.Truncate(quarter).Add(9*time.Hour), time.Second)...)
		past := crowded(oslo, now.AddDate(0, 0, 1), append(first, several(begun, now.Truncate(quarter), time.Second)...)...) // later than now
		some, every := false, true
		for p := range perhaps + 1 {
			for b := range begun + 1 {
				for e := range edge + 1 { // of those of the edge so many lie in the window,
					for n := range e + 1 { // and so many of them near
						learned := near + perhaps + apart + b + e
						odd := learned >= 20 && (near+p+b+n)*100 < 2*learned
						some, every = some || odd, every && odd
					}
				}
			}
		}
		want := map[[2]bool]known.Truth{{true, true}: known.True, {true, false}: known.Unknown, {false, false}: known.False}[[2]bool{some, every}]
		f := past.Before(&history.Query{User: "ann", At: now})
		require.Equal(t, []any{want, perhaps+begun+edge > 0}, []any{f.OddHour, f.Forgotten}, "near %d, perhaps %d, apart %d, begun %d, edge %d", near, perhaps, apart, begun, edge)
		counts[want]++
	}
	require.Len(t, counts, 3, "each of the answers is tried")
}

// TestEdgeOfTheWindowApart has sign-ons that are perhaps in the window and surely not near: where the clock was put forward two
// hours since. With them there are enough for an odd hour, and without there are not.
func TestEdgeOfTheWindowApart(t *testing.T) {
	troll, err := time.LoadLocation("Antarctica/Troll")
	require.NoError(t, err)
	now := time.Date(2026, 5, 10, 12, 7, 0, 0, troll)
	for n, want := range map[int]known.Truth{17: known.False, 18: known.Unknown, 19: known.Unknown, 20: known.True} {
		first := append(several(2, now.Add(-window).Truncate(quarter), time.Second), several(n, now.AddDate(0, 0, -20).Add(-9*time.Hour), time.Second)...)
		f := crowded(troll, now.AddDate(0, 0, 1), first...).Before(&history.Query{User: "ann", At: now})
		require.Equal(t, []any{want, true}, []any{f.OddHour, f.Forgotten}, n)
	}
}

// TestNearIsNotCutShort has a few near in full memory, and far more apart that are only counts.
func TestNearIsNotCutShort(t *testing.T) {
	now := time.Date(2026, 11, 20, 12, 0, 0, 0, time.UTC)
	past := history.NewPast(time.UTC)
	for _, q := range append(several(50_000, now.AddDate(0, 0, -20).Add(-9*time.Hour), 50*time.Millisecond), several(2048, now.AddDate(0, 0, -1), time.Second)...) {
		past.Learn(&history.SignOn{Query: q})
	}
	require.Equal(t, known.False, past.Before(&history.Query{User: "ann", At: now}).OddHour, "2,048 of 52,048 are near")
}

// TestPartsOfASecond: an hour is an hour, whichever side of midnight.
func TestPartsOfASecond(t *testing.T) {
	for _, c := range []struct {
		learned, asked string
		near           bool
	}{
		{"12:00:00.5", "11:00:00", false}, {"12:00:00.5", "11:00:00.5", true}, {"12:00:00", "11:00:00.5", true}, {"12:00:00", "13:00:00.5", false}, {"12:00:00.5", "13:00:00", true},
		{"23:30:00.5", "00:30:00", true}, {"23:30:00", "00:30:00.5", false}, {"23:30:00.5", "00:30:00.5", true}, {"00:30:00.5", "23:30:00", false}, {"00:30:00", "23:30:00.5", true},
		{"00:30:00.5", "23:30:00.5", true}, {"23:30:00", "00:29:59", true}, {"00:29:59", "23:30:00", true}, {"23:30:00", "00:30:01", false}, {"00:30:01", "23:30:00", false},
	} {
		clock := func(text string, days int) time.Time {
			at, err := time.Parse("15:04:05.999", text)
			require.NoError(t, err)
			return time.Date(2026, 11, 1+days, at.Hour(), at.Minute(), at.Second(), at.Nanosecond(), time.UTC)
		}
		past := history.NewPast(time.UTC)
		for i := range 20 {
			past.Learn(&history.SignOn{Query: history.Query{User: "ann", At: clock(c.learned, i)}})
		}
		require.Equal(t, known.Of(!c.near), asked(past, clock(c.asked, 25)).OddHour, "%s and %s", c.learned, c.asked)
	}
}

// TestWhatGaveWay pushes countries and devices out of what is left: whether one is new is unknown as long as it may have been among them.
func TestWhatGaveWay(t *testing.T) {
	begin := time.Date(2026, 8, 1, 9, 0, 0, 0, time.UTC)
	var first []history.Query
	for i := range 66 { // of countries 32 are left, of devices 64
		q := history.Query{User: "ann", At: begin.Add(time.Duration(i) * time.Hour), Device: fmt.Sprint("d", i)}
		if i < 33 {
			q.Country = string([]byte{byte('A' + i/26), byte('A' + i%26)})
		}
		first = append(first, q)
	}
	past := crowded(time.UTC, begin.AddDate(0, 0, 60), first...)
	ask := func(country, device string, at time.Time) []known.Truth {
		f := past.Before(&history.Query{User: "ann", At: at, Country: country, Device: device})
		return []known.Truth{f.NewCountry, f.NewDevice}
	}
	later := begin.AddDate(0, 0, 80)
	require.Equal(t, []known.Truth{known.Unknown, known.Unknown}, ask("ZZ", "other", begin.Add(window)))
	require.Equal(t, []known.Truth{known.True, known.Unknown}, ask("ZZ", "other", begin.Add(window+micro)), "the country that gave way was seen before")
	require.Equal(t, []known.Truth{known.True, known.Unknown}, ask("ZZ", "other", begin.Add(window+time.Hour)), "two devices gave way")
	require.Equal(t, []known.Truth{known.True, known.True}, ask("ZZ", "other", begin.Add(window+time.Hour+micro)))
	require.Equal(t, []known.Truth{known.False, known.False}, ask("AB", "d2", later), "the second is left")
	require.Equal(t, []known.Truth{known.Unknown, known.Unknown}, ask("AA", "d1", later))

	f := past.Before(&history.Query{User: "ann", At: begin.Add(window + time.Hour), Country: "AB"})
	require.Equal(t, []any{known.False, begin.Add(time.Hour)}, []any{f.NewCountry, f.CountrySeen}, "90 days are in the window")
	f = past.Before(&history.Query{User: "ann", At: begin.Add(window + time.Hour + micro), Country: "AB"})
	require.Equal(t, known.True, f.NewCountry)
	f = past.Before(&history.Query{User: "ann", At: begin.Add(time.Hour), Country: "AB"})
	require.Equal(t, known.Unknown, f.NewCountry, "that it was seen now hides whether it was before")
	f = past.Before(&history.Query{User: "ann", At: begin.Add(time.Hour + micro), Country: "AB"})
	require.Equal(t, known.False, f.NewCountry)
}

// TestTooOldToMatter keeps few sign-ons however old they are, and of more those that are not 120 days older than the last.
func TestTooOldToMatter(t *testing.T) {
	old := time.Date(2026, 1, 1, 9, 0, 0, 0, time.UTC)
	for _, c := range []struct {
		all       int
		apart     time.Duration
		forgotten bool
	}{{512, kept, false}, {512, kept + micro, true}, {511, kept + micro, false}, {600, kept + micro, true}} {
		past := history.NewPast(time.UTC)
		for _, q := range append(several(1, old, 0), several(c.all-1, old.Add(c.apart), 0)...) {
			past.Learn(&history.SignOn{Query: q})
		}
		past.Learn(&history.SignOn{Query: history.Query{User: "ann", At: old.Add(c.apart)}})
		f := asked(past, old.Add(time.Hour))
		require.Equal(t, []any{c.forgotten, map[bool]int{true: 0, false: 1}[c.forgotten]}, []any{f.Forgotten, f.Learned}, "%+v", c)
		f = asked(past, old.Add(window))
		require.Equal(t, c.forgotten, f.Forgotten, "%+v", c)
		require.False(t, asked(past, old.Add(window+micro)).Forgotten, "%+v", c)
	}
}

// TestRingOfQuarters lets the ring of counts come round: what falls out of it is not known, to the end of its quarter.
func TestRingOfQuarters(t *testing.T) {
	first := time.Date(2026, 1, 1, 9, 0, 0, 0, time.UTC)
	const before = 10 * 24 * time.Hour
	for apart, lost := range map[time.Duration]time.Duration{kept - quarter: 0, kept: quarter, kept + quarter: quarter, kept + 5*quarter: quarter, kept + before: before + quarter} {
		past := history.NewPast(time.UTC)
		list := append(several(5, first, time.Second), several(2048, first.Add(before), 0)...)
		for _, q := range append(list, several(2*2048, first.Add(apart), 0)...) { // none is so old that it goes for that
			past.Learn(&history.SignOn{Query: q})
		}
		f := asked(past, first.AddDate(0, 0, 1))
		require.Equal(t, []any{lost > 0, map[bool]int{true: 0, false: 5}[lost > 0]}, []any{f.Forgotten, f.Learned}, apart)
		end := first.Add(max(lost, quarter) - micro)
		require.True(t, asked(past, end.Add(window)).Forgotten, apart)
		require.False(t, asked(past, end.Add(window+micro)).Forgotten, apart)
	}
}

// TestFullQuarter counts 65,535 sign-ons of one quarter of an hour, and knows that there were more.
func TestFullQuarter(t *testing.T) {
	q := time.Date(2026, 9, 20, 9, 0, 0, 0, time.UTC)
	for n, more := range map[int]bool{65_535: false, 65_536: true} {
		f := asked(crowded(time.UTC, q.Add(24*time.Hour), several(n, q, 10*time.Millisecond)...), q.Add(10*24*time.Hour))
		require.Equal(t, []any{more, 65_535 + 2048}, []any{f.Forgotten, f.Learned}, n)
	}
}

// TestLastPositions: of two at one time the later learned counts, in full memory and in what is left.
func TestLastPositions(t *testing.T) {
	begin := time.Date(2026, 9, 1, 9, 0, 0, 0, time.UTC)
	placed := func(at time.Time, where place.Location) history.Query {
		return history.Query{User: "ann", At: at, Place: where}
	}
	bergen, lisbon := at(60.39, 5.32, 20), at(38.72, -9.14, 30)
	list := []history.Query{placed(begin, bergen), placed(begin, lisbon)}
	full := history.NewPast(time.UTC)
	for _, q := range list {
		full.Learn(&history.SignOn{Query: q})
	}
	left := crowded(time.UTC, begin.AddDate(0, 0, 100), list...)
	for name, past := range map[string]*history.Past{"full": full, "left": left} {
		ask := func(at time.Time, where place.Location) history.Facts {
			q := placed(at, where)
			return past.Before(&q)
		}
		f := ask(begin.Add(time.Hour), lisbon)
		require.Equal(t, []any{true, 0.0, begin}, []any{f.TravelKnown, f.TravelSpeed, f.TravelSince}, name)
		require.Positive(t, ask(begin.Add(time.Hour), bergen).TravelSpeed, name)
		require.Positive(t, ask(begin.Add(window), bergen).TravelSpeed, name)
		f = ask(begin.Add(window+micro), bergen)
		require.Equal(t, []any{true, 0.0, time.Time{}}, []any{f.TravelKnown, f.TravelSpeed, f.TravelSince}, name)
	}
	f := left.Before(&history.Query{User: "ann", At: begin, Place: bergen})
	require.Equal(t, []any{true, float64(history.AtOnce)}, []any{f.TravelKnown, f.TravelSpeed}, "in two places at once")
	f = left.Before(&history.Query{User: "ann", At: begin, Place: lisbon})
	require.Equal(t, []bool{false, true}, []bool{f.TravelKnown, f.Strayed}, "there now: where before is not known")
	f = left.Before(&history.Query{User: "ann", At: begin.Add(-micro), Place: lisbon})
	require.Equal(t, []bool{false, true}, []bool{f.TravelKnown, f.Strayed})
}

// TestLostByAProgram tells of what a program did not keep no more than that: whatever it could change is unknown, as long as it may
// matter.
func TestLostByAProgram(t *testing.T) {
	lost := time.Date(2026, 9, 1, 9, 0, 0, 0, time.UTC)
	bergen, lisbon := at(60.39, 5.32, 20), at(38.72, -9.14, 30)
	at := func(when time.Time) history.SignOn {
		return history.SignOn{Query: history.Query{User: "ann", At: when, Country: "NO", Device: "tab", Place: bergen}}
	}
	for since, sure := range map[time.Duration]bool{-time.Hour: false, 0: false, micro: true, time.Hour: true} {
		ann := history.NewPast(time.UTC).Individual("ann", []history.SignOn{at(lost.Add(since))}, lost)
		f := ann.Before(&history.Query{User: "ann", At: lost.Add(48 * time.Hour), Country: "NO", Device: "other", Place: lisbon})
		require.Equal(t, []any{known.False, known.Unknown, known.Unknown, sure, true}, []any{f.NewCountry, f.NewDevice, f.OddHour, f.TravelKnown, f.Forgotten}, since)
	}
	ann := history.NewPast(time.UTC).Individual("ann", nil, lost)
	for since, knows := range map[time.Duration]bool{window: false, window + micro: true} {
		f := ann.Before(&history.Query{User: "ann", At: lost.Add(since), Country: "NO", Device: "tab", Place: lisbon})
		want := map[bool][]any{false: {known.Unknown, known.Unknown, known.Unknown, false, true}, true: {known.True, known.True, known.False, true, false}}[knows]
		require.Equal(t, want, []any{f.NewCountry, f.NewDevice, f.OddHour, f.TravelKnown, f.Forgotten}, since)
	}
	all := history.NewPast(time.UTC).Individual("ann", []history.SignOn{at(lost)}, time.Time{})
	f := all.Before(&history.Query{User: "ann", At: lost.Add(time.Hour), Country: "SE", Device: "other", Place: lisbon})
	require.Equal(t, []any{known.True, known.True, known.False, true, false}, []any{f.NewCountry, f.NewDevice, f.OddHour, f.TravelKnown, f.Forgotten}, "all was kept")
}
