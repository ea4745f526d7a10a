package possible

// Answers that change with time.

import (
	"slices"
	"strings"
	"time"

	"briskwarden.example/briskwarden/internal/condition"
	"briskwarden.example/briskwarden/internal/known"
	"briskwarden.example/briskwarden/signon"
)

// timeline is how an answer goes with time: what it is at first, and from some instants on.
type timeline struct {
	first   known.Truth
	changes []change
}

type change struct {
	at   time.Time
	then known.Truth
}

func always(t known.Truth) timeline { return timeline{first: t} }

func alwaysOf(b bool) timeline { return timeline{first: known.Of(b)} }

// known reports whether the answer is never unknown.
func (c *timeline) known() bool {
	return c.first != known.Unknown && !slices.ContainsFunc(c.changes, func(t change) bool { return t.then == known.Unknown })
}

// key is the same for timelines that are.
func (c *timeline) key(b *strings.Builder) {
	b.WriteByte(byte('1' + c.first))
	for _, t := range c.changes {
		b.WriteString(t.at.UTC().Format("@20060102150405.000000000"))
		b.WriteByte(byte('1' + t.then))
	}
	b.WriteByte(';')
}

// timelineOf asks the engine for the answer to a comparison on sign-ons that state something, at the first
// instant and whenever it may change.
func (w *World) timelineOf(l *leaf, put func(*signon.SignOn)) timeline {
	var turns []time.Time
	ask := func(at time.Time) (is known.Truth) {
		so := signon.SignOn{Time: at}
		put(&so)
		w.ask(l.side, &so, func(f condition.Facts) {
			is = l.node.Eval(f)
			if at.Equal(w.From) {
				turns = l.critical(f)
			}
		})
		return is
	}
	c := always(ask(w.From))
	slices.SortFunc(turns, time.Time.Compare)
	last := c.first
	for _, at := range turns {
		if !at.After(w.From) || !at.Before(w.Until) {
			continue
		}
		if is := ask(at); is != last {
			c.changes = append(c.changes, change{at, is})
			last = is
		}
	}
	return c
}

// critical are the instants at which the answer may change, all else staying as it is.
func (l *leaf) critical(f condition.Facts) []time.Time {
	switch {
	case l.Aged:
		if at, ok := f.Instant(l.Fact.Slot); ok {
			return []time.Time{at, at.Add(l.Age + 1)}
		}
	case l.Clock != nil && l.Clock.Attribute != nil:
		if start, next, ok := f.Date(l.Fact.Slot); ok {
			return []time.Time{start, next}
		}
	case l.Clock != nil:
		return []time.Time{l.Clock.Turns}
	}
	return nil
}
