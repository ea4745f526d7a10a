package provision

// Changes to several items at once, tried again until nobody else was first.

import (
	"context"
	"errors"
	"fmt"

	"github.com/go-json-experiment/json"

	"briskwarden.example/briskwarden/service/state"
)

// transaction reads items and changes them together.
type transaction struct {
	ctx   context.Context
	store state.Store
	items map[state.Key]*entry
	order []*entry // of what was written
}

// entry is an item as it was read, and as it is to be.
type entry struct {
	key     state.Key
	version int64
	value   []byte // nil is that there is none
	written bool
}

// mostTries is how often a change is tried again because another was first.
const mostTries = 50

// update runs a change until it is kept, or fails.
func update(ctx context.Context, store state.Store, change func(*transaction) error) error {
	for range mostTries {
		tx := &transaction{ctx: ctx, store: store, items: map[state.Key]*entry{}}
		if err := change(tx); err != nil {
			return err
		}
		set := make([]state.Change, len(tx.order))
		for i, e := range tx.order {
			set[i] = state.Change{Key: e.key, If: e.version, Value: e.value}
		}
		if len(set) == 0 {
			return nil
		}
		if err := store.Write(ctx, set)[0]; !errors.Is(err, state.ErrConflict) {
			return err
		}
	}
	return fmt.Errorf("others changed the same each time: %w", state.ErrConflict)
}

// load reads items that are not read yet.
func (t *transaction) load(keys ...state.Key) error {
	var missing []state.Key
	for _, k := range keys {
		if t.items[k] == nil {
			missing = append(missing, k)
			t.items[k] = &entry{key: k}
		}
	}
	if len(missing) == 0 {
		return nil
	}
	r, err := t.store.Read(t.ctx, missing)
	if err != nil {
		return err
	}
	for i, k := range missing {
		e := t.items[k]
		e.version, e.value = r.Items[i].Version, r.Items[i].Value
	}
	return nil
}

// get reads an item; false is that there is none.
func (t *transaction) get(key state.Key, into any) (bool, error) {
	if err := t.load(key); err != nil {
		return false, err
	}
	e := t.items[key]
	if e.value == nil {
		return false, nil
	}
	if err := json.Unmarshal(e.value, into); err != nil {
		return false, fmt.Errorf("what is kept of %q (kind %d) cannot be read: %w", key.Owner, key.Kind, err)
	}
	return true, nil
}

// put changes an item; nil deletes it.
func (t *transaction) put(key state.Key, value any) error {
	if err := t.load(key); err != nil {
		return err
	}
	e := t.items[key]
	if value == nil {
		if e.version == 0 && !e.written {
			return nil
		}
		e.value = nil
	} else {
		data, err := json.Marshal(value, json.Deterministic(true))
		if err != nil {
			return err
		}
		e.value = data
	}
	if !e.written {
		e.written = true
		t.order = append(t.order, e)
	}
	return nil
}
