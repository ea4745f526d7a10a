package memory

// Accounts at risk: by signals, and by people who look after them. What people do is kept in a journal, in which each
// entry carries the hash of the one before.

import (
	"context"
	"errors"
	"fmt"
	"iter"
	"maps"
	"slices"
	"time"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"

	"briskwarden.example/briskwarden/internal/chain"
	"briskwarden.example/briskwarden/internal/rulebook"
	"briskwarden.example/briskwarden/service/state"
)

// raised is a risk that somebody raised.
type raised struct {
	At      time.Time `json:"at"`
	By      string    `json:"by"`
	Because string    `json:"because"`

	Rest jsontext.Value `json:",embed"` // what this version does not know
}

// Entry is one entry of the journal.
type Entry struct {
	Number   int64     `json:"number"` // from 1, without a gap
	Time     time.Time `json:"time"`   // by the clock of the state
	What     string    `json:"what"`   // raise or settle
	User     string    `json:"user"`
	By       string    `json:"by"`
	Because  string    `json:"because"`
	Previous string    `json:"previous"` // the hash of the entry before it; empty for the first
	Hash     string    `json:"hash"`     // SHA-256 over the entry's JSON without this field
}

func (e *Entry) seal() (string, error) {
	open := *e
	open.Hash = ""
	return chain.Hash(&open)
}

// head is the journal's last entry.
type head struct {
	Number int64  `json:"number"`
	Hash   string `json:"hash"`

	Rest jsontext.Value `json:",embed"` // what this version does not know
}

func entryKey(number int64) state.Key {
	return state.Key{Kind: state.RiskEntry, Owner: fmt.Sprintf("%020d", number)}
}

var headKey = state.Key{Kind: state.RiskHead}

// The changes that the journal knows.
const (
	Raise  = "raise"
	Settle = "settle"
)

// Raise raises a user's risk to high, and ends all sessions. Every decision that begins once it has returned obeys it.
func (m *Memory) Raise(ctx context.Context, e Entry) error {
	e.What = Raise
	if err := m.journalled(ctx, &e, func(k *marks) { k.Raised = raised{At: e.Time, By: e.By, Because: e.Because}; k.end("", e.Time) }); err != nil {
		return err
	}
	return m.End(ctx, e.User, "") // what began meanwhile, too
}

// Settle lowers what signals said, and what somebody raised. What is said afterwards counts anew.
func (m *Memory) Settle(ctx context.Context, e Entry) error {
	e.What = Settle
	return m.journalled(ctx, &e, func(k *marks) {
		k.Raised, k.Compromise.Said = raised{}, no
		for source, s := range k.Risk {
			s.Said, s.At = "none", later(s.At, e.Time)
			k.Risk[source] = s
		}
	})
}

// journalled makes a change of a user's marks and of the journal together.
func (m *Memory) journalled(ctx context.Context, e *Entry, change func(*marks)) error {
	m.entry.Lock()
	defer m.entry.Unlock()
	key := state.Key{Kind: state.Marks, Owner: e.User}
	for range mostTries {
		r, err := m.read(ctx, []state.Key{headKey, key})
		if err != nil {
			return err
		}
		last, version, err := item[head](m, &r, 0)
		if err != nil {
			return err
		}
		shared, marked, err := item[marks](m, &r, 1)
		if err != nil {
			return err
		}
		k := shared.clone()
		e.Number, e.Previous, e.Time = last.Number+1, last.Hash, r.At.UTC()
		if e.Hash, err = e.seal(); err != nil {
			return err
		}
		change(k)
		set, err := changes([]state.Key{headKey, entryKey(e.Number), key}, []int64{version, 0, marked}, head{Number: e.Number, Hash: e.Hash, Rest: last.Rest}, e, k)
		if err != nil {
			return err
		}
		if err = m.store.Write(ctx, set)[0]; !errors.Is(err, state.ErrConflict) {
			return err
		}
	}
	return state.ErrConflict
}

// clone is a copy that may be changed.
func (m *marks) clone() *marks {
	c := *m
	c.Ended, c.Credentials = slices.Clone(m.Ended), slices.Clone(m.Credentials)
	c.Risk, c.Inactive = maps.Clone(m.Risk), maps.Clone(m.Inactive)
	return &c
}

// changes is a set of changes of items of versions to values.
func changes(keys []state.Key, versions []int64, values ...any) (set []state.Change, err error) {
	for i, v := range values {
		data, err := json.Marshal(v)
		if err != nil {
			return nil, err
		}
		set = append(set, state.Change{Key: keys[i], If: versions[i], Value: data})
	}
	return set, nil
}

// Journal gives the entries of the journal of a store, by number. An entry that does not follow the one before is an error, and
// so is a journal that ends before its head.
func Journal(ctx context.Context, store state.Store) iter.Seq2[*Entry, error] {
	return func(yield func(*Entry, error) bool) {
		last := head{}
		for l, err := range store.List(ctx, state.Key{Kind: state.RiskEntry}) {
			e := new(Entry)
			if err == nil {
				err = json.Unmarshal(l.Value, e)
			}
			if err == nil {
				err = last.follow(e)
			}
			if err != nil {
				yield(nil, err)
				return
			}
			if !yield(e, nil) {
				return
			}
		}
		if err := last.isHead(ctx, store); err != nil {
			yield(nil, err)
		}
	}
}

