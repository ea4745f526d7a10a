package sqlite

// The items of a decision service, in the same file as its ledger.

import (
	"cmp"
	"context"
	"database/sql"
	"errors"
	"iter"
	"maps"
	"sync"
	"time"

	"briskwarden.example/briskwarden/service/state"
)

var _ state.Store = (*Store)(nil)

// atOnce is how many items one statement reads; more take several, in one transaction.
const atOnce = 1000

// Read gives items; see [state.Store].
//
// Every change counts up the number in the table versions, in its own transaction. So items that were read at a number
// are as they are now while it is the same, and one short query tells that, after the call began.
func (s *Store) Read(ctx context.Context, keys []state.Key) (r state.Reading, err error) {
	r.At, r.Items = time.Now(), make([]state.Item, len(keys)) // before anything is read
	last, err := s.last(ctx)
	if err != nil {
		return r, s.plain(err)
	}
	found, changing := s.recent.find(last, keys, r.Items)
	if changing != nil { // a change of our own is made, and is about to be at hand
		select {
		case <-changing:
		case <-time.After(aMoment):
		}
		found, _ = s.recent.find(last, keys, r.Items)
	}
	if found {
		return r, nil
	}
	var reads []*sql.Stmt
	for from := 0; from < len(keys); from += atOnce {
		read, err := s.reading(ctx, min(len(keys)-from, atOnce))
		if err != nil {
			return r, s.plain(err)
		}
		reads = append(reads, read)
	}
	err = s.transaction(ctx, &sql.TxOptions{ReadOnly: true}, func(tx *sql.Tx) error {
		if err := s.row(ctx, tx, readLast).Scan(&last); err != nil {
			return err
		}
		for i, read := range reads {
			from, to := i*atOnce, min((i+1)*atOnce, len(keys))
			if err := readItems(ctx, tx, read, keys[from:to], r.Items[from:to]); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		return r, err
	}
	s.recent.keep(last, keys, r.Items)
	leaveKnown(keys, r.Items)
	return r, nil
}

// aMoment is how long it is waited for what is about to be at hand, before the file is read.
const aMoment = 20 * time.Millisecond

// leaveKnown takes out the values that are known.
func leaveKnown(keys []state.Key, items []state.Item) {
	for i := range items {
		if items[i].Version != 0 && items[i].Version == keys[i].Known {
			items[i].Value = nil
		}
	}
}

// recent are items as they were at the last change.
type recent struct {
	mu      sync.RWMutex
	last    int64
	items   map[state.Key]state.Item
	writing int           // how many changes are being made here, and will bring them on themselves
	written chan struct{} // closed once none is
}

// mostRecent is how many are kept.
const mostRecent = 100_000

// find gives items, if all are at hand as they are at a change. Changing is closed when that change may be brought on.
func (c *recent) find(last int64, keys []state.Key, items []state.Item) (found bool, changing <-chan struct{}) {
	c.mu.RLock()
	defer c.mu.RUnlock()
	if last > c.last && c.writing > 0 {
		return false, c.written
	}
	if last > c.last { // what is at hand may well be newer than the number
		return false, nil
	}
	for i, k := range keys {
		k.Known = 0
		item, ok := c.items[k]
		if !ok {
			return false, nil
		}
		items[i] = item
	}
	leaveKnown(keys, items)
	return true, nil
}

// keep keeps items as they are at a change; nobody changes their values.
func (c *recent) keep(last int64, keys []state.Key, items []state.Item) {
	c.mu.Lock()
	defer c.mu.Unlock()
	switch {
	case last < c.last || last > c.last && c.writing > 0:
		return
	case c.items == nil || last > c.last || len(c.items) > mostRecent:
		c.last, c.items = last, make(map[state.Key]state.Item, len(keys))
	}
	for i, k := range keys {
		k.Known = 0
		c.items[k] = items[i]
	}
}

// begin notes that a change is being made here.
func (c *recent) begin() {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.writing++; c.writing == 1 {
		c.written = make(chan struct{})
	}
}

// change brings what is at hand from before a change to what it is after it, if it was made and nothing else changed
// meanwhile.
func (c *recent) change(made bool, before, after int64, items map[state.Key]state.Item) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.writing--; c.writing == 0 {
		defer close(c.written)
	}
	if !made || c.last != before || c.items == nil {
		return
	}
	c.last = after
	maps.Copy(c.items, items)
}

// readItems reads items by one statement.
func readItems(ctx context.Context, tx *sql.Tx, read *sql.Stmt, keys []state.Key, items []state.Item) error {
	args := make([]any, 0, 4*len(keys))
	for i, k := range keys {
		args = append(args, i, int(k.Kind), []byte(k.Owner), []byte(k.ID))
	}
	rows, err := tx.StmtContext(ctx, read).QueryContext(ctx, args...)
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var n int
		var item state.Item
		if err := rows.Scan(&n, &item.Version, &item.Value); err != nil {
			return err
		}
		if item.Value == nil { // as the driver gives what is empty
			item.Value = []byte{}
		}
		items[n] = item
	}
	return rows.Err()
}

