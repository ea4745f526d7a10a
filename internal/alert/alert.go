// Package alert says which alerts are sent, and which are held back.
package alert

import "time"

// Limit is how many there may be in some time; the zero Limit is without bound.
type Limit struct {
	Most  int
	Every time.Duration
}

// MostAnHour is how many messages of one alert a receiver gets in an hour, whatever the alert says: whoever sprays names
// must not drown the desk.
var MostAnHour = Limit{60, time.Hour}

// Gate lets through as many as a limit allows, of one kind, one after the other.
type Gate struct {
	sent []time.Time // the last ones, at most as many as there may be
	held int
}

// Pass reports whether one at a time may be sent, and if so, how many were held back since the last.
func (g *Gate) Pass(at time.Time, l Limit) (held int, ok bool) {
	if l.Most == 0 {
		return 0, true
	}
	if n := len(g.sent); n >= l.Most && at.Sub(g.sent[n-l.Most]) < l.Every {
		g.held++
		return 0, false
	}
	if g.sent = append(g.sent, at); len(g.sent) > l.Most {
		g.sent = g.sent[len(g.sent)-l.Most:]
	}
	held, g.held = g.held, 0
	return held, true
}