// follow reports an entry that was changed, or does not come after the last.
func (h *head) follow(e *Entry) error {
	hash, err := e.seal()
	switch {
	case err != nil:
		return err
	case e.Number != h.Number+1 || e.Previous != h.Hash || e.Hash != hash:
		return fmt.Errorf("the journal of risks was changed by other hands, at entry %d", h.Number+1)
	}
	h.Number, h.Hash = e.Number, e.Hash
	return nil
}

func (h *head) isHead(ctx context.Context, store state.Store) error {
	r, err := store.Read(ctx, []state.Key{headKey})
	if err != nil {
		return err
	}
	var want head
	if value := r.Items[0].Value; value != nil {
		if err := json.Unmarshal(value, &want); err != nil {
			return damaged(headKey, err)
		}
	}
	if h.Number != want.Number || h.Hash != want.Hash {
		return fmt.Errorf("the journal of risks has lost entries after entry %d", h.Number)
	}
	return nil
}

// AtRisk is an account at risk, with what is behind it.
type AtRisk struct {
	User        string   `json:"user"`
	Risk        string   `json:"risk"` // none, low, medium or high, by the rulebook and all who spoke
	Compromised bool     `json:"compromised"`
	Reasons     []Reason `json:"reasons"` // the latest last
}

// Reason is something that was said of an account, or done.
type Reason struct {
	At      time.Time `json:"at"`
	What    string    `json:"what"`             // the level of risk, compromised, or inactive
	By      string    `json:"by"`               // the source of signals, or the person
	Because string    `json:"because,omitzero"` // of a person
}

// AtRisk lists the accounts of which signals or people said that they are at risk, by user.
func (m *Memory) AtRisk(ctx context.Context, people map[string]*rulebook.Person) (list []AtRisk, err error) {
	for l, err := range m.store.List(ctx, state.Key{Kind: state.Marks}) {
		if err != nil {
			return nil, err
		}
		var k marks
		if err := json.Unmarshal(l.Value, &k); err != nil {
			return nil, damaged(l.Key, err)
		}
		if a := k.atRisk(l.Owner, people[l.Owner]); a != nil {
			list = append(list, *a)
		}
	}
	return list, nil
}

// atRisk is what there is to say of a user; nil is nothing.
func (k *marks) atRisk(user string, p *rulebook.Person) *AtRisk {
	a := &AtRisk{User: user, Risk: "none", Compromised: k.Compromise.is()}
	if p != nil {
		a.Risk = p.Risk
	}
	add := func(at time.Time, what, by, because string) {
		a.Reasons = append(a.Reasons, Reason{at, what, by, because})
	}
	for _, source := range slices.Sorted(maps.Keys(k.Risk)) {
		if s := k.Risk[source]; levelOf(s.Said) > 0 {
			add(s.At, s.Said, source, "")
		}
	}
	for _, source := range slices.Sorted(maps.Keys(k.Inactive)) {
		if s := k.Inactive[source]; s.Said == yes {
			add(s.At, "inactive", source, "")
		}
	}
	if k.Compromise.is() {
		add(k.Compromise.At, "compromised", k.Compromise.By, "")
	}
	if !k.Raised.At.IsZero() {
		add(k.Raised.At, "high", k.Raised.By, k.Raised.Because)
	}
	if a.Reasons == nil {
		return nil
	}
	slices.SortStableFunc(a.Reasons, func(x, y Reason) int { return x.At.Compare(y.At) })
	return a
}

// Standing is what signals and people said of a user, a line each.
func (m *Memory) Standing(ctx context.Context, user string, p *rulebook.Person) (said []string, err error) {
	r, err := m.read(ctx, []state.Key{{Kind: state.Marks, Owner: user}})
	if err != nil {
		return nil, err
	}
	marked, _, err := item[marks](m, &r, 0)
	if err != nil {
		return nil, err
	}
	if a := marked.atRisk(user, p); a != nil {
		for _, reason := range a.Reasons {
			line := fmt.Sprintf("%s, by %s on %s", reason.What, reason.By, reason.At.UTC().Format(time.DateOnly))
			if reason.Because != "" {
				line += ": " + reason.Because
			}
			said = append(said, line)
		}
	}
	return said, nil
}

// Granted goes through the sign-ons that are remembered, of one user, or of all where none is named.
func (m *Memory) Granted(ctx context.Context, user string, f func(Earlier)) error {
	tell := func(user string, kept *past) {
		for _, s := range kept.SignOns {
			f(Earlier{user, s.At, s.App, s.Country, s.Device})
		}
	}
	if user != "" {
		r, err := m.read(ctx, []state.Key{pastKey(user)})
		if err != nil {
			return err
		}
		kept, _, err := item[past](m, &r, 0)
		if err == nil {
			tell(user, kept)
		}
		return err
	}
	for l, err := range m.store.List(ctx, state.Key{Kind: state.Past}) {
		var kept past
		if err == nil {
			err = json.Unmarshal(l.Value, &kept)
		}
		if err != nil {
			return err
		}
		tell(l.Owner, &kept)
	}
	return nil
}
