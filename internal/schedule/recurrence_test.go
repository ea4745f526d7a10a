package schedule_test

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"briskwarden.example/briskwarden/internal/known"
	"briskwarden.example/briskwarden/internal/schedule"
)

// walker is an expander of rules by counting: it lists the days of a period, strikes out those
// that a part is not about, and finds the instants by walking the clock in quarters of an hour.
type walker struct {
	freq     string
	interval int
	parts    map[string][]string // BYMONTH and its like
	count    int
	until    time.Time // an instant; zero is none
	start    time.Time // on the wall, in UTC
	loc      *time.Location
	years    map[int][]time.Time // the days of each
}

var dayNames = []string{"SU", "MO", "TU", "WE", "TH", "FR", "SA"}

// text is the rule as it is written.
func (w *walker) text() string {
	text := fmt.Sprintf("FREQ=%s;INTERVAL=%d", w.freq, w.interval)
	for _, part := range []string{"BYMONTH", "BYWEEKNO", "BYYEARDAY", "BYMONTHDAY", "BYDAY", "BYHOUR", "BYSETPOS"} {
		if list := w.parts[part]; list != nil {
			text += ";" + part + "=" + strings.Join(list, ",")
		}
	}
	if w.count > 0 {
		text += fmt.Sprint(";COUNT=", w.count)
	}
	if !w.until.IsZero() {
		text += ";UNTIL=" + w.until.Format("20060102T150405Z")
	}
	return text
}

// period lists the days of the nth period.
func (w *walker) period(n int) (days []time.Time) {
	y, m, d := w.start.Date()
	var from, to time.Time
	switch w.freq {
	case "DAILY":
		from = time.Date(y, m, d+n*w.interval, 0, 0, 0, 0, time.UTC)
		to = from.AddDate(0, 0, 1)
	case "WEEKLY":
		monday := d - (int(w.start.Weekday())+6)%7
		from = time.Date(y, m, monday+7*n*w.interval, 0, 0, 0, 0, time.UTC)
		to = from.AddDate(0, 0, 7)
	case "MONTHLY":
		from = time.Date(y, m+time.Month(n*w.interval), 1, 0, 0, 0, 0, time.UTC)
		to = from.AddDate(0, 1, 0)
	case "YEARLY":
		from = time.Date(y+n*w.interval, 1, 1, 0, 0, 0, 0, time.UTC)
		to = from.AddDate(1, 0, 0)
	}
	for ; from.Before(to); from = from.AddDate(0, 0, 1) {
		days = append(days, from)
	}
	return days
}

// among reports whether a part names the place of an item in a list, from either end.
func (w *walker) among(part string, list []time.Time, item time.Time) bool {
	i := slices.Index(list, item)
	return slices.Contains(w.parts[part], fmt.Sprint(i+1)) || slices.Contains(w.parts[part], fmt.Sprint(i-len(list)))
}

// about tells whether the rule is about a day.
func (w *walker) about(d time.Time) bool {
	if list := w.parts["BYMONTH"]; list != nil && !slices.Contains(list, fmt.Sprint(int(d.Month()))) {
		return false
	}
	year := w.years[d.Year()]
	for x := time.Date(d.Year(), 1, 1, 0, 0, 0, 0, time.UTC); len(w.years[d.Year()]) == 0 && x.Year() == d.Year(); x = x.AddDate(0, 0, 1) {
		year = append(year, x)
	}
	w.years[d.Year()] = year
	var month []time.Time
	for _, x := range year {
		if x.Month() == d.Month() {
			month = append(month, x)
		}
	}
	same := func(list []time.Time) (days []time.Time) {
		for _, x := range list {
			if x.Weekday() == d.Weekday() {
				days = append(days, x)
			}
		}
		return days
	}
	if w.parts["BYMONTHDAY"] != nil && !w.among("BYMONTHDAY", month, d) || w.parts["BYYEARDAY"] != nil && !w.among("BYYEARDAY", year, d) {
		return false
	}
	if list := w.parts["BYWEEKNO"]; list != nil {
		y, n := d.ISOWeek()
		_, last := time.Date(y, 12, 28, 0, 0, 0, 0, time.UTC).ISOWeek()
		if !slices.Contains(list, fmt.Sprint(n)) && !slices.Contains(list, fmt.Sprint(n-last-1)) {
			return false
		}
	}
	if list := w.parts["BYDAY"]; list != nil {
		scope := same(month)
		if w.freq == "YEARLY" && w.parts["BYMONTH"] == nil {
			scope = same(year)
		}
		i, name := slices.Index(scope, d), dayNames[d.Weekday()]
		return slices.Contains(list, name) || slices.Contains(list, fmt.Sprint(i+1, name)) || slices.Contains(list, fmt.Sprint(i-len(scope), name)) ||
			slices.Contains(list, fmt.Sprintf("%d%s", i+1, name)) || slices.Contains(list, fmt.Sprintf("%d%s", i-len(scope), name))
	}
	if w.parts["BYMONTHDAY"] != nil || w.parts["BYYEARDAY"] != nil || w.parts["BYWEEKNO"] != nil || w.freq == "DAILY" {
		return true
	}
	switch w.freq {
	case "WEEKLY":
		return d.Weekday() == w.start.Weekday()
	case "MONTHLY":
		return d.Day() == w.start.Day()
	}
	return d.Day() == w.start.Day() && (w.parts["BYMONTH"] != nil || d.Month() == w.start.Month())
}

