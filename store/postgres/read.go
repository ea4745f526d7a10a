package postgres

// Reading items. Those who ask while others are being answered are answered together, by one statement that begins
// after they asked.

import (
	"context"
	"iter"
	"time"

	"github.com/jackc/pgx/v5"

	"briskwarden.example/briskwarden/service/state"
)

// read is one call.
type read struct {
	keys   []state.Key
	answer state.Reading
	err    error
	done   chan struct{}
}

// Read gives items; see [state.Store].
func (s *Store) Read(ctx context.Context, keys []state.Key) (state.Reading, error) {
	if err := ctx.Err(); err != nil {
		return state.Reading{}, err
	}
	r := &read{keys: keys, done: make(chan struct{})}
	s.reads.Ask(r)
	select {
	case <-r.done:
		return r.answer, r.err
	case <-ctx.Done():
		return state.Reading{}, ctx.Err()
	}
}

// fit is how many of those that wait are read by one statement.
func fit(waiting []*read) (n int) {
	for items := 0; n < len(waiting) && (n == 0 || items+len(waiting[n].keys) <= itemsAtOnce); n++ {
		items += len(waiting[n].keys)
	}
	return n
}

// answer answers some together.
func (s *Store) answer(batch []*read) {
	ctx, cancel := context.WithTimeout(context.Background(), patience)
	defer cancel()
	var keys []state.Key
	places := map[state.Key]int{} // many ask for the same
	for _, r := range batch {
		for _, k := range r.keys {
			if _, again := places[k]; !again {
				places[k] = len(keys)
				keys = append(keys, k)
			}
		}
	}
	at, list, err := s.items(ctx, keys)
	for _, r := range batch {
		if r.err = err; err == nil {
			r.answer = state.Reading{At: at, Items: make([]state.Item, len(r.keys))}
			for i, k := range r.keys {
				r.answer.Items[i] = list[places[k]]
			}
		}
		close(r.done)
	}
}

// columns are keys, part by part, as the database takes them.
type columns struct {
	kinds       []int16
	owners, ids [][]byte
	versions    []int64
}

func (c *columns) add(k *state.Key, version int64) {
	c.kinds, c.owners, c.ids = append(c.kinds, int16(k.Kind)), append(c.owners, []byte(k.Owner)), append(c.ids, []byte(k.ID))
	c.versions = append(c.versions, version)
}

const readItems = `SELECT k.n, i.version, i.version = k.known, CASE WHEN i.version = k.known THEN NULL ELSE i.value END
  FROM unnest($1::smallint[], $2::bytea[], $3::bytea[], $4::bigint[]) WITH ORDINALITY AS k(kind, owner, id, known, n)
  JOIN brisk_items i ON i.kind = k.kind AND i.owner = k.owner AND i.id = k.id`

// items reads items, by one statement and so at one time.
func (s *Store) items(ctx context.Context, keys []state.Key) (at time.Time, items []state.Item, err error) {
	var c columns
	for i := range keys {
		c.add(&keys[i], keys[i].Known)
	}
	items = make([]state.Item, len(keys))
	b := &pgx.Batch{}
	b.Queue("SELECT clock_timestamp()").QueryRow(func(row pgx.Row) error { return row.Scan(&at) })
	b.Queue(readItems, c.kinds, c.owners, c.ids, c.versions).Query(func(rows pgx.Rows) error {
		for rows.Next() {
			var n int64
			var known bool
			var item state.Item
			if err := rows.Scan(&n, &item.Version, &known, &item.Value); err != nil {
				return err
			}
			items[n-1] = item
		}
		return rows.Err()
	})
	err = s.pool.SendBatch(ctx, b).Close() // which sets the time
	return at, items, err
}

// atOnce is how many items of a list are read at once.
const atOnce = 1000

// List gives the items of a kind; see [state.Store].
func (s *Store) List(ctx context.Context, after state.Key) iter.Seq2[state.Listed, error] {
	return func(yield func(state.Listed, error) bool) {
		for {
			rows, err := s.pool.Query(ctx, `SELECT owner, id, version, value FROM brisk_items WHERE kind = $1 AND (owner, id) > ($2, $3)
			  ORDER BY owner, id LIMIT $4`, int16(after.Kind), []byte(after.Owner), []byte(after.ID), atOnce)
			var part []state.Listed
			if err == nil {
				part, err = pgx.CollectRows(rows, func(row pgx.CollectableRow) (l state.Listed, err error) {
					var owner, id []byte
					err = row.Scan(&owner, &id, &l.Version, &l.Value)
					l.Kind, l.Owner, l.ID = after.Kind, string(owner), string(id)
					return l, err
				})
			}
			if err != nil {
				yield(state.Listed{}, err)
				return
			}
			for _, l := range part {
				if !yield(l, nil) {
					return
				}
			}
			if len(part) < atOnce {
				return
			}
			after = part[len(part)-1].Key
		}
	}
}
