package sqlite

// The items of a decision service, in the same file as its ledger.

import (
	"cmp"
	"context"
	"database/sql"
	"errors"
	"iter"
	"strings"
	"time"

	"briskwarden.example/briskwarden/service/state"
)

var _ state.Store = (*Store)(nil)

// atOnce is how many items one statement reads; more take several, in one transaction.
const atOnce = 1000

// Read gives items; see [state.Store].
func (s *Store) Read(ctx context.Context, keys []state.Key) (r state.Reading, err error) {
	r.Items = make([]state.Item, len(keys))
	if len(keys) <= atOnce {
		r.At, err = time.Now(), s.plain(readItems(ctx, s.db, keys, r.Items))
		return r, err
	}
	err = s.transaction(ctx, &sql.TxOptions{ReadOnly: true}, func(tx *sql.Tx) error {
		for from := 0; from < len(keys); from += atOnce {
			to := min(from+atOnce, len(keys))
			if err := readItems(ctx, tx, keys[from:to], r.Items[from:to]); err != nil {
				return err
			}
		}
		return nil
	})
	r.At = time.Now()
	return r, err
}

// queryer is a database, or a transaction in it.
type queryer interface {
	QueryContext(ctx context.Context, query string, args ...any) (*sql.Rows, error)
}

// readItems reads items by one statement, which sees one state of the file.
func readItems(ctx context.Context, db queryer, keys []state.Key, items []state.Item) error {
	if len(keys) == 0 {
		return ctx.Err()
	}
	args := make([]any, 0, 5*len(keys))
	for i, k := range keys {
		args = append(args, i, int(k.Kind), []byte(k.Owner), []byte(k.ID), k.Known)
	}
	query := "WITH k(n, kind, owner, id, known) AS (VALUES (?,?,?,?,?)" + strings.Repeat(",(?,?,?,?,?)", len(keys)-1) + `)
	  SELECT k.n, i.version, i.version = k.known, CASE i.version WHEN k.known THEN NULL ELSE i.value END FROM k CROSS JOIN items i
	  ON i.kind = k.kind AND i.owner = k.owner AND i.id = k.id`
	rows, err := db.QueryContext(ctx, query, args...)
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var n int
		var known bool
		var item state.Item
		if err := rows.Scan(&n, &item.Version, &known, &item.Value); err != nil {
			return err
		}
		if !known && item.Value == nil { // as the driver gives what is empty
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
	err := s.transaction(ctx, nil, func(tx *sql.Tx) error {
		w, err := s.writer(ctx, tx)
		if err != nil {
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
	if err != nil {
		for i := range errs {
			errs[i] = err
		}
	}
	return errs
}

// writer makes changes in a transaction, all with one version, which no change before had.
type writer struct {
	ctx     context.Context
	tx      *sql.Tx
	version int64
}

func (s *Store) writer(ctx context.Context, tx *sql.Tx) (*writer, error) {
	w := &writer{ctx: ctx, tx: tx}
	return w, tx.QueryRowContext(ctx, "UPDATE versions SET last = last + 1 RETURNING last").Scan(&w.version)
}

// set makes one set of changes, if all items have the versions that are meant.
func (w *writer) set(changes []state.Change) error {
	for _, c := range changes {
		var version int64
		err := w.tx.QueryRowContext(w.ctx, "SELECT version FROM items WHERE kind = ? AND owner = ? AND id = ?", int(c.Kind), []byte(c.Owner), []byte(c.ID)).Scan(&version)
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
	}
	if len(changes) == 0 {
		return nil
	}
	w.version++ // an item that two sets change has two versions
	_, err := w.tx.ExecContext(w.ctx, "UPDATE versions SET last = ?", w.version)
	return err
}

func (w *writer) change(c *state.Change) error {
	if c.Value == nil {
		_, err := w.tx.ExecContext(w.ctx, "DELETE FROM items WHERE kind = ? AND owner = ? AND id = ?", int(c.Kind), []byte(c.Owner), []byte(c.ID))
		return err
	}
	var expires sql.NullInt64
	if !c.Expires.IsZero() {
		expires = sql.NullInt64{Int64: c.Expires.UnixMicro(), Valid: true}
	}
	_, err := w.tx.ExecContext(w.ctx, "INSERT OR REPLACE INTO items (kind, owner, id, version, expires, value) VALUES (?,?,?,?,?,?)",
		int(c.Kind), []byte(c.Owner), []byte(c.ID), w.version, expires, c.Value)
	return err
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