// instant walks to where the clock shows a time for the first time, or, where it skips that, as
// far beyond the last moment before as the clock was short of it.
func (w *walker) instant(shown time.Time) time.Time {
	clock := func(t time.Time) time.Time {
		l := t.In(w.loc)
		return time.Date(l.Year(), l.Month(), l.Day(), l.Hour(), l.Minute(), l.Second(), 0, time.UTC)
	}
	const quarter = 15 * time.Minute
	t := shown.Add(-15 * time.Hour) // before it anywhere
	now := clock(t)
	for now.Before(shown) {
		next := clock(t.Add(quarter))
		if next.After(shown) {
			return t.Add(shown.Sub(now))
		}
		t, now = t.Add(quarter), next
	}
	return t
}

// starts are the instants at which the event begins, before an end.
func (w *walker) starts(end time.Time) (list []time.Time) {
	hours := w.parts["BYHOUR"]
	if hours == nil {
		hours = []string{fmt.Sprint(w.start.Hour())}
	}
	given := 0
	for n := 0; ; n++ {
		days := w.period(n)
		if days[0].After(end) {
			return list
		}
		var times []time.Time
		for _, d := range days {
			if !w.about(d) {
				continue
			}
			for h := range 24 {
				if slices.Contains(hours, fmt.Sprint(h)) {
					times = append(times, d.Add(time.Duration(h)*time.Hour+time.Duration(w.start.Minute())*time.Minute))
				}
			}
		}
		for _, shown := range times {
			if w.parts["BYSETPOS"] != nil && !w.among("BYSETPOS", times, shown) || shown.Before(w.start) {
				continue
			}
			at := w.instant(shown)
			if w.count > 0 && given == w.count || !w.until.IsZero() && at.After(w.until) {
				return list
			}
			given++
			list = append(list, at)
		}
	}
}

// newWalker is a random rule, within what RFC 5545 allows.
func newWalker(dice *rand.Rand, whole bool) *walker {
	zones := []string{"Europe/Oslo", "America/New_York", "America/Havana", "Australia/Lord_Howe", "Asia/Kolkata", "Pacific/Apia", "America/St_Johns"}
	loc, _ := time.LoadLocation(zones[dice.IntN(len(zones))])
	w := &walker{freq: []string{"DAILY", "WEEKLY", "MONTHLY", "YEARLY"}[dice.IntN(4)], interval: 1 + dice.IntN(3)*dice.IntN(2), loc: loc, parts: map[string][]string{}, years: map[int][]time.Time{},
		start: time.Date(2011, time.Month(1+dice.IntN(12)), 1+dice.IntN(31), 0, 0, 0, 0, time.UTC)}
	if !whole {
		w.start = w.start.Add(time.Duration(dice.IntN(5)) * time.Hour).Add(time.Duration(dice.IntN(4)) * 15 * time.Minute)
	}
	some := func(part string, chance int, item func() string) {
		if dice.IntN(chance) == 0 {
			for range 1 + dice.IntN(3) {
				w.parts[part] = append(w.parts[part], item())
			}
		}
	}
	number := func(most int) func() string {
		return func() string { return fmt.Sprint((1 + dice.IntN(most)) * []int{1, 1, -1}[dice.IntN(3)]) }
	}
	some("BYMONTH", 4, func() string { return fmt.Sprint(1 + dice.IntN(12)) })
	if w.freq != "WEEKLY" {
		some("BYMONTHDAY", 4, number(31))
	}
	if w.freq == "YEARLY" {
		some("BYYEARDAY", 5, number(366))
		some("BYWEEKNO", 5, number(53))
	}
	some("BYDAY", 2, func() string {
		name := dayNames[dice.IntN(7)]
		if w.freq == "DAILY" || w.freq == "WEEKLY" || w.parts["BYWEEKNO"] != nil || dice.IntN(2) == 0 {
			return name
		}
		return number(5)() + name
	})
	if !whole {
		some("BYHOUR", 4, func() string { return fmt.Sprint(dice.IntN(24)) })
	}
	if len(w.parts) > 0 {
		some("BYSETPOS", 4, number(3))
	}
	switch dice.IntN(4) {
	case 0:
		w.count = 1 + dice.IntN(30)
	case 1:
		w.until = w.instant(w.start.AddDate(0, 0, dice.IntN(400))).UTC().Add(time.Duration(dice.IntN(3)-1) * time.Second)
	}
	return w
}

