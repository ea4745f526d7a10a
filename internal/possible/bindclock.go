package possible

// When a sign-on is: between which dates, and with which schedules open.

import (
	"slices"
	"time"

	"briskwarden.example/briskwarden/internal/known"
	"briskwarden.example/briskwarden/internal/logic"
)

// clockSpace is the time in a space, once it is bound.
type clockSpace struct {
	moments []*moment     // in order
	states  []logic.Lit   // which state the schedules are in together
	samples [][]time.Time // by the count of moments that are past, and state: an instant of it; zero where there is none
}

// bindClock has the dates stand in their order, and the schedules in one state, where that occurs.
func (sp *Space) bindClock() {
	c := &sp.clock
	for _, m := range sp.moments {
		c.moments = append(c.moments, m)
	}
	slices.SortFunc(c.moments, func(a, b *moment) int { return a.at.Compare(b.at) })
	for i := 1; i < len(c.moments); i++ {
		sp.Imply(c.moments[i-1].since, c.moments[i].since)
	}
	states, ofTurn := sp.statesTogether()
	for range states {
		c.states = append(c.states, logic.Yes)
	}
	if len(states) > 1 {
		for i := range c.states {
			c.states[i] = sp.Variable()
		}
		sp.Require(c.states...)
		sp.Prefer(c.states[ofTurn[0]])
	}
	for i, state := range states {
		for k, x := range sp.schedules {
			is := threeOf(state[k])
			sp.bindEqual(x.is.Must, is.Must, c.states[i])
			sp.bindEqual(x.is.May, is.May, c.states[i])
		}
	}
	c.sample(sp.w, ofTurn, len(states))
	sp.occur(len(states))
}

// occur has the schedules be in a state only where that occurs.
func (sp *Space) occur(states int) {
	c := &sp.clock
	for i := range c.samples {
		var occurring []logic.Lit
		for n, at := range c.samples[i] {
			if !at.IsZero() {
				occurring = append(occurring, c.states[n])
			}
		}
		if len(occurring) == states {
			continue
		}
		var elsewhere []logic.Lit
		if i > 0 {
			elsewhere = append(elsewhere, c.moments[i-1].since.Not())
		}
		if i < len(c.moments) {
			elsewhere = append(elsewhere, c.moments[i].since)
		}
		sp.Require(append(elsewhere, occurring...)...)
	}
}

// statesTogether are the states that the schedules are in together, and which it is from each turn on.
func (sp *Space) statesTogether() (states [][]known.Truth, ofTurn []int) {
	numbers := map[string]int{}
	ofTurn = make([]int, len(sp.w.turns))
	for i := range sp.w.turns {
		if i%1024 == 0 && sp.w.late() {
			return [][]known.Truth{make([]known.Truth, len(sp.schedules))}, make([]int, len(sp.w.turns))
		}
		state := make([]known.Truth, len(sp.schedules))
		key := make([]byte, len(sp.schedules))
		for k, x := range sp.schedules {
			state[k] = sp.w.statesOf(x.leaf)[i]
			key[k] = byte('1' + state[k])
		}
		n, seen := numbers[string(key)]
		if !seen {
			n = len(states)
			numbers[string(key)] = n
			states = append(states, state)
		}
		ofTurn[i] = n
	}
	return states, ofTurn
}

// sample finds, between each two moments, an instant of each state that occurs there: of whole seconds
// where there is such a one.
func (c *clockSpace) sample(w *World, ofTurn []int, states int) {
	c.samples = make([][]time.Time, len(c.moments)+1)
	turn := 0
	for i := range c.samples {
		c.samples[i] = make([]time.Time, states)
		from, until := w.From, w.Until
		if i > 0 {
			from = c.moments[i-1].at
		}
		if i < len(c.moments) {
			until = c.moments[i].at
		}
		for turn+1 < len(w.turns) && !w.turns[turn+1].After(from) {
			turn++
		}
		for t := turn; t < len(w.turns) && w.turns[t].Before(until); t++ {
			start, end := later(from, w.turns[t]), until
			if t+1 < len(w.turns) && w.turns[t+1].Before(end) {
				end = w.turns[t+1]
			}
			at := &c.samples[i][ofTurn[t]]
			if whole := wholeSecond(start, end); at.IsZero() || at.Nanosecond() != 0 && whole.Nanosecond() == 0 {
				*at = whole
			}
		}
	}
}

func later(a, b time.Time) time.Time {
	if a.After(b) {
		return a
	}
	return b
}

// wholeSecond is the first whole second from start on and before end, or else start.
func wholeSecond(start, end time.Time) time.Time {
	whole := start.Truncate(time.Second)
	if whole.Before(start) {
		whole = whole.Add(time.Second)
	}
	if whole.Before(end) {
		return whole
	}
	return start
}

// at is the instant that was found.
func (sp *Space) at() time.Time {
	c := &sp.clock
	past := 0
	for past < len(c.moments) && sp.Holds(c.moments[past].since) {
		past++
	}
	for n, l := range c.states {
		if at := c.samples[past][n]; !at.IsZero() && sp.Holds(l) {
			return at
		}
	}
	return time.Time{}
}
