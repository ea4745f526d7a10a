package consent

// The journal: entries, their chain of hashes, and holding the ledger against it.

import (
	"context"
	"errors"
	"fmt"
	"iter"
	"time"

	"github.com/go-json-experiment/json"

	"briskwarden.example/briskwarden/internal/chain"
)

// ErrReadOnly is what a store fails with when a look would change something.
var ErrReadOnly = errors.New("a look at the ledger changes nothing")

// Entry is one change, as the journal keeps it: who did what, when, to what, and why.
type Entry struct {
	Number   int64     `json:"number"` // from 1, without a gap
	Time     time.Time `json:"time"`
	Who      string    `json:"who"`
	What     string    `json:"what"` // such as grant, refuse, wait, block, withdraw, ban
	Client   string    `json:"client"`
	Consent  ID        `json:"consent,omitzero"`
	Why      string    `json:"why"`
	Before   Things    `json:"before,omitzero"`
	After    Things    `json:"after,omitzero"`
	Previous string    `json:"previous"` // the hash of the entry before it; empty for the first
	Hash     string    `json:"hash"`     // SHA-256 over the entry's JSON without this field
}

// Things are what an entry changed.
type Things struct {
	Client  *Client  `json:"client,omitzero"`
	Consent *Consent `json:"consent,omitzero"`
}

// seal works out the hash.
func (e *Entry) seal() (string, error) {
	open := *e
	open.Hash = ""
	return chain.Hash(&open)
}

// write appends an entry, and keeps what it changed.
func write(tx Tx, e *Entry) error {
	if e.After.Client != nil {
		if err := tx.PutClient(e.After.Client); err != nil {
			return err
		}
	}
	if e.After.Consent != nil {
		if err := tx.PutConsent(e.After.Consent); err != nil {
			return err
		}
		e.Consent = e.After.Consent.ID
	}
	last, err := tx.LastEntry()
	if err != nil {
		return err
	}
	e.Number = 1
	if last != nil {
		e.Number, e.Previous = last.Number+1, last.Hash
	}
	if e.Hash, err = e.seal(); err != nil {
		return err
	}
	return tx.Append(e)
}

// Fault is what Verify finds wrong.
type Fault struct {
	Number int64 // of the entry; 0 where the ledger itself is meant
	What   string
}

// Error tells it.
func (f *Fault) Error() string {
	if f.Number == 0 {
		return f.What
	}
	return fmt.Sprintf("entry %d: %s", f.Number, f.What)
}

// Verified is what a journal was found to be, if nothing is wrong.
type Verified struct {
	Entries int64  `json:"entries"`
	Head    string `json:"head"` // the hash of the last
}

// Verify goes through the whole journal, and holds the ledger against it. What is wrong is a
// [*Fault], which names the first entry that does not fit.
func Verify(ctx context.Context, store Store) (v Verified, err error) {
	if c, can := store.(Checker); can {
		if err := c.Check(ctx); err != nil && ctx.Err() == nil {
			return v, &Fault{0, err.Error()}
		}
	}
	err = store.View(ctx, func(tx Tx) error {
		clients, consents := map[string]*Client{}, map[ID]*Consent{}
		changed := map[any]int64{} // by client's or consent's id, the entry that changed it last
		for e, err := range tx.Entries() {
			if err != nil {
				return &Fault{v.Entries + 1, fmt.Sprintf("cannot be read: %v", err)}
			}
			if err := v.follow(e); err != nil {
				return err
			}
			if c := e.After.Client; c != nil {
				clients[c.ID], changed[c.ID] = c, e.Number
			}
			if c := e.After.Consent; c != nil {
				consents[c.ID], changed[c.ID] = c, e.Number
			}
		}
		if err := hold("client", tx.Clients(), func(c *Client) string { return c.ID }, clients, changed); err != nil {
			return err
		}
		return hold("consent", tx.Consents(Selection{}), func(c *Consent) ID { return c.ID }, consents, changed)
	})
	if ctx.Err() != nil { // whatever was found, not all was looked at
		return v, ctx.Err()
	}
	return v, err
}

// follow takes the next entry of the chain.
func (v *Verified) follow(e *Entry) error {
	sum, err := e.seal()
	switch {
	case err != nil:
		return err
	case e.Number != v.Entries+1:
		return &Fault{v.Entries + 1, fmt.Sprintf("is missing: entry %d stands in its place", e.Number)}
	case e.Previous != v.Head:
		return &Fault{e.Number, "does not follow the entry before it: one of the two was changed"}
	case e.Hash != sum:
		return &Fault{e.Number, "was changed after it was written"}
	}
	v.Entries, v.Head = e.Number, e.Hash
	return nil
}

// hold holds the things of a kind that the ledger has to what the journal left.
func hold[K comparable, T any](kind string, things iter.Seq2[*T, error], id func(*T) K, want map[K]*T, changed map[any]int64) error {
	for c, err := range things {
		if err != nil {
			return &Fault{0, err.Error()}
		}
		if !same(c, want[id(c)]) {
			return &Fault{changed[id(c)], fmt.Sprintf("the %s %v in the ledger is not what the journal left it", kind, id(c))}
		}
		delete(want, id(c))
	}
	if id, gone := earliest(want, changed); gone {
		return &Fault{changed[id], fmt.Sprintf("the %s %v is gone from the ledger", kind, id)}
	}
	return nil
}

// earliest finds, of things that are left, the one that was changed first.
func earliest[K comparable, V any](left map[K]V, changed map[any]int64) (first K, any bool) {
	for k := range left {
		if !any || changed[k] < changed[first] {
			first, any = k, true
		}
	}
	return first, any
}

// same reports whether two things are written alike.
func same[T any](a, b *T) bool {
	if a == nil || b == nil {
		return a == b
	}
	x, errX := json.Marshal(a, json.Deterministic(true))
	y, errY := json.Marshal(b, json.Deterministic(true))
	return errX == nil && errY == nil && string(x) == string(y)
}
