// Package raise puts alerts into the outbox, as many as their limits let through, whatever other nodes put there
// meanwhile.
//
// Every alert has gates in the state: one of sixty an hour, and one for each user or app that it counts. Alerts that are raised at
// the same time go through their gates together, in one change that moves the gates and adds the messages, or does neither; a change
// that another node was ahead of is made again. A gate that is known to be closed is not asked until it opens, and what it
// holds back is counted here and added to it within ten seconds.
package raise

import (
	"context"
	"errors"
	"maps"
	"slices"
	"sync"
	"time"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"

	"briskwarden.example/briskwarden/internal/alert"
	"briskwarden.example/briskwarden/internal/gather"
	"briskwarden.example/briskwarden/internal/outbox"
	"briskwarden.example/briskwarden/internal/rulebook"
	"briskwarden.example/briskwarden/service/state"
)

// Raised is an alert that a sign-on raises.
type Raised struct {
	Alert     *rulebook.Alert
	User, App string
	Content   func(held int) (outbox.Content, error) // made for those that are sent alone

	done chan error
}

// Raiser puts alerts into the outbox of a store. It is safe for concurrent use.
type Raiser struct {
	Store   state.Store
	Sender  *outbox.Sender
	Summary func(*alert.Summary) (outbox.Content, error)

	turns gather.Gatherer[*Raised]

	mu     sync.Mutex
	closed map[state.Key]time.Time // gates that let nothing through until then, by what was read of them last
	held   map[state.Key]*backlog  // what they held back, and is not kept yet
}

// backlog is what a gate held back, that is not told yet.
type backlog struct {
	Held  int       `json:"held,omitzero"`
	Since time.Time `json:"since,omitzero"`
	Users []string  `json:"users,omitempty"` // some of them

	Rest jsontext.Value `json:",embed"` // what this version does not know
}

// gate is a gate as it is kept.
type gate struct {
	Gate    alert.Gate `json:"gate"`
	Waiting backlog    `json:"waiting"`

	Rest jsontext.Value `json:",embed"` // what this version does not know
}

// opens is when the gate lets one through.
func (g *gate) opens(l alert.Limit) time.Time { return g.Gate.Opens(l) }

// The bounds of what is held in memory, and done at once.
const (
	mostAtOnce = 100
	mostClosed = 100_000
	mostUsers  = 5
	mostTries  = 20
	keptFor    = 3 * 24 * time.Hour // a gate that nothing comes to
	patience   = 10 * time.Second
)

// New returns a raiser whose fields are to be set.
func New(store state.Store) *Raiser {
	r := &Raiser{Store: store, closed: map[state.Key]time.Time{}, held: map[state.Key]*backlog{}}
	r.turns = gather.Gatherer[*Raised]{AtOnce: 1, Fits: func(waiting []*Raised) int { return min(len(waiting), mostAtOnce) }, Answer: r.answer}
	return r
}

// capKey is of the gate that every alert has, whatever it says.
func capKey(name string) state.Key { return state.Key{Kind: state.AlertGate, Owner: name} }

// gateKey is of the gate of what the alert says; it reports false where it says nothing.
func (a *Raised) gateKey() (state.Key, bool) {
	return state.Key{Kind: state.AlertGate, Owner: a.Alert.Name, ID: alert.CountedFor(a.Alert, a.User, a.App)}, a.Alert.Most > 0
}

// Raise puts alerts into the outbox, and returns once they are there, or are held back. At is the time.
func (r *Raiser) Raise(ctx context.Context, at time.Time, list []*Raised) error {
	var waiting []*Raised
	for _, a := range list {
		if len(a.Alert.Tell) > 0 && !r.holdsBack(a, at) {
			a.done = make(chan error, 1)
			waiting = append(waiting, a)
		}
	}
	for _, a := range waiting {
		r.turns.Ask(a)
	}
	var failed error
	for _, a := range waiting {
		select {
		case err := <-a.done:
			failed = errors.Join(failed, err)
		case <-ctx.Done():
			return ctx.Err()
		}
	}
	return failed
}

// holdsBack holds an alert back where a gate is known to be closed.
func (r *Raiser) holdsBack(a *Raised, at time.Time) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	key := capKey(a.Alert.Name)
	if !at.Before(r.closed[key]) {
		said := false
		if key, said = a.gateKey(); !said || !at.Before(r.closed[key]) {
			return false
		}
	}
	b := r.held[key]
	if b == nil {
		b = &backlog{}
		r.held[key] = b
	}
	b.add(a.User, at)
	return true
}

