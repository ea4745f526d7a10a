package ready

// Who is not ready, put together by case, by person and by group.

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"

	"briskwarden.example/briskwarden/internal/rulebook"
	"briskwarden.example/briskwarden/internal/schedule"
)

// Lack is what several people lack alike, for one case and from the same day on.
type Lack struct {
	Gap             // of the first of them
	People []string // all of them
}

// Lacks puts together what people lack alike: policies in the order of the gaps, their cases
// as they are written, and of each what is already so first.
func (r *Report) Lacks() (list []*Lack) {
	type alike struct {
		kase     *rulebook.Case
		missing  string
		device   bool
		deadline time.Time
	}
	known := map[alike]*Lack{}
	for i := range r.Gaps {
		g := &r.Gaps[i]
		key := alike{g.kase, g.Missing, g.Device, g.Deadline}
		l, seen := known[key]
		if !seen {
			l = &Lack{Gap: *g}
			known[key] = l
			list = append(list, l)
		}
		l.People = append(l.People, g.Person)
	}
	order := map[string]int{}
	for i, l := range list {
		if _, seen := order[l.Policy]; !seen {
			order[l.Policy] = i
		}
	}
	slices.SortStableFunc(list, func(a, b *Lack) int {
		return cmp.Or(order[a.Policy]-order[b.Policy], int(a.kase.Pos.Line-b.kase.Pos.Line), a.Deadline.Compare(b.Deadline), len(b.People)-len(a.People))
	})
	return list
}

// Fewer shortens a long list of alternatives.
func Fewer(missing string) string {
	const most = 4
	list := strings.Split(missing, alternatively)
	if more := len(list) - most; more > 1 {
		return fmt.Sprintf("%s%s%d others", strings.Join(list[:most], alternatively), alternatively, more)
	}
	return missing
}

// Person is somebody who is not ready, with what is missing.
type Person struct {
	ID       string
	Deadline time.Time // the first; zero is already
	Gaps     []*Gap
}

// Policies are those that the person is not ready for, each once.
func (p *Person) Policies() (names []string) {
	for _, g := range p.Gaps {
		if !slices.Contains(names, g.Policy) {
			names = append(names, g.Policy)
		}
	}
	return names
}

// Stopped counts those of people who are stopped already.
func Stopped(people []*Person) (n int) {
	for _, p := range people {
		if p.Deadline.IsZero() {
			n++
		}
	}
	return n
}

// People are those who are not ready: who is stopped already first, then by when they will be.
func (r *Report) People() (list []*Person) {
	byID := map[string]*Person{}
	for i := range r.Gaps {
		g := &r.Gaps[i]
		p, seen := byID[g.Person]
		if !seen {
			p = &Person{ID: g.Person, Deadline: g.Deadline}
			byID[p.ID] = p
			list = append(list, p)
		}
		if g.Deadline.Before(p.Deadline) {
			p.Deadline = g.Deadline
		}
		p.Gaps = append(p.Gaps, g)
	}
	slices.SortFunc(list, func(a, b *Person) int {
		return cmp.Or(a.Deadline.Compare(b.Deadline), len(b.Gaps)-len(a.Gaps), cmp.Compare(a.ID, b.ID))
	})
	return list
}

// Group counts the people of a group, and those who are not ready.
type Group struct {
	Name          string
	All           int
	NotReady, Now int // and those of them who are stopped already
}

// Groups are those of people who are not ready, the most of them first.
func (r *Report) Groups() (list []*Group) {
	byID := map[int32]*Group{}
	for _, p := range r.People() {
		for _, id := range r.rb.People[p.ID].Groups {
			g, seen := byID[id]
			if !seen {
				g = &Group{Name: r.rb.Groups.Name(id)}
				byID[id] = g
				list = append(list, g)
			}
			g.NotReady++
			if p.Deadline.IsZero() {
				g.Now++
			}
		}
	}
	for _, p := range r.rb.People {
		for _, id := range p.Groups {
			if g := byID[id]; g != nil {
				g.All++
			}
		}
	}
	slices.SortFunc(list, func(a, b *Group) int { return cmp.Or(b.NotReady-a.NotReady, cmp.Compare(a.Name, b.Name)) })
	return list
}

// DaysLeft counts whole days until the person is stopped; 0 where that is already so.
func (r *Report) DaysLeft(g *Gap) int {
	if g.Deadline.IsZero() {
		return 0
	}
	return int(g.Deadline.Sub(r.Now) / (24 * time.Hour))
}

// Date is the day of a deadline in the rulebook's zone, or "already".
func (r *Report) Date(deadline time.Time) string {
	if deadline.IsZero() {
		return "already"
	}
	return schedule.DateOf(deadline, r.rb.Zone).String()
}

type jsonGap struct {
	ID       string `json:"id"`
	Missing  string `json:"missing"`
	Device   bool   `json:"device"`
	Deadline string `json:"deadline"` // a date, or "already"
	DaysLeft int    `json:"days_left"`
	Policy   string `json:"policy"`
	Case     string `json:"case"`
}

// MarshalJSON gives the JSON of "brisk ready --json".
func (r *Report) MarshalJSON() ([]byte, error) {
	answer := struct {
		By   string    `json:"by"`
		Gaps []jsonGap `json:"gaps"`
	}{r.Date(r.By), []jsonGap{}}
	for i := range r.Gaps {
		g := &r.Gaps[i]
		answer.Gaps = append(answer.Gaps, jsonGap{g.Person, g.Missing, g.Device, r.Date(g.Deadline), r.DaysLeft(g), g.Policy, g.Case})
	}
	return json.Marshal(answer, jsontext.AllowInvalidUTF8(true))
}
