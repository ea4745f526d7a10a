package ready

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"briskwarden.example/briskwarden/internal/rulebook"
)

// Lack is what several people lack alike, for one case and from the same day on.
type Lack struct {
	Policy   *rulebook.Policy
	Case     *rulebook.Case
	Missing  string
	Device   bool
	Deadline time.Time // zero is already
	People   []string
}

// Lacks puts together what people lack alike: policies in the order of the gaps, their cases
// as they are written, and of each what is already so first.
func Lacks(gaps []Gap) (list []*Lack) {
	type alike struct {
		kase     *rulebook.Case
		missing  string
		device   bool
		deadline time.Time
	}
	known := map[alike]*Lack{}
	for i := range gaps {
		g := &gaps[i]
		key := alike{g.Case, g.Missing, g.Device, g.Deadline}
		l, seen := known[key]
		if !seen {
			l = &Lack{Policy: g.Policy, Case: g.Case, Missing: g.Missing, Device: g.Device, Deadline: g.Deadline}
			known[key] = l
			list = append(list, l)
		}
		l.People = append(l.People, g.Person.ID)
	}
	order := map[*rulebook.Policy]int{}
	for i, l := range list {
		if _, seen := order[l.Policy]; !seen {
			order[l.Policy] = i
		}
	}
	slices.SortStableFunc(list, func(a, b *Lack) int {
		return cmp.Or(order[a.Policy]-order[b.Policy], int(a.Case.Pos.Line-b.Case.Pos.Line), a.Deadline.Compare(b.Deadline), len(b.People)-len(a.People))
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
		if !slices.Contains(names, g.Policy.Name) {
			names = append(names, g.Policy.Name)
		}
	}
	return names
}

// Stopped counts those who are stopped already.
func Stopped(people []*Person) (n int) {
	for _, p := range people {
		if p.Deadline.IsZero() {
			n++
		}
	}
	return n
}

// People are those who are not ready: who is stopped already first, then by when they will be.
func People(gaps []Gap) (list []*Person) {
	byID := map[string]*Person{}
	for i := range gaps {
		g := &gaps[i]
		p, seen := byID[g.Person.ID]
		if !seen {
			p = &Person{ID: g.Person.ID, Deadline: g.Deadline}
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
func Groups(rb *rulebook.Rulebook, people []*Person) (list []*Group) {
	byID := map[int32]*Group{}
	for _, p := range people {
		for _, id := range rb.People[p.ID].Groups {
			g, seen := byID[id]
			if !seen {
				g = &Group{Name: rb.Groups.Name(id)}
				byID[id] = g
				list = append(list, g)
			}
			g.NotReady++
			if p.Deadline.IsZero() {
				g.Now++
			}
		}
	}
	for _, p := range rb.People {
		for _, id := range p.Groups {
			if g := byID[id]; g != nil {
				g.All++
			}
		}
	}
	slices.SortFunc(list, func(a, b *Group) int { return cmp.Or(b.NotReady-a.NotReady, cmp.Compare(a.Name, b.Name)) })
	return list
}