func (b *backlog) add(user string, at time.Time) {
	b.Held++
	if b.Since.IsZero() || at.Before(b.Since) {
		b.Since = at
	}
	if len(b.Users) < mostUsers && !slices.Contains(b.Users, user) {
		b.Users = append(b.Users, user)
	}
}

// merge adds what was held back elsewhere or later.
func (b *backlog) merge(other *backlog) {
	held := b.Held + other.Held
	for _, user := range other.Users {
		b.add(user, other.Since)
	}
	b.Held = held
}

// answer puts alerts into the outbox together.
func (r *Raiser) answer(list []*Raised) {
	ctx, cancel := context.WithTimeout(context.Background(), patience)
	defer cancel()
	limits := map[state.Key]alert.Limit{}
	for _, a := range list {
		limits[capKey(a.Alert.Name)] = alert.MostAnHour
		if key, said := a.gateKey(); said {
			limits[key] = alert.LimitOf(a.Alert)
		}
	}
	err := state.ErrConflict
	for tries := 0; tries < mostTries && errors.Is(err, state.ErrConflict); tries++ {
		err = r.change(ctx, limits, func(t *transaction) error { return t.put(list) })
	}
	if err != nil && len(list) > 1 && ctx.Err() == nil { // it may be one alone that cannot be kept
		for _, a := range list {
			r.answer([]*Raised{a})
		}
		return
	}
	for _, a := range list {
		a.done <- err
	}
}

// Look keeps what was held back, and sends the summaries of alerts that are due. It is to be called every few seconds.
func (r *Raiser) Look(ctx context.Context, alerts []*rulebook.Alert) error {
	byName := map[string]*rulebook.Alert{}
	looked := map[state.Key]alert.Limit{}
	for _, a := range alerts {
		if byName[a.Name] = a; len(a.Tell) > 0 {
			looked[capKey(a.Name)] = alert.MostAnHour
		}
	}
	r.mu.Lock()
	for key := range r.held {
		if a := byName[key.Owner]; a == nil { // the rulebook has it no more
			delete(r.held, key)
		} else if key != capKey(key.Owner) {
			looked[key] = alert.LimitOf(a)
		}
	}
	r.mu.Unlock()
	var failed error
	for some := range slices.Chunk(slices.Collect(maps.Keys(looked)), mostAtOnce) {
		chunk := map[state.Key]alert.Limit{}
		for _, key := range some {
			chunk[key] = looked[key]
		}
		err := r.change(ctx, chunk, func(t *transaction) error { return t.summaries(byName) })
		if !errors.Is(err, state.ErrConflict) { // then another node was first: with the next look
			failed = errors.Join(failed, err)
		}
	}
	return failed
}

// transaction changes gates, and adds messages, together.
type transaction struct {
	*Raiser
	at       time.Time
	limits   map[state.Key]alert.Limit
	gates    map[state.Key]*gate
	changed  map[state.Key]bool
	messages []*outbox.Message
}

// change applies a change to gates, to which it first adds what they held back.
func (r *Raiser) change(ctx context.Context, limits map[state.Key]alert.Limit, apply func(*transaction) error) error {
	keys := slices.Collect(maps.Keys(limits))
	reading, err := r.Store.Read(ctx, keys)
	if err != nil {
		return err
	}
	t := &transaction{Raiser: r, at: reading.At, limits: limits, gates: map[state.Key]*gate{}, changed: map[state.Key]bool{}}
	for i, key := range keys {
		g := &gate{}
		if value := reading.Items[i].Value; value != nil {
			if err := json.Unmarshal(value, g); err != nil {
				return err
			}
		}
		t.gates[key] = g
	}
	taken := t.takeHeld()
	if err = apply(t); err == nil {
		err = t.write(ctx, keys, reading.Items)
	}
	if err != nil {
		r.holdAgain(taken)
	}
	return err
}

// takeHeld adds what gates held back to what is kept of them.
func (t *transaction) takeHeld() map[state.Key]*backlog {
	t.mu.Lock()
	defer t.mu.Unlock()
	taken := map[state.Key]*backlog{}
	for key, g := range t.gates {
		if b := t.held[key]; b != nil {
			g.Waiting.merge(b)
			taken[key], t.changed[key] = b, true
			delete(t.held, key)
		}
	}
	return taken
}

