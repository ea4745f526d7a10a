package search

// Of whom, and where, one witness serves for all.

import (
	"cmp"
	"context"
	"slices"

	"briskwarden.example/briskwarden/internal/possible"
	"briskwarden.example/briskwarden/signon"
)

// Entry is people, apps and actions for all of which one witness comes to what is sought, in the same way.
type Entry struct {
	People  []string // in order
	Kinds   []*possible.Kind
	Apps    []string
	Actions []string
	Way     int
	Witness signon.SignOn // of the first person, app and action
}

// size is how many triples of a person, an app and an action it has.
func (e *Entry) size() int {
	people := 0
	for _, k := range e.Kinds {
		people += len(k.People)
	}
	return people * len(e.Apps) * len(e.Actions)
}

// triple is somebody, something signed on to and what for, of which something sought was found.
type triple struct {
	kind *possible.Kind
	Target
	way int // -1 where any way is sought
}

// gathering makes entries of what was found.
type gathering struct {
	ctx     context.Context
	quest   Quest
	found   map[triple]bool
	covered map[triple]int              // by how many entries
	near    []*possible.Kind            // whom the entry at hand may have
	at      map[triple][]*possible.Kind // of whom something was found there, by target and way
	apps    []string
	actions []string
}

// entries gathers what was found into entries that have together exactly the people, apps and actions of
// which it was found, the widest first; none of them is superfluous.
func (f *Found) entries(ctx context.Context) ([]Entry, error) {
	g := &gathering{ctx: ctx, quest: f.Quest, found: map[triple]bool{}, at: map[triple][]*possible.Kind{}, covered: map[triple]int{}}
	for i := range f.Hits {
		h := &f.Hits[i]
		for _, k := range h.Kinds {
			if t := g.triple(k, h.Target, h.Way); !g.found[t] {
				g.found[t] = true
				there := g.triple(nil, h.Target, h.Way)
				g.at[there] = append(g.at[there], k)
			}
		}
		if !slices.Contains(g.apps, h.App) {
			g.apps = append(g.apps, h.App)
		}
		if !slices.Contains(g.actions, h.Action) {
			g.actions = append(g.actions, h.Action)
		}
	}
	slices.Sort(g.apps)
	slices.Sort(g.actions)
	var entries []Entry
	for i := range f.Hits {
		h := &f.Hits[i]
		for _, k := range h.Kinds {
			if g.covered[g.triple(k, h.Target, h.Way)] > 0 {
				continue
			}
			e, err := g.grow(h, k)
			if err != nil {
				return nil, err
			}
			entries = append(entries, *e)
			g.each(e, func(t triple) { g.covered[t]++ })
		}
	}
	entries = g.needed(entries)
	for i := range entries {
		e := &entries[i]
		for _, k := range e.Kinds {
			e.People = append(e.People, k.People...)
		}
		slices.Sort(e.People)
	}
	return entries, nil
}

func (g *gathering) triple(k *possible.Kind, t Target, way int) triple {
	if !g.quest.EachWay() {
		way = -1
	}
	return triple{k, t, way}
}

// grow finds a wide entry about a hit: first the apps, then the people of all of them; or first the people.
// When the time is over, it is the hit alone.
func (g *gathering) grow(h *Hit, k *possible.Kind) (*Entry, error) {
	g.near = g.nearTo(h)
	serves := func(k *possible.Kind, t Target) (bool, error) { return g.serves(h, k, t) }
	if g.ctx.Err() != nil {
		serves = func(_ *possible.Kind, t Target) (bool, error) { return t == h.Target, nil }
	}
	one := Entry{Kinds: []*possible.Kind{k}, Apps: []string{h.App}, Actions: []string{h.Action}, Way: h.Way}
	var best *Entry
	for _, order := range [][]func(*Entry, serving) error{{g.moreActions, g.moreApps, g.morePeople}, {g.morePeople, g.moreApps, g.moreActions}} {
		e := one
		for _, more := range order {
			if err := more(&e, serves); err != nil {
				return nil, err
			}
		}
		if best == nil || e.size() > best.size() {
			best = &e
		}
	}
	slices.SortFunc(best.Kinds, func(a, b *possible.Kind) int { return cmp.Compare(a.People[0], b.People[0]) })
	slices.Sort(best.Apps)
	slices.Sort(best.Actions)
	best.Witness = h.SignOn
	best.Witness = put(&best.Witness, best.Kinds[0].People[0], Target{best.Apps[0], best.Actions[0]})
	return best, nil
}

