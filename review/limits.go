package review

// What no outcome shows: how long sessions last, and whose word counts.

import (
	"cmp"
	"strings"
	"time"

	"briskwarden.example/briskwarden"
	"briskwarden.example/briskwarden/internal/bridge"
	"briskwarden.example/briskwarden/internal/rulebook"
)

// Longer is a limit of sessions that grew, or is gone.
type Longer struct {
	Policy string `json:"policy"`
	Limit  string `json:"limit"` // lasts or idle
	Before string `json:"before"`
	After  string `json:"after,omitzero"` // empty is without one
}

// longer are the limits that grew, policy by policy, in the order of the old rulebook.
func longer(before, after *briskwarden.Rulebook) []Longer {
	is := map[string]rulebook.Session{}
	for _, p := range bridge.Engine(after).Rulebook().Policies {
		is[p.Name] = p.Session
	}
	list := []Longer{}
	for _, p := range bridge.Engine(before).Rulebook().Policies {
		was, now := p.Session, is[p.Name]
		for _, x := range []struct {
			limit              string
			was, now           time.Duration
			wasText, afterText string
		}{{"lasts", was.Lasts, now.Lasts, was.LastsText, now.LastsText}, {"idle", was.Idle, now.Idle, was.IdleText, now.IdleText}} {
			if x.was > 0 && (x.now == 0 || x.now > x.was) {
				list = append(list, Longer{p.Name, x.limit, x.wasText, x.afterText})
			}
		}
	}
	return list
}

func (l Longer) lines() []Line {
	return []Line{{Text: l.Policy + "  session " + l.Limit + " " + l.Before + " to " + cmp.Or(l.After, "without limit")}}
}

// believed are the declarations that changed of those who are believed: an issuer of tokens that is new or different, and a source of
// signals that is new, different or no longer heard.
func believed(changed []Declared) []Declared {
	list := []Declared{}
	for _, d := range changed {
		switch kind, _, _ := strings.Cut(d.What, " "); {
		case kind == "signals", kind == "issuer" && d.Change != "gone", kind == "caller" && d.Change != "gone":
			list = append(list, d)
		}
	}
	return list
}