// anyCase writes names, parameters and values in any case.
func anyCase(dice *rand.Rand, text string) string {
	if dice.IntN(2) == 0 {
		return text
	}
	return strings.ToLower(text)
}

// TestRecurrencesAgreeWithWalking holds random rules against the walker, at the edges of every
// occurrence and in between, in zones on both sides of Greenwich whose clocks skip and repeat.
func TestRecurrencesAgreeWithWalking(t *testing.T) {
	found := 0
	for seed := range uint64(120) {
		dice := rand.New(rand.NewPCG(seed, 12))
		whole := dice.IntN(3) == 0
		w := newWalker(dice, whole)
		lines := []string{anyCase(dice, "RRULE:"+w.text())}
		if whole {
			lines = append(lines, anyCase(dice, "DTSTART;VALUE=DATE:"+w.start.Format("20060102")))
		} else {
			lines = append(lines, anyCase(dice, "DTSTART;TZID=")+w.loc.String()+":"+anyCase(dice, w.start.Format("20060102T150405")), anyCase(dice, "DURATION:PT40M"))
		}
		end := time.Date(2013, 3, 1, 0, 0, 0, 0, time.UTC)
		starts := append(w.starts(end), w.instant(w.start)) // the start itself is always one
		if len(starts) > 2 && dice.IntN(2) == 0 {           // one is taken out, and another added
			out := starts[0].UTC()
			starts = slices.DeleteFunc(starts, func(x time.Time) bool { return x.Equal(out) })
			if whole {
				lines = append(lines, anyCase(dice, "EXDATE;VALUE=DATE:")+out.In(w.loc).Format("20060102"))
			} else {
				lines = append(lines, anyCase(dice, "EXDATE:"+out.Format("20060102T150405Z")))
			}
			if in := w.start.AddDate(0, 0, 40); !whole && !w.instant(in).Equal(out) {
				lines = append(lines, anyCase(dice, "RDATE;TZID=")+w.loc.String()+":"+in.Format("20060102T150405"))
				starts = append(starts, w.instant(in))
			}
		}
		text := calendar(strings.Replace(event(lines...), "BEGIN:VEVENT", anyCase(dice, "BEGIN:VEVENT"), 1))
		c, err := schedule.ReadCalendar(strings.NewReader(text), w.loc)
		require.NoError(t, err, text)
		finish := func(start time.Time) time.Time {
			if !whole {
				return start.Add(40 * time.Minute)
			}
			l := start.In(w.loc)
			return w.instant(time.Date(l.Year(), l.Month(), l.Day()+1, 0, 0, 0, 0, time.UTC))
		}
		check := func(at time.Time) {
			want := slices.ContainsFunc(starts, func(s time.Time) bool { return !at.Before(s) && at.Before(finish(s)) })
			if is, _ := c.During(at); at.Before(end.AddDate(0, 0, -2)) {
				require.Equal(t, known.Of(want), is, "seed %d at %s\n%s", seed, at.In(w.loc), text)
			}
		}
		for i, start := range starts {
			if found++; i%(1+len(starts)/10) == 0 {
				for _, at := range []time.Time{start.Add(-time.Second), start, finish(start).Add(-time.Second), finish(start)} {
					check(at)
				}
			}
		}
		for range 20 {
			check(w.start.Add(time.Duration(dice.IntN(700*24*60)) * time.Minute))
		}
	}
	require.Greater(t, found, 2000)
}
