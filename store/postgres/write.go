package postgres

// Changing items.

import (
	"cmp"
	"context"
	"slices"
	"time"

	"github.com/jackc/pgx/v5"

	"briskwarden.example/briskwarden/service/state"
)

// Write makes changes; see [state.Store].
func (s *Store) Write(ctx context.Context, sets ...[]state.Change) []error {
	ctx, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	errs := make([]error, len(sets))
	var single, several []int
	seen := make(map[state.Key]bool, len(sets))
	for i, changes := range sets {
		alone := len(changes) == 1 && (changes[0].If != 0 || changes[0].Value != nil)
		for _, c := range changes {
			if key := bare(c.Key); seen[key] {
				alone = false
			} else {
				seen[key] = true
			}
		}
		if alone {
			single = append(single, i)
		} else {
			several = append(several, i)
		}
	}
	s.singles(ctx, sets, single, errs)
	for _, i := range several {
		errs[i] = s.transaction(ctx, pgx.TxOptions{}, func(tx pgx.Tx) error { return set(ctx, tx, sets[i]) })
	}
	return errs
}

// bare is a key without what is known of its item.
func bare(k state.Key) state.Key {
	k.Known = 0
	return k
}

func byKey(a, b *state.Change) int {
	return cmp.Or(cmp.Compare(a.Kind, b.Kind), cmp.Compare(a.Owner, b.Owner), cmp.Compare(a.ID, b.ID))
}

// The statements that change items, each if it has the version that is meant, and tell which they changed.
const (
	insertItems = `INSERT INTO brisk_items (kind, owner, id, version, expires, value)
	  SELECT k.kind, k.owner, k.id, nextval('brisk_versions'), k.expires, k.value
	  FROM unnest($1::smallint[], $2::bytea[], $3::bytea[], $4::timestamptz[], $5::bytea[]) AS k(kind, owner, id, expires, value)
	  ON CONFLICT DO NOTHING RETURNING kind, owner, id`
	updateItems = `UPDATE brisk_items i SET version = nextval('brisk_versions'), expires = k.expires, value = k.value
	  FROM unnest($1::smallint[], $2::bytea[], $3::bytea[], $4::timestamptz[], $5::bytea[], $6::bigint[]) AS k(kind, owner, id, expires, value, version)
	  WHERE i.kind = k.kind AND i.owner = k.owner AND i.id = k.id AND i.version = k.version RETURNING i.kind, i.owner, i.id`
	deleteItems = `DELETE FROM brisk_items i USING unnest($1::smallint[], $2::bytea[], $3::bytea[], $4::bigint[]) AS k(kind, owner, id, version)
	  WHERE i.kind = k.kind AND i.owner = k.owner AND i.id = k.id AND i.version = k.version RETURNING i.kind, i.owner, i.id`
)

// changing are changes of one sort, column by column.
type changing struct {
	columns
	expires []*time.Time
	values  [][]byte
}

func (c *changing) add(change *state.Change) {
	c.columns.add(&change.Key, change.If)
	var expires *time.Time
	if !change.Expires.IsZero() {
		expires = &change.Expires
	}
	c.expires, c.values = append(c.expires, expires), append(c.values, change.Value)
}

// queue has the statements for some changes sent, which note what they changed.
func queue(b *pgx.Batch, changes []*state.Change, made map[state.Key]bool) {
	slices.SortFunc(changes, byKey) // all lock in the same order
	var inserts, updates, deletes changing
	for _, c := range changes {
		switch {
		case c.Value == nil:
			deletes.add(c)
		case c.If == 0:
			inserts.add(c)
		default:
			updates.add(c)
		}
	}
	note := func(rows pgx.Rows) error {
		for rows.Next() {
			var kind int16
			var owner, id []byte
			if err := rows.Scan(&kind, &owner, &id); err != nil {
				return err
			}
			made[state.Key{Kind: state.Kind(kind), Owner: string(owner), ID: string(id)}] = true
		}
		return rows.Err()
	}
	if c := &inserts; len(c.kinds) > 0 {
		b.Queue(insertItems, c.kinds, c.owners, c.ids, c.expires, c.values).Query(note)
	}
	if c := &updates; len(c.kinds) > 0 {
		b.Queue(updateItems, c.kinds, c.owners, c.ids, c.expires, c.values, c.versions).Query(note)
	}
	if c := &deletes; len(c.kinds) > 0 {
		b.Queue(deleteItems, c.kinds, c.owners, c.ids, c.versions).Query(note)
	}
}

// singles makes sets of one change each, all in one transaction.
func (s *Store) singles(ctx context.Context, sets [][]state.Change, which []int, errs []error) {
	if len(which) == 0 {
		return
	}
	changes := make([]*state.Change, len(which))
	for n, i := range which {
		changes[n] = &sets[i][0]
	}
	made := make(map[state.Key]bool, len(which))
	err := s.transaction(ctx, pgx.TxOptions{}, func(tx pgx.Tx) error {
		clear(made)
		b := &pgx.Batch{}
		queue(b, changes, made)
		return tx.SendBatch(ctx, b).Close()
	})
	for _, i := range which {
		if errs[i] = err; err == nil && !made[bare(sets[i][0].Key)] {
			errs[i] = state.ErrConflict
		}
	}
}

// set makes one set of changes, if all items have the versions that are meant.
func set(ctx context.Context, tx pgx.Tx, changes []state.Change) error {
	var c columns
	list := make([]*state.Change, 0, len(changes))
	for i := range changes {
		list = append(list, &changes[i])
	}
	slices.SortFunc(list, byKey)
	for _, change := range list {
		c.add(&change.Key, change.If)
	}
	rows, err := tx.Query(ctx, `SELECT k.n, i.version FROM unnest($1::smallint[], $2::bytea[], $3::bytea[]) WITH ORDINALITY AS k(kind, owner, id, n)
	  JOIN brisk_items i ON i.kind = k.kind AND i.owner = k.owner AND i.id = k.id FOR UPDATE OF i`, c.kinds, c.owners, c.ids)
	if err != nil {
		return err
	}
	versions := make([]int64, len(list))
	var n, version int64
	if _, err := pgx.ForEachRow(rows, []any{&n, &version}, func() error {
		versions[n-1] = version
		return nil
	}); err != nil {
		return err
	}
	var changed []*state.Change
	for i, change := range list {
		if versions[i] != change.If {
			return state.ErrConflict
		}
		if change.If != 0 || change.Value != nil {
			changed = append(changed, change)
		}
	}
	if len(changed) == 0 {
		return nil
	}
	made := make(map[state.Key]bool, len(changed))
	b := &pgx.Batch{}
	queue(b, changed, made)
	if err := tx.SendBatch(ctx, b).Close(); err != nil {
		return err
	}
	if len(made) != len(changed) { // somebody else made one meanwhile
		return state.ErrConflict
	}
	return nil
}

// Sweep deletes what may be deleted; see [state.Store].
func (s *Store) Sweep(ctx context.Context, by time.Time, most int) (int, error) {
	tag, err := s.pool.Exec(ctx, `DELETE FROM brisk_items WHERE (kind, owner, id) IN
	  (SELECT kind, owner, id FROM brisk_items WHERE expires <= $1 ORDER BY expires LIMIT $2 FOR UPDATE SKIP LOCKED)`, by, most)
	return int(tag.RowsAffected()), err
}
