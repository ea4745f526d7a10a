package consent

// A store in memory.

import (
	"context"
	"fmt"
	"iter"
	"maps"
	"slices"
	"sync"
)

// Memory is a store in memory, for tests and for programs that keep consents elsewhere.
type Memory struct {
	mu       sync.RWMutex
	consents []*Consent // by ID, from 1
	byClient map[string][]ID
	clients  map[string]*Client
	entries  []*Entry
}

// NewMemory returns an empty store.
func NewMemory() *Memory { return &Memory{byClient: map[string][]ID{}, clients: map[string]*Client{}} }

// Update runs a change, and takes it back where it fails.
func (m *Memory) Update(ctx context.Context, change func(Tx) error) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	if err := ctx.Err(); err != nil {
		return err
	}
	tx := &memoryTx{Memory: m, writes: true}
	err := change(tx)
	if err == nil {
		err = ctx.Err()
	}
	if err != nil {
		for _, undo := range slices.Backward(tx.undo) {
			undo()
		}
	}
	return err
}

// View runs a look.
func (m *Memory) View(ctx context.Context, look func(Tx) error) error {
	m.mu.RLock()
	defer m.mu.RUnlock()
	if err := ctx.Err(); err != nil {
		return err
	}
	return look(&memoryTx{Memory: m})
}

type memoryTx struct {
	*Memory
	writes bool
	undo   []func()
}

// Consent finds one.
func (t *memoryTx) Consent(id ID) (*Consent, error) {
	if id < 1 || int(id) > len(t.consents) {
		return nil, nil
	}
	return t.consents[id-1], nil
}

// Consents gives those selected.
func (t *memoryTx) Consents(of Selection) iter.Seq2[*Consent, error] {
	return func(yield func(*Consent, error) bool) {
		if of.Client != "" {
			for _, id := range t.byClient[of.Client] {
				if c := t.consents[id-1]; of.Selects(c) && !yield(c, nil) {
					return
				}
			}
			return
		}
		for _, c := range t.consents {
			if of.Selects(c) && !yield(c, nil) {
				return
			}
		}
	}
}

// PutConsent keeps one.
func (t *memoryTx) PutConsent(c *Consent) error {
	if !t.writes {
		return ErrReadOnly
	}
	if c.ID == 0 {
		c.ID = ID(len(t.consents) + 1)
		list := t.byClient[c.Client]
		t.undo = append(t.undo, func() { t.consents, t.byClient[c.Client] = t.consents[:len(t.consents)-1], list })
		t.consents = append(t.consents, nil)
		t.byClient[c.Client] = append(list, c.ID)
	} else {
		old := t.consents[c.ID-1]
		t.undo = append(t.undo, func() { t.consents[c.ID-1] = old })
	}
	kept := *c
	t.consents[c.ID-1] = &kept
	return nil
}

// Client finds one.
func (t *memoryTx) Client(id string) (*Client, error) { return t.clients[id], nil }

// Clients gives all.
func (t *memoryTx) Clients() iter.Seq2[*Client, error] {
	return func(yield func(*Client, error) bool) {
		for _, id := range slices.Sorted(maps.Keys(t.clients)) {
			if !yield(t.clients[id], nil) {
				return
			}
		}
	}
}

// PutClient keeps one.
func (t *memoryTx) PutClient(c *Client) error {
	if !t.writes {
		return ErrReadOnly
	}
	old, there := t.clients[c.ID]
	t.undo = append(t.undo, func() {
		if t.clients[c.ID] = old; !there {
			delete(t.clients, c.ID)
		}
	})
	kept := *c
	t.clients[c.ID] = &kept
	return nil
}

// Entries gives the journal.
func (t *memoryTx) Entries() iter.Seq2[*Entry, error] {
	return func(yield func(*Entry, error) bool) {
		for _, e := range t.entries {
			if !yield(e, nil) {
				return
			}
		}
	}
}

// LastEntry gives the last of the journal.
func (t *memoryTx) LastEntry() (*Entry, error) {
	if len(t.entries) == 0 {
		return nil, nil
	}
	return t.entries[len(t.entries)-1], nil
}

// Append adds to the journal.
func (t *memoryTx) Append(e *Entry) error {
	if !t.writes {
		return ErrReadOnly
	}
	if n := len(t.entries); n > 0 && e.Number <= t.entries[n-1].Number {
		return fmt.Errorf("the journal has an entry %d already", t.entries[n-1].Number)
	}
	t.undo = append(t.undo, func() { t.entries = t.entries[:len(t.entries)-1] })
	kept := *e
	t.entries = append(t.entries, &kept)
	return nil
}
