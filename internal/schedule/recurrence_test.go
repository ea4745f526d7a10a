package schedule_test

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"briskwarden.example/briskwarden/internal/known"
	"briskwarden.example/briskwarden/internal/schedule"
)

// recurring is a random event that recurs, and the days on which a plain walk finds it.
type recurring struct {
	lines []string
	days  map[string]bool
}

// newRecurring walks day by day from the start and takes those that the rule is about.
func newRecurring(r *rand.Rand, whole bool, clock string) recurring {
	start := time.Date(2026, time.Month(1+r.IntN(12)), 1+r.IntN(28), 0, 0, 0, 0, time.UTC)
	interval := 1 + r.IntN(3)
	e := recurring{days: map[string]bool{}}
	var rule string
	var on func(d time.Time) bool
	weeks := func(d time.Time) int { // since the Monday of the start's week
		monday := start.AddDate(0, 0, -(int(start.Weekday())+6)%7)
		return int(d.Sub(monday)/(24*time.Hour)) / 7
	}
	months := func(d time.Time) int { return (d.Year()-start.Year())*12 + int(d.Month()) - int(start.Month()) }
	switch r.IntN(4) {
	case 0:
		rule = "FREQ=DAILY"
		on = func(d time.Time) bool { return int(d.Sub(start)/(24*time.Hour))%interval == 0 }
	case 1:
		names := []string{"SU", "MO", "TU", "WE", "TH", "FR", "SA"}
		days := map[time.Weekday]bool{start.Weekday(): true, time.Weekday(r.IntN(7)): true}
		var by []string
		for wd := range days {
			by = append(by, names[wd])
		}
		rule = "FREQ=WEEKLY;BYDAY=" + strings.Join(by, ",")
		on = func(d time.Time) bool { return days[d.Weekday()] && weeks(d)%interval == 0 }
	case 2:
		rule = "FREQ=MONTHLY"
		on = func(d time.Time) bool { return d.Day() == start.Day() && months(d)%interval == 0 }
	case 3:
		rule = "FREQ=YEARLY"
		on = func(d time.Time) bool {
			return d.YearDay() > 0 && d.Day() == start.Day() && d.Month() == start.Month() && (d.Year()-start.Year())%interval == 0
		}
	}
	rule += fmt.Sprintf(";INTERVAL=%d", interval)
	end, most := start.AddDate(3, 0, 0), 1<<30
	switch r.IntN(3) {
	case 0:
		most = 1 + r.IntN(40)
		rule += fmt.Sprintf(";COUNT=%d", most)
	case 1:
		end = start.AddDate(0, 0, r.IntN(500))
		rule += ";UNTIL=" + end.Format("20060102")
		if !whole {
			rule += "T235959"
		}
	}
	var list []time.Time
	for d := start; !d.After(end) && len(list) < most; d = d.AddDate(0, 0, 1) {
		if on(d) {
			list = append(list, d)
			e.days[d.Format("20060102")] = true
		}
	}
	at := func(property string, d time.Time) string {
		if whole {
			return property + ";VALUE=DATE:" + d.Format("20060102")
		}
		return property + ":" + d.Format("20060102") + "T" + clock
	}
	e.lines = []string{at("DTSTART", start), "RRULE:" + rule}
	for range r.IntN(3) { // some are taken out, and others added
		out := list[r.IntN(len(list))]
		delete(e.days, out.Format("20060102"))
		e.lines = append(e.lines, at("EXDATE", out))
		in := start.AddDate(0, 0, r.IntN(900))
		if !in.Equal(out) && !strings.Contains(strings.Join(e.lines, " "), at("EXDATE", in)) {
			e.days[in.Format("20060102")] = true
			e.lines = append(e.lines, at("RDATE", in))
		}
	}
	return e
}

// TestRecurrencesAgreeWithWalking holds recurring events of whole days, and of two hours at noon,
// against walking through the calendar, in zones whose clocks change.
func TestRecurrencesAgreeWithWalking(t *testing.T) {
	zones := []*time.Location{zone(t, "Europe/Oslo"), zone(t, "Asia/Kolkata"), zone(t, "America/Havana"), zone(t, "Australia/Lord_Howe")}
	for seed := range uint64(150) {
		r := rand.New(rand.NewPCG(seed, 12))
		whole, loc := r.IntN(2) == 0, zones[r.IntN(len(zones))]
		e := newRecurring(r, whole, "120000")
		if !whole {
			e.lines = append(e.lines, "DURATION:PT2H")
		}
		text := calendar(event(e.lines...))
		c, err := schedule.ReadCalendar(strings.NewReader(text), loc)
		require.NoError(t, err, text)
		for range 300 {
			at := time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC).Add(time.Duration(r.IntN(3*365*24*60)) * time.Minute)
			local := at.In(loc)
			want := e.days[local.Format("20060102")] && (whole || local.Hour() == 12 || local.Hour() == 13)
			if want && local.After(time.Date(2028, 12, 28, 0, 0, 0, 0, loc)) {
				continue // the walk ends three years after a start that may be late in 2026
			}
			is, _ := c.During(at)
			if !want && local.Year() >= 2029 {
				continue
			}
			require.Equal(t, known.Of(want), is, "seed %d at %s\n%s", seed, local, text)
		}
	}
}
