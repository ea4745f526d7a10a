package review

// What no outcome shows: how long sessions last, who is believed, and which app an address is.

import (
	"cmp"
	"strings"
	"time"

	"briskwarden.example/briskwarden"
	"briskwarden.example/briskwarden/internal/bridge"
	"briskwarden.example/briskwarden/internal/rulebook"
)

// Longer is a limit of sessions that grew, is gone, or is for others than before.
type Longer struct {
	Policy string `json:"policy"`
	Limit  string `json:"limit"` // lasts or idle
	Before string `json:"before"`
	After  string `json:"after,omitzero"`  // empty is without one
	Others bool   `json:"others,omitzero"` // it is for other people, apps or times than before, or abstains in more cases
}

// longer are the limits that may let sessions last longer, policy by policy, in the order of the old rulebook.
func longer(before, after *briskwarden.Rulebook) []Longer {
	is := map[string]*rulebook.Policy{}
	for _, p := range bridge.Engine(after).Rulebook().Policies {
		is[p.Name] = p
	}
	list := []Longer{}
	for _, was := range bridge.Engine(before).Rulebook().Policies {
		now, others := is[was.Name], false
		if now == nil {
			now = &rulebook.Policy{}
		} else {
			others = now.CanonicalScope() != was.CanonicalScope() || abstaining(now) > abstaining(was)
		}
		for _, x := range []struct {
			limit              string
			was, now           time.Duration
			wasText, afterText string
		}{
			{"lasts", was.Session.Lasts, now.Session.Lasts, was.Session.LastsText, now.Session.LastsText},
			{"idle", was.Session.Idle, now.Session.Idle, was.Session.IdleText, now.Session.IdleText},
		} {
			if x.was > 0 && (x.now == 0 || x.now > x.was || others) {
				list = append(list, Longer{was.Name, x.limit, x.wasText, x.afterText, others})
			}
		}
	}
	return list
}

// abstaining counts the cases in which a policy has no say, and with it no limit.
func abstaining(p *rulebook.Policy) (n int) {
	for i := range p.Cases {
		if p.Cases[i].Kind == rulebook.Abstain {
			n++
		}
	}
	return n
}

func (l Longer) lines() []Line {
	text := l.Policy + "  session " + l.Limit + " " + l.Before + " to " + cmp.Or(l.After, "without limit")
	if l.Others {
		text += ", and for others than before"
	}
	return []Line{{Text: text}}
}

// outside are the declarations that changed of who is believed, and of which app an address is: an issuer of tokens or a caller that is
// new or different, a source of signals that is new, different or no longer heard, an app at other addresses.
func outside(changed []Declared, before, after *briskwarden.Rulebook) []Declared {
	was, is := addresses(before), addresses(after)
	list := []Declared{}
	for _, d := range changed {
		kind, name, _ := strings.Cut(d.What, " ")
		switch {
		case kind == "signals", kind == "issuer" && d.Change != Gone, kind == "caller" && d.Change != Gone, kind == "app" && was[name] != is[name]:
			list = append(list, d)
		}
	}
	return list
}

// addresses are those of apps, by the names of these as they are written.
func addresses(rules *briskwarden.Rulebook) map[string]string {
	list := map[string]string{}
	for _, app := range bridge.Engine(rules).Rulebook().Apps {
		list[app.Decl.Name.String()] = app.Decl.URL.Text
	}
	return list
}
