package possible

// When the schedules open and close.

import (
	"fmt"
	"slices"
	"time"

	"briskwarden.example/briskwarden/internal/condition"
	"briskwarden.example/briskwarden/internal/fact"
	"briskwarden.example/briskwarden/internal/known"
	"briskwarden.example/briskwarden/signon"
)

// The bounds of what is kept of schedules: of instants, and of answers to comparisons at each.
const (
	mostTurns  = 1 << 20
	mostStates = 1 << 30
)

// findTurns finds the instants between which no schedule that is asked about changes.
func (w *World) findTurns() {
	w.turns = []time.Time{w.From}
	asking := 0
	for _, s := range w.sides {
		asked := map[int]bool{}
		for _, l := range s.order {
			if l.Fact.Slot == fact.Time {
				asking++
				for _, id := range l.Sets {
					asked[id] = true
				}
			}
		}
		for id := range asked {
			w.turns = append(w.turns, s.rb.Schedules[id].Turns(w.From, w.Until)...)
			if w.late() || w.tooMany(asking) {
				return
			}
		}
	}
	w.sortTurns()
}

func (w *World) sortTurns() {
	slices.SortFunc(w.turns, time.Time.Compare)
	w.turns = slices.CompactFunc(w.turns, time.Time.Equal)
}

// tooMany reports more turns than there is memory for, each counted once, which is then noted.
func (w *World) tooMany(asking int) bool {
	most := min(mostTurns, mostStates/max(asking, 1))
	if len(w.turns) > most {
		w.sortTurns()
	}
	if len(w.turns) <= most {
		return false
	}
	w.giveUp(fmt.Sprintf("too much memory: %d comparisons with schedules that open and close more than %d times in the span; shorten it", asking, most))
	w.turns = w.turns[:1]
	return true
}

// statesOf are the answers to a comparison about schedules from each turn on.
func (w *World) statesOf(l *leaf) []known.Truth {
	w.once.Lock()
	defer w.once.Unlock()
	if l.states == nil {
		l.states = make([]known.Truth, len(w.turns))
		for i, at := range w.turns {
			if i%1024 == 0 && w.late() {
				break
			}
			so := signon.SignOn{Time: at}
			w.ask(l.side, &so, func(f condition.Facts) { l.states[i] = l.node.Eval(f) })
		}
	}
	return l.states
}
