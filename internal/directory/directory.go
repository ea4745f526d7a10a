// Package directory has people as their sources bring them, and the groups they are in.
package directory

import (
	"math"
	"slices"
	"sync"
	"sync/atomic"
	"time"
)

// Person is what is known of one user.
type Person struct {
	ID         string
	Type       string // employee, guest or service; empty is employee
	Groups     []string
	Methods    []string
	Joined     time.Time // zero is unknown
	Risk       string    // none, low, medium or high; empty is none
	Disabled   bool
	Attributes map[string]any // by name without "user."; a string, bool or float64
}

// Groups is the graph of groups: which contain which.
type Groups struct {
	ids     map[string]int32
	names   []string
	parents [][]int32                 // the groups of which a group is directly a member
	above   []atomic.Pointer[[]int32] // with itself, sorted, once it is asked for; since Close
	kept    atomic.Int64              // how many are in those lists
	walks   sync.Pool                 // of walks
}

// mostKept is how many groups above others are kept for when they are asked for again.
const mostKept = 50_000_000

// NewGroups returns an empty graph.
func NewGroups() *Groups { return &Groups{ids: map[string]int32{}} }

// Add returns the id of the group, which is new if nobody named it before.
func (g *Groups) Add(name string) int32 {
	id, ok := g.ids[name]
	if !ok {
		id = int32(len(g.names))
		g.ids[name] = id
		g.names = append(g.names, name)
		g.parents = append(g.parents, nil)
		if g.above != nil {
			g.above = append(g.above, atomic.Pointer[[]int32]{})
		}
	}
	return id
}

// Lookup finds a group.
func (g *Groups) Lookup(name string) (int32, bool) {
	id, ok := g.ids[name]
	return id, ok
}

// Name is the name of a group.
func (g *Groups) Name(id int32) string { return g.names[id] }

// Names lists all groups, in the order in which they were added.
func (g *Groups) Names() []string { return g.names }

// Parents are the groups of which a group is directly a member.
func (g *Groups) Parents(id int32) []int32 { return g.parents[id] }

// Nest makes all members of inner members of outer.
func (g *Groups) Nest(outer, inner int32) { g.parents[inner] = append(g.parents[inner], outer) }

// Circle returns a circle of groups that contain each other, the first repeated at its end; nil if there is none.
func (g *Groups) Circle() []string {
	const unseen, open, done = 0, 1, 2
	state := make([]uint8, len(g.names))
	type visited struct {
		group int32
		next  int
	}
	for start := range g.names {
		if state[start] != unseen {
			continue
		}
		path := []visited{{group: int32(start)}}
		state[start] = open
		for len(path) > 0 {
			at := &path[len(path)-1]
			if at.next == len(g.parents[at.group]) {
				state[at.group] = done
				path = path[:len(path)-1]
				continue
			}
			parent := g.parents[at.group][at.next]
			at.next++
			switch state[parent] {
			case open:
				i := slices.IndexFunc(path, func(s visited) bool { return s.group == parent })
				var circle []string
				for _, s := range path[i:] {
					circle = append(circle, g.names[s.group])
				}
				return append(circle, g.names[parent])
			case unseen:
				state[parent] = open
				path = append(path, visited{group: parent})
			}
		}
	}
	return nil
}

// Close ends the nesting: from then on closures can be asked for, by many at once.
func (g *Groups) Close() { g.above = make([]atomic.Pointer[[]int32], len(g.names)) }

// walk remembers the groups that it came by.
type walk struct {
	seen  []uint32 // by group: the number of the walk that came by last
	round uint32
}

// up is the sorted list of a group and all that it is nested in.
func (g *Groups) up(id int32) []int32 {
	if list := g.above[id].Load(); list != nil {
		return *list
	}
	if len(g.parents[id]) == 0 {
		return []int32{id}
	}
	w, _ := g.walks.Get().(*walk)
	if w == nil || len(w.seen) < len(g.names) || w.round == math.MaxUint32 {
		w = &walk{seen: make([]uint32, len(g.names))}
	}
	w.round++
	list := []int32{id}
	w.seen[id] = w.round
	for i := 0; i < len(list); i++ {
		for _, parent := range g.parents[list[i]] {
			if w.seen[parent] != w.round {
				w.seen[parent] = w.round
				list = append(list, parent)
			}
		}
	}
	g.walks.Put(w)
	slices.Sort(list)
	if g.kept.Add(int64(len(list))) <= mostKept {
		g.above[id].Store(&list)
	}
	return list
}

// Closure is the sorted list of the groups that someone directly in these is in.
func (g *Groups) Closure(direct []int32) []int32 {
	if len(direct) == 1 {
		return g.up(direct[0])
	}
	var all []int32
	for _, id := range direct {
		all = append(all, g.up(id)...)
	}
	slices.Sort(all)
	return slices.Compact(all)
}
