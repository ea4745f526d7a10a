package consent

// What every client holds, what waits, and which clients look alike.

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

// inventory is every client with what it holds, the heaviest first.
func (o *operation) inventory() (list []*Holding, err error) {
	err = o.store.View(o.ctx, func(tx Tx) error {
		clients, err := clientsOf(tx)
		if err != nil {
			return err
		}
		byID, now := map[string]*gathering{}, o.engine.Now()
		for _, c := range clients {
			byID[c.ID] = newGathering(*c, now)
		}
		for c, err := range tx.Consents(Selection{}) {
			if err != nil {
				return err
			}
			g, there := byID[c.Client]
			if !there {
				g = newGathering(Client{ID: c.Client}, now)
				byID[c.Client] = g
			}
			if err := g.add(o, c); err != nil {
				return err
			}
		}
		for _, g := range byID {
			list = append(list, g.holding(o))
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

func newGathering(c Client, now time.Time) *gathering {
	return &gathering{Holding: Holding{Client: c}, now: now, scopes: map[string]bool{}, people: map[string]bool{}, groups: map[string]bool{}}
}

func (g *gathering) add(o *operation, c *Consent) error {
	if c.Asked.After(g.Last) {
		g.Last = c.Asked
	}
	if c.State == Waiting {
		g.Waiting++
	}
	holds, _, err := o.standing(c, g.now)
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

func (g *gathering) holding(o *operation) *Holding {
	g.Scopes, g.Groups, g.People = slices.Sorted(maps.Keys(g.scopes)), slices.Sorted(maps.Keys(g.groups)), len(g.people)
	g.Weight = o.engine.Rulebook().Weigh(g.Scopes)
	return &g.Holding
}

// Request is a request that waits for a review.
type Request struct {
	*Consent
	Client    Client   // which asks
	LookAlike []Client // the first of those whose id or name could be taken for this one's
	AllAlike  int      // how many those are
}

// requests are those that wait for a review, the oldest first.
func (o *operation) requests() (list []Request, err error) {
	err = o.store.View(o.ctx, func(tx Tx) error {
		clients, err := clientsOf(tx)
		if err != nil {
			return err
		}
		looks := looksOf(clients)
		for c, err := range tx.Consents(Selection{State: Waiting}) {
			if err != nil {
				return err
			}
			client := clientOf(clients, c.Client)
			others, all := looks.like(&client)
			list = append(list, Request{c, client, others, all})
		}
		return nil
	})
	slices.SortStableFunc(list, func(a, b Request) int { return a.Asked.Compare(b.Asked) })
	return list, err
}

// clientsOf are the clients that the ledger has a record of, by id.
func clientsOf(tx Tx) (map[string]*Client, error) {
	clients := map[string]*Client{}
	for c, err := range tx.Clients() {
		if err != nil {
			return nil, err
		}
		clients[c.ID] = c
	}
	return clients, nil
}

// clientOf is a client, with its id alone where the ledger has no record of it.
func clientOf(clients map[string]*Client, id string) Client {
	if c := clients[id]; c != nil {
		return *c
	}
	return Client{ID: id}
}

// looks are clients by what their ids and names look like.
type looks struct {
	clients map[string][]*Client // by skeleton, and by id
	both    map[[2]string]int    // how many look like either of two skeletons
}

func looksOf(clients map[string]*Client) looks {
	l := looks{map[string][]*Client{}, map[[2]string]int{}}
	for _, id := range slices.Sorted(maps.Keys(clients)) {
		list := skeletons(clients[id])
		for _, bones := range list {
			l.clients[bones] = append(l.clients[bones], clients[id])
		}
		if len(list) == 2 {
			l.both[pair(list)]++
		}
	}
	return l
}

func pair(list []string) [2]string { return [2]string{min(list[0], list[1]), max(list[0], list[1])} }

// skeletons are those of a client's id and name.
func skeletons(c *Client) []string {
	list := []string{spell.Skeleton(c.ID)}
	if bones := spell.Skeleton(c.Name); c.Name != "" && bones != list[0] {
		list = append(list, bones)
	}
	return list
}

// MostAlike is how many clients that look like one are listed.
const MostAlike = 10

// like are the first of the other clients whose id or name could be taken for this one's, by
// id, and how many there are.
func (l looks) like(c *Client) (others []Client, all int) {
	mine := skeletons(c)
	for _, bones := range mine {
		list := l.clients[bones]
		all += len(list)
		for _, other := range list[:min(len(list), MostAlike+1)] {
			if other.ID != c.ID && !slices.ContainsFunc(others, func(o Client) bool { return o.ID == other.ID }) {
				others = append(others, *other)
			}
		}
		if _, there := slices.BinarySearchFunc(list, c.ID, byID); there {
			all-- // itself
		}
	}
	if len(mine) == 2 {
		all -= l.both[pair(mine)]
		if _, there := slices.BinarySearchFunc(l.clients[mine[0]], c.ID, byID); there {
			all++ // itself is among both
		}
	}
	slices.SortFunc(others, func(a, b Client) int { return cmp.Compare(a.ID, b.ID) })
	return others[:min(len(others), MostAlike)], all
}

func byID(c *Client, id string) int { return cmp.Compare(c.ID, id) }

// File is everything that there is about one client.
type File struct {
	Holding   *Holding
	Consents  []*Consent
	Standing  map[ID]string // of each consent: how it stands now
	LookAlike []Client      // the first of those whose id or name could be taken for this one's
	AllAlike  int           // how many those are
	Entries   []*Entry      // of the journal
}

// find finds a consent; nil where there is none.
func (o *operation) find(id ID) (c *Consent, err error) {
	err = o.store.View(o.ctx, func(tx Tx) error {
		c, err = tx.Consent(id)
		return err
	})
	return c, err
}

// file gathers everything about a client; nil where there is nothing.
func (o *operation) file(client string) (f *File, err error) {
	err = o.store.View(o.ctx, func(tx Tx) error {
		clients, err := clientsOf(tx)
		if err != nil {
			return err
		}
		f = &File{Standing: map[ID]string{}}
		g := newGathering(clientOf(clients, client), o.engine.Now())
		for c, err := range tx.Consents(Selection{Client: client}) {
			if err != nil {
				return err
			}
			f.Consents = append(f.Consents, c)
			if err := g.add(o, c); err != nil {
				return err
			}
			if _, f.Standing[c.ID], err = o.standing(c, g.now); err != nil {
				return err
			}
		}
		if clients[client] == nil && len(f.Consents) == 0 {
			f = nil
			return nil
		}
		f.Holding = g.holding(o)
		f.LookAlike, f.AllAlike = looksOf(clients).like(&f.Holding.Client)
		for e, err := range tx.Entries() {
			if err != nil {
				return err
			}
			if e.Client == client {
				f.Entries = append(f.Entries, e)
			}
		}
		return nil
	})
	return f, err
}
