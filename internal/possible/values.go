package possible

// The values of each cell of a fact.

import (
	"math"
	"slices"
	"strings"
	"time"

	"briskwarden.example/briskwarden/internal/fact"
	"briskwarden.example/briskwarden/internal/schedule"
	"briskwarden.example/briskwarden/signon"
)

// daysOff is a date that is so many days after that of the sign-on.
type daysOff struct {
	days int
	zone *time.Location
}

// dated makes a value that hangs on the time of the sign-on.
func dated(so *signon.SignOn, v any) any {
	if d, is := v.(daysOff); is {
		return schedule.DateOf(so.Time.In(d.zone).AddDate(0, 0, d.days), d.zone).String()
	}
	return v
}

// values are a value of each cell of a fact.
func (w *World) values(f *fact.Fact) (list []any) {
	var numbers []float64
	var ages []time.Duration
	words, versions, zone := map[string]bool{}, map[string]bool{}, time.UTC
	for _, s := range w.sides {
		zone = s.rb.Zone
		for _, l := range s.order {
			if l.Fact.Name != f.Name {
				continue
			}
			for _, word := range l.Words {
				words[word] = true
			}
			for _, v := range l.Versions {
				versions[v] = true
			}
			numbers = append(numbers, l.Numbers...)
			ages = append(ages, l.Age)
		}
	}
	switch f.Type {
	case fact.YesNo:
		return []any{true, false}
	case fact.Number:
		for _, x := range between(numbers) {
			list = append(list, x)
		}
	case fact.Version:
		for _, v := range versionsBetween(sorted(words, versions)) {
			list = append(list, v)
		}
	case fact.Instant:
		slices.Sort(ages)
		for _, age := range slices.Compact(ages) {
			list = append(list, age)
		}
		list = append(list, ages[len(ages)-1]+time.Minute, -time.Minute)
	case fact.Date:
		list = []any{daysOff{1, zone}, daysOff{0, zone}, daysOff{-1, zone}}
	default:
		if f.Values != nil {
			for _, v := range f.Values {
				list = append(list, v)
			}
			return list
		}
		for _, v := range sorted(words) {
			list = append(list, v)
		}
		list = append(list, unheardOf(words))
	}
	return list
}

// unheardOf is a word that none of the others is.
func unheardOf(words map[string]bool) string {
	word := "other"
	for words[word] {
		word += "-one"
	}
	return word
}

func sorted(sets ...map[string]bool) (list []string) {
	for _, set := range sets {
		for word := range set {
			list = append(list, word)
		}
	}
	slices.Sort(list)
	return slices.Compact(list)
}

// between are the bounds, and a number between each two and beyond the first and the last, where there is one: a whole one where there
// is such.
func between(bounds []float64) (list []float64) {
	slices.Sort(bounds)
	bounds = slices.Compact(bounds)
	if len(bounds) == 0 {
		return []float64{0}
	}
	within := func(after, x, before float64) {
		if after < x && x < before {
			list = append(list, x)
		}
	}
	first, last := bounds[0], bounds[len(bounds)-1]
	within(math.Inf(-1), min(math.Ceil(first)-1, math.Nextafter(first, math.Inf(-1))), first)
	for i, b := range bounds {
		list = append(list, b)
		if i+1 == len(bounds) {
			break
		}
		next := bounds[i+1]
		middle := max(math.Floor(b)+1, math.Nextafter(b, next))
		if middle >= next {
			middle = b/2 + next/2
		}
		if middle <= b || middle >= next { // halves of the smallest numbers are none
			middle = math.Nextafter(b, next)
		}
		within(b, middle, next)
	}
	within(last, max(math.Floor(last)+1, math.Nextafter(last, math.Inf(1))), math.Inf(1))
	return list
}

// versionsBetween are the bounds, a version right after each, the first of all, and one that compares with nothing.
func versionsBetween(bounds []string) (list []string) {
	depth := 0
	for _, b := range bounds {
		depth = max(depth, strings.Count(b, "."))
	}
	list = append(list, bounds...)
	for _, b := range bounds {
		list = append(list, b+strings.Repeat(".0", depth-strings.Count(b, "."))+".1")
	}
	return append(list, "0", "preview")
}
