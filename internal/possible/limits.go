package possible

// How long sessions last, as propositions.

import (
	"maps"
	"slices"
	"time"

	"briskwarden.example/briskwarden/internal/logic"
	"briskwarden.example/briskwarden/internal/rulebook"
)

// Within is that a session ends after some time at the latest.
type Within struct {
	Limit time.Duration
	Holds logic.Lit
}

// Within tells, for each limit that a rulebook's policies set, whether a session that begins with the sign-on has it or a shorter
// one; the shortest first. Of gives the limit of a policy; zero is none.
func (sp *Space) Within(number int, policies Policies, of func(*rulebook.Session) time.Duration) (list []Within) {
	r, known := sp.ruler(number, policies)
	if !known {
		return nil
	}
	byLimit := map[time.Duration][]logic.Lit{}
	for _, p := range r.rb.Policies {
		limit := of(&p.Session)
		if limit == 0 || !p.Within(sp.Action) || !p.To.Holds(r.app) {
			continue
		}
		counts := sp.And(sp.Ordinary(number), sp.who(r.side, &p.Who), r.enforced(p, policies.Watched))
		for i, taken := range sp.cases(r.side, p, counts) {
			if p.Cases[i].Kind != rulebook.Abstain {
				byLimit[limit] = append(byLimit[limit], taken.May)
			}
		}
	}
	holds := logic.No
	for _, limit := range slices.Sorted(maps.Keys(byLimit)) {
		holds = sp.Or(append(byLimit[limit], holds)...)
		list = append(list, Within{limit, holds})
	}
	return list
}

// Longer is whether a session ends later than in another one's limits.
func (sp *Space) Longer(than, list []Within) logic.Lit {
	var ways []logic.Lit
	for _, w := range than {
		ways = append(ways, sp.And(w.Holds, at(list, w.Limit).Not()))
	}
	return sp.Or(ways...)
}

// at is whether a session ends after some time at the latest.
func at(list []Within, limit time.Duration) logic.Lit {
	holds := logic.No
	for _, w := range list {
		if w.Limit <= limit {
			holds = w.Holds
		}
	}
	return holds
}
