// Package alert says which alerts are sent and which are held back, and what they say.
package alert

import (
	"time"

	"github.com/go-json-experiment/json/jsontext"

	"briskwarden.example/briskwarden/internal/rulebook"
)

// Limit is how many there may be in some time; the zero Limit is without bound.
type Limit struct {
	Most  int
	Every time.Duration
}

// MostAnHour is how many messages of one alert a receiver gets in an hour, whatever the alert says: whoever sprays names
// must not drown the desk.
var MostAnHour = Limit{60, time.Hour}

// LimitOf is what an alert says itself.
func LimitOf(a *rulebook.Alert) Limit { return Limit{a.Most, a.Every} }

// CountedFor is what an alert about a user and an app is counted for.
func CountedFor(a *rulebook.Alert, user, app string) string {
	switch a.Per {
	case rulebook.PerUser:
		return "user " + user
	case rulebook.PerApp:
		return "app " + app
	}
	return "rulebook"
}

// Gate lets through as many as a limit allows, of one kind, one after the other.
type Gate struct {
	Sent []time.Time `json:"sent,omitempty"` // the last ones, at most as many as there may be
	Held int         `json:"held,omitzero"`  // since the last that passed

	Rest jsontext.Value `json:",embed"` // what this version does not know
}

// Opens is when the gate lets one through; zero is that it does already.
func (g *Gate) Opens(l Limit) time.Time {
	if n := len(g.Sent); l.Most > 0 && n >= l.Most {
		return g.Sent[n-l.Most].Add(l.Every)
	}
	return time.Time{}
}

// Pass reports whether one at a time may be sent, and if so, how many were held back since the last.
func (g *Gate) Pass(at time.Time, l Limit) (held int, ok bool) {
	if at.Before(g.Opens(l)) {
		g.Held++
		return 0, false
	}
	if l.Most > 0 {
		g.Sent = append(g.Sent, at)
		g.Sent = g.Sent[max(0, len(g.Sent)-l.Most):]
	}
	held, g.Held = g.Held, 0
	return held, true
}
