package consent

import (
	"cmp"
	"maps"
	"slices"
	"time"

	"briskwarden.example/briskwarden/internal/spell"
	"briskwarden.example/briskwarden/signon"
)

// Holding is what a client holds, all its consents taken together.
type Holding struct {
	Client
	Scopes   []string  // of all consents that hold
	Weight   int       // of those scopes
	People   int       // users who hold one of their own
	Groups   []string  // that hold one
	Everyone bool      // one is for everyone
	Holds    int       // consents that hold
	Waiting  int       // requests that wait
	Last     time.Time // when something was asked last
}

// Clients is the inventory of clients, the heaviest first. What a banned client would hold is
// counted, though it is of no use to it.
func (l *Ledger) Clients() (list []*Holding, err error) {
	err = l.store.View(func(tx Tx) error {
		byID := map[string]*gathering{}
		for c, err := range tx.Clients() {
			if err != nil {
				return err
			}
			byID[c.ID] = newGathering(*c)
		}
		for c, err := range tx.Consents(Selection{}) {
			if err != nil {
				return err
			}
			g, there := byID[c.Client]
			if !there {
				g = newGathering(Client{ID: c.Client})
				byID[c.Client] = g
			}
			if err := g.add(l, c); err != nil {
				return err
			}
		}
		for _, g := range byID {
			list = append(list, g.holding(l))
		}
		return nil
	})
	slices.SortFunc(list, func(a, b *Holding) int {
		return cmp.Or(b.Weight-a.Weight, b.People-a.People, len(b.Scopes)-len(a.Scopes), cmp.Compare(a.ID, b.ID))
	})
	return list, err
}

// gathering is a holding that grows.
type gathering struct {
	Holding
	now                    time.Time
	scopes, people, groups map[string]bool
}

func newGathering(c Client) *gathering {
	return &gathering{Holding: Holding{Client: c}, scopes: map[string]bool{}, people: map[string]bool{}, groups: map[string]bool{}}
}

func (g *gathering) add(l *Ledger, c *Consent) error {
	if c.Asked.After(g.Last) {
		g.Last = c.Asked
	}
	if c.State == Waiting {
		g.Waiting++
	}
	if g.now.IsZero() {
		g.now = l.engine.Now()
	}
	holds, _, err := l.standing(c, g.now)
	if err != nil || !holds {
		return err
	}
	g.Holds++
	for _, s := range c.Granted {
		g.scopes[s] = true
	}
	switch c.For {
	case signon.ForEveryone:
		g.Everyone = true
	case signon.ForGroup:
		g.groups[c.Group] = true
	default:
		g.people[c.User] = true
	}
	return nil
}

func (g *gathering) holding(l *Ledger) *Holding {
	g.Scopes, g.Groups, g.People = slices.Sorted(maps.Keys(g.scopes)), slices.Sorted(maps.Keys(g.groups)), len(g.people)
	g.Weight = l.engine.Rulebook().Weigh(g.Scopes)
	return &g.Holding
}

// Waiting are the requests that wait for a review, the oldest first.
func (l *Ledger) Waiting() (list []*Consent, err error) {
	err = l.store.View(func(tx Tx) error {
		for c, err := range tx.Consents(Selection{State: Waiting}) {
			if err != nil {
				return err
			}
			list = append(list, c)
		}
		return nil
	})
	slices.SortStableFunc(list, func(a, b *Consent) int { return a.Asked.Compare(b.Asked) })
	return list, err
}

// File is everything that there is about one client.
type File struct {
	Holding   *Holding
	Consents  []*Consent
	Standing  map[ID]string // of each consent: how it stands now
	LookAlike []Client      // whose id or name could be taken for this one's
	Entries   []*Entry      // of the journal
}

// Find finds a consent; nil where there is none.
func (l *Ledger) Find(id ID) (c *Consent, err error) {
	err = l.store.View(func(tx Tx) error {
		c, err = tx.Consent(id)
		return err
	})
	return c, err
}

// ClientNames are the ids of all clients.
func (l *Ledger) ClientNames() (ids []string, err error) {
	list, err := l.Clients()
	for _, h := range list {
		ids = append(ids, h.ID)
	}
	slices.Sort(ids)
	return ids, err
}

// File gathers everything about a client; nil where there is nothing.
func (l *Ledger) File(client string) (f *File, err error) {
	err = l.store.View(func(tx Tx) error {
		record, err := tx.Client(client)
		if err != nil {
			return err
		}
		f = &File{Standing: map[ID]string{}}
		g := newGathering(Client{ID: client})
		if record != nil {
			g.Client = *record
		}
		for c, err := range tx.Consents(Selection{Client: client}) {
			if err != nil {
				return err
			}
			f.Consents = append(f.Consents, c)
			if err := g.add(l, c); err != nil {
				return err
			}
			if _, f.Standing[c.ID], err = l.standing(c, g.now); err != nil {
				return err
			}
		}
		if record == nil && len(f.Consents) == 0 {
			f = nil
			return nil
		}
		f.Holding = g.holding(l)
		return f.lookAround(tx)
	})
	return f, err
}

// lookAround finds clients that look alike, and what the journal has.
func (f *File) lookAround(tx Tx) error {
	mine := &f.Holding.Client
	for c, err := range tx.Clients() {
		if err != nil {
			return err
		}
		if c.ID != mine.ID && alike(c, mine) {
			f.LookAlike = append(f.LookAlike, *c)
		}
	}
	for e, err := range tx.Entries() {
		if err != nil {
			return err
		}
		if e.Client == mine.ID {
			f.Entries = append(f.Entries, e)
		}
	}
	return nil
}

// alike reports whether the id or the name of one client could be taken for the other's.
func alike(a, b *Client) bool {
	for _, x := range []string{a.ID, a.Name} {
		for _, y := range []string{b.ID, b.Name} {
			if x != "" && y != "" && spell.Alike(x, y) {
				return true
			}
		}
	}
	return false
}

// Journal gives the entries of the journal, one after the other, for as long as each is wanted.
func (l *Ledger) Journal(each func(*Entry) error) error {
	return l.store.View(func(tx Tx) error {
		for e, err := range tx.Entries() {
			if err != nil {
				return err
			}
			if err := each(e); err != nil {
				return err
			}
		}
		return nil
	})
}
