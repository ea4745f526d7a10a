package rulebook

// What each file brought.

import (
	"fmt"
	"slices"
)

// Origin is where something stands: a file of the rulebook's folder and a line of it.
type Origin struct {
	File string
	Line int // 0 for a file that has no lines
}

// String gives "file:line".
func (o Origin) String() string {
	if o.Line == 0 {
		return o.File
	}
	return fmt.Sprintf("%s:%d", o.File, o.Line)
}

// Loaded tells what was read of one file that the rulebook points to.
type Loaded struct {
	File  string
	Items []Tally
	Aside []Tally // what was in it and is not used
}

// Tally counts things of a kind.
type Tally struct {
	N    int
	What string // one of them, such as "person"; of what was left aside, why, such as "not granted"
}

// loading begins the account of a file.
func (r *resolver) loading(file string) *Loaded {
	l := &Loaded{File: file}
	r.rb.Loaded = append(r.rb.Loaded, l)
	return l
}

func (l *Loaded) add(n int, what string) { l.Items = tallied(l.Items, n, what) }

func (l *Loaded) aside(n int, what string) {
	if n > 0 {
		l.Aside = tallied(l.Aside, n, what)
	}
}

// mostTallies is how many kinds of things are counted apart for one file.
const (
	mostTallies = 40
	otherTally  = "of further kinds"
)

func tallied(list []Tally, n int, what string) []Tally {
	i := slices.IndexFunc(list, func(t Tally) bool { return t.What == what })
	if i < 0 && len(list) >= mostTallies {
		i = slices.IndexFunc(list, func(t Tally) bool { return t.What == otherTally })
		what = otherTally
	}
	if i < 0 {
		return append(list, Tally{n, what})
	}
	list[i].N += n
	return list
}
