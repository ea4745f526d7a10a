// Package directory has people as their sources bring them, and the groups they are in.
package directory

import (
	"slices"
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
	parents [][]int32 // the groups of which a group is directly a member
	above   [][]int32 // with itself, sorted; filled by Close
}

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
			g.above = append(g.above, []int32{id})
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

// Nest makes all members of inner members of outer.
func (g *Groups) Nest(outer, inner int32) { g.parents[inner] = append(g.parents[inner], outer) }

// Circle returns a circle of groups that contain each other, the first repeated at its end; nil if there is none.
func (g *Groups) Circle() []string {
	const unseen, open, done = 0, 1, 2
	state := make([]uint8, len(g.names))
	type step struct {
		group int32
		next  int
	}
	for start := range g.names {
		if state[start] != unseen {
			continue
		}
		path := []step{{group: int32(start)}}
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
				i := slices.IndexFunc(path, func(s step) bool { return s.group == parent })
				var circle []string
				for _, s := range path[i:] {
					circle = append(circle, g.names[s.group])
				}
				return append(circle, g.names[parent])
			case unseen:
				state[parent] = open
				path = append(path, step{group: parent})
			}
		}
	}
	return nil
}

// Close works out which groups contain which; after it the graph does not change.
func (g *Groups) Close() {
	g.above = make([][]int32, len(g.names))
	for id := range g.names {
		seen := map[int32]bool{int32(id): true}
		list := []int32{int32(id)}
		for i := 0; i < len(list); i++ {
			for _, parent := range g.parents[list[i]] {
				if !seen[parent] {
					seen[parent] = true
					list = append(list, parent)
				}
			}
		}
		slices.Sort(list)
		g.above[id] = list
	}
}

// Closure is the sorted list of the groups that someone directly in these is in.
func (g *Groups) Closure(direct []int32) []int32 {
	if len(direct) == 1 {
		return g.above[direct[0]]
	}
	var all []int32
	for _, id := range direct {
		all = append(all, g.above[id]...)
	}
	slices.Sort(all)
	return slices.Compact(all)
}
