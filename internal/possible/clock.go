package possible

// When the schedules open and close.

import (
	"slices"
	"time"

	"briskwarden.example/briskwarden/internal/condition"
	"briskwarden.example/briskwarden/internal/fact"
	"briskwarden.example/briskwarden/internal/known"
	"briskwarden.example/briskwarden/signon"
)

// findTurns finds the instants between which no schedule that is asked about changes.
func (w *World) findTurns() {
	w.turns = []time.Time{w.From}
	for _, s := range w.sides {
		asked := map[int]bool{}
		for _, l := range s.order {
			if l.Fact.Slot == fact.Time {
				for _, id := range l.Sets {
					asked[id] = true
				}
			}
		}
		for id := range asked {
			w.turns = append(w.turns, s.rb.Schedules[id].Turns(w.From, w.Until)...)
		}
	}
	slices.SortFunc(w.turns, time.Time.Compare)
	w.turns = slices.CompactFunc(w.turns, time.Time.Equal)
}

// statesOf are the answers to a comparison about schedules from each turn on.
func (w *World) statesOf(l *leaf) []known.Truth {
	w.once.Lock()
	defer w.once.Unlock()
	if l.states == nil {
		l.states = make([]known.Truth, len(w.turns))
		for i, at := range w.turns {
			so := signon.SignOn{Time: at}
			w.ask(l.side, &so, func(f condition.Facts) { l.states[i] = l.node.Eval(f) })
		}
	}
	return l.states
}