// mostNear is how many kinds of people are tried for an entry, beyond those for whom its witness was found.
const mostNear = 128

// nearTo are the kinds of people that an entry about a hit may have: all of whom something was found there,
// or where they are too many, those whom the hit serves and that no entry has yet.
func (g *gathering) nearTo(h *Hit) []*possible.Kind {
	if near := g.at[g.triple(nil, h.Target, h.Way)]; len(near) <= mostNear {
		return near
	}
	return slices.DeleteFunc(slices.Clone(h.Kinds), func(k *possible.Kind) bool { return g.covered[g.triple(k, h.Target, h.Way)] > 0 })
}

// serving tells whether the witness of a hit serves for others.
type serving func(*possible.Kind, Target) (bool, error)

func (g *gathering) serves(h *Hit, k *possible.Kind, t Target) (bool, error) {
	if t == h.Target && slices.Contains(h.Kinds, k) {
		return true, nil
	}
	if !g.found[g.triple(k, t, h.Way)] || !k.CanBe(&h.SignOn) || h.SignOn.Consent != nil && t.Action != h.Action {
		return false, nil
	}
	so := put(&h.SignOn, k.People[0], t)
	way, is, err := g.quest.Judge(g.ctx, &so)
	return is && way == h.Way, err
}

// put puts a person, an app and an action into a sign-on: into proof of that app, too.
func put(so *signon.SignOn, user string, t Target) signon.SignOn {
	c := *so
	c.User, c.App, c.Action = user, t.App, t.Action
	if so.App != t.App {
		c.Evidence = slices.Clone(so.Evidence)
		for i := range c.Evidence {
			if c.Evidence[i].App == so.App {
				c.Evidence[i].App = t.App
			}
		}
	}
	return c
}

func (g *gathering) moreActions(e *Entry, serves serving) error {
	for _, action := range g.actions {
		if slices.Contains(e.Actions, action) {
			continue
		}
		all, err := every(e.Kinds, e.Apps, []string{action}, serves)
		if err != nil {
			return err
		}
		if all {
			e.Actions = append(slices.Clone(e.Actions), action)
		}
	}
	return nil
}

func (g *gathering) moreApps(e *Entry, serves serving) error {
	for _, app := range g.apps {
		if slices.Contains(e.Apps, app) {
			continue
		}
		all, err := every(e.Kinds, []string{app}, e.Actions, serves)
		if err != nil {
			return err
		}
		if all {
			e.Apps = append(slices.Clone(e.Apps), app)
		}
	}
	return nil
}

func (g *gathering) morePeople(e *Entry, serves serving) error {
	kinds := slices.Clone(e.Kinds)
	for _, k := range g.near {
		if k == e.Kinds[0] {
			continue
		}
		all, err := every([]*possible.Kind{k}, e.Apps, e.Actions, serves)
		if err != nil {
			return err
		}
		if all {
			kinds = append(kinds, k)
		}
	}
	e.Kinds = kinds
	return nil
}

func every(kinds []*possible.Kind, apps, actions []string, serves serving) (bool, error) {
	for _, k := range kinds {
		for _, app := range apps {
			for _, action := range actions {
				if is, err := serves(k, Target{app, action}); err != nil || !is {
					return false, err
				}
			}
		}
	}
	return true, nil
}

func (g *gathering) each(e *Entry, f func(triple)) {
	for _, k := range e.Kinds {
		for _, app := range e.Apps {
			for _, action := range e.Actions {
				f(g.triple(k, Target{app, action}, e.Way))
			}
		}
	}
}

// needed leaves out the entries that others make superfluous, the smallest first, and gives the widest first.
func (g *gathering) needed(entries []Entry) []Entry {
	slices.SortStableFunc(entries, func(a, b Entry) int {
		return cmp.Or(cmp.Compare(b.size(), a.size()), cmp.Compare(a.Way, b.Way), cmp.Compare(a.Kinds[0].People[0], b.Kinds[0].People[0]), slices.Compare(a.Apps, b.Apps))
	})
	var kept []Entry
	for i := len(entries) - 1; i >= 0; i-- {
		superfluous := true
		g.each(&entries[i], func(t triple) { superfluous = superfluous && g.covered[t] > 1 })
		if superfluous {
			g.each(&entries[i], func(t triple) { g.covered[t]-- })
			continue
		}
		kept = append(kept, entries[i])
	}
	slices.Reverse(kept)
	return kept
}