// holdAgain takes back what could not be kept.
func (r *Raiser) holdAgain(taken map[state.Key]*backlog) {
	r.mu.Lock()
	defer r.mu.Unlock()
	for key, b := range taken {
		if newer := r.held[key]; newer != nil {
			b.merge(newer)
		}
		r.held[key] = b
	}
}

// write writes what was changed, and tells of the messages.
func (t *transaction) write(ctx context.Context, keys []state.Key, items []state.Item) error {
	set, err := t.set(keys, items)
	if err != nil || len(set) == 0 {
		return err
	}
	if err := t.Store.Write(ctx, set)[0]; err != nil {
		return err
	}
	t.mu.Lock()
	for key := range t.changed {
		t.noteClosed(key, t.gates[key].opens(t.limits[key]), t.at)
	}
	t.mu.Unlock()
	t.Sender.Added(t.messages...)
	return nil
}

func (r *Raiser) noteClosed(key state.Key, opens, now time.Time) {
	if !opens.After(now) {
		delete(r.closed, key)
		return
	}
	if len(r.closed) >= mostClosed { // those that are let go are read again
		clear(r.closed)
	}
	r.closed[key] = opens
}

// set are the changes that are to be written.
func (t *transaction) set(keys []state.Key, items []state.Item) (set []state.Change, err error) {
	for i, key := range keys {
		if !t.changed[key] {
			continue
		}
		value, err := json.Marshal(t.gates[key])
		if err != nil {
			return nil, err
		}
		set = append(set, state.Change{Key: key, If: items[i].Version, Value: value, Expires: t.at.Add(max(t.limits[key].Every, keptFor))})
	}
	for _, m := range t.messages {
		c, err := m.Change(0)
		if err != nil {
			return nil, err
		}
		set = append(set, c)
	}
	return set, nil
}

// put takes alerts through their gates, and makes the messages of those that pass.
func (t *transaction) put(list []*Raised) error {
	for _, a := range list {
		key := capKey(a.Alert.Name)
		most := t.gates[key]
		t.changed[key] = true
		if t.at.Before(most.opens(alert.MostAnHour)) {
			most.Waiting.add(a.User, t.at)
			continue
		}
		held := 0
		if key, said := a.gateKey(); said {
			t.changed[key] = true
			g := t.gates[key]
			if t.at.Before(g.opens(alert.LimitOf(a.Alert))) {
				g.Waiting.add(a.User, t.at)
				continue
			}
			g.Gate.Pass(t.at, alert.LimitOf(a.Alert))
			held, g.Waiting = g.Waiting.Held, backlog{}
		}
		if err := t.summary(a.Alert); err != nil {
			return err
		}
		most.Gate.Pass(t.at, alert.MostAnHour)
		content, err := a.Content(held)
		if err != nil {
			return err
		}
		t.send(a.Alert, content)
	}
	return nil
}

// send makes the messages for all receivers of an alert.
func (t *transaction) send(a *rulebook.Alert, c outbox.Content) {
	for _, to := range a.Tell {
		t.messages = append(t.messages, t.Sender.New(to.Address, to.SecretIn, "alert "+a.Name, t.at, c))
	}
}

// summary sends the summary of an alert whose hour is over, if there is something to tell.
func (t *transaction) summary(a *rulebook.Alert) error {
	key := capKey(a.Name)
	g := t.gates[key]
	if g == nil || g.Waiting.Held == 0 || t.at.Before(g.opens(alert.MostAnHour)) {
		return nil
	}
	c, err := t.Summary(&alert.Summary{Alert: a.Name, Held: g.Waiting.Held, Since: g.Waiting.Since, Until: t.at, Users: g.Waiting.Users})
	if err != nil {
		return err
	}
	t.send(a, c)
	g.Waiting = backlog{}
	t.changed[key] = true
	return nil
}

// summaries sends those that are due.
func (t *transaction) summaries(byName map[string]*rulebook.Alert) error {
	for key := range t.gates {
		if key != capKey(key.Owner) {
			continue
		}
		if err := t.summary(byName[key.Owner]); err != nil {
			return err
		}
	}
	return nil
}