// Write makes changes; see [state.Store].
func (s *Store) Write(ctx context.Context, sets ...[]state.Change) []error {
	errs := make([]error, len(sets))
	if len(sets) == 0 {
		return errs
	}
	w := &writer{}
	select {
	case s.turn <- struct{}{}:
	case <-ctx.Done():
		for i := range errs {
			errs[i] = ctx.Err()
		}
		return errs
	}
	defer func() { <-s.turn }()
	s.recent.begin()
	err := s.transaction(ctx, nil, func(tx *sql.Tx) (err error) {
		if w, err = s.writer(ctx, tx); err != nil {
			return err
		}
		for i, changes := range sets {
			if err := w.set(changes); errors.Is(err, state.ErrConflict) {
				errs[i] = err
			} else if err != nil {
				return err
			}
		}
		return nil
	})
	s.recent.change(err == nil, w.before, w.version, w.made)
	if err != nil {
		for i := range errs {
			errs[i] = err
		}
	}
	return errs
}

// writer makes changes in a transaction, each set with a version that no change before had.
type writer struct {
	*Store
	ctx             context.Context
	tx              *sql.Tx
	before, version int64 // the number of the last change before the transaction, and now
	made            map[state.Key]state.Item
}

func (s *Store) writer(ctx context.Context, tx *sql.Tx) (*writer, error) {
	w := &writer{Store: s, ctx: ctx, tx: tx, made: map[state.Key]state.Item{}}
	err := s.row(ctx, tx, nextLast).Scan(&w.version)
	w.before = w.version - 1
	return w, err
}

// set makes one set of changes, if all items have the versions that are meant.
func (w *writer) set(changes []state.Change) error {
	for _, c := range changes {
		var version int64
		err := w.row(w.ctx, w.tx, readVersion, int(c.Kind), []byte(c.Owner), []byte(c.ID)).Scan(&version)
		switch {
		case err != nil && !errors.Is(err, sql.ErrNoRows):
			return err
		case version != c.If:
			return state.ErrConflict
		}
	}
	for _, c := range changes {
		if err := w.change(&c); err != nil {
			return err
		}
		c.Known = 0
		if w.made[c.Key] = (state.Item{}); c.Value != nil {
			w.made[c.Key] = state.Item{Version: w.version, Value: c.Value}
		}
	}
	if len(changes) == 0 {
		return nil
	}
	w.version++ // an item that two sets change has two versions
	return w.do(setLast, w.version)
}

func (w *writer) change(c *state.Change) error {
	if c.Value == nil {
		return w.do(deleteItem, int(c.Kind), []byte(c.Owner), []byte(c.ID))
	}
	var expires sql.NullInt64
	if !c.Expires.IsZero() {
		expires = sql.NullInt64{Int64: c.Expires.UnixMicro(), Valid: true}
	}
	return w.do(putItem, int(c.Kind), []byte(c.Owner), []byte(c.ID), w.version, expires, c.Value)
}

// List gives the items of a kind; see [state.Store]. It reads on in parts, so that it holds nobody up.
func (s *Store) List(ctx context.Context, after state.Key) iter.Seq2[state.Listed, error] {
	return func(yield func(state.Listed, error) bool) {
		for {
			part, err := s.part(ctx, after)
			for _, l := range part {
				if !yield(l, nil) {
					return
				}
			}
			if err != nil {
				yield(state.Listed{}, s.plain(err))
			}
			if err != nil || len(part) < atOnce {
				return
			}
			after = part[len(part)-1].Key
		}
	}
}

// part gives the next items, at most as many as are read at once.
func (s *Store) part(ctx context.Context, after state.Key) (list []state.Listed, err error) {
	rows, err := s.db.QueryContext(ctx, "SELECT kind, owner, id, version, value FROM items WHERE kind = ? AND (owner, id) > (?, ?) ORDER BY owner, id LIMIT ?",
		int(after.Kind), []byte(after.Owner), []byte(after.ID), atOnce)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var l state.Listed
		var owner, id []byte
		if err := rows.Scan(&l.Kind, &owner, &id, &l.Version, &l.Value); err != nil {
			return list, err
		}
		l.Owner, l.ID = string(owner), string(id)
		list = append(list, l)
	}
	return list, rows.Err()
}

// Sweep deletes what may be deleted; see [state.Store].
func (s *Store) Sweep(ctx context.Context, by time.Time, most int) (n int, err error) {
	err = s.transaction(ctx, nil, func(tx *sql.Tx) error {
		if _, err := s.writer(ctx, tx); err != nil {
			return err
		}
		result, err := tx.ExecContext(ctx, "DELETE FROM items WHERE (kind, owner, id) IN (SELECT kind, owner, id FROM items WHERE expires <= ? LIMIT ?)", by.UnixMicro(), most)
		if err != nil {
			return err
		}
		rows, err := result.RowsAffected()
		n = int(rows)
		return cmp.Or(err, ctx.Err())
	})
	return n, err
}
