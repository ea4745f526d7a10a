package sqlite

// The statements that are made again and again, each prepared once.

import (
	"context"
	"database/sql"
	"strings"
)

const (
	readLast    = "SELECT last FROM versions"
	nextLast    = "UPDATE versions SET last = last + 1 RETURNING last"
	setLast     = "UPDATE versions SET last = ?"
	readVersion = "SELECT version FROM items WHERE kind = ? AND owner = ? AND id = ?"
	putItem     = "INSERT OR REPLACE INTO items (kind, owner, id, version, expires, value) VALUES (?,?,?,?,?,?)"
	deleteItem  = "DELETE FROM items WHERE kind = ? AND owner = ? AND id = ?"
)

// prepare prepares all but those whose length depends on what is read.
func (s *Store) prepare() error {
	for _, text := range []string{readLast, nextLast, setLast, readVersion, putItem, deleteItem} {
		prepared, err := s.db.Prepare(text)
		if err != nil {
			return s.plain(err)
		}
		s.prepared[text] = prepared
	}
	return nil
}

// reading is what reads so many items. It takes a connection: whoever holds one does not ask for it.
func (s *Store) reading(ctx context.Context, items int) (*sql.Stmt, error) {
	s.mu.Lock()
	prepared := s.reads[items]
	s.mu.Unlock()
	if prepared != nil {
		return prepared, nil
	}
	prepared, err := s.db.PrepareContext(ctx, "WITH k(n, kind, owner, id) AS (VALUES (?,?,?,?)"+strings.Repeat(",(?,?,?,?)", items-1)+`)
	  SELECT k.n, i.version, i.value FROM k CROSS JOIN items i ON i.kind = k.kind AND i.owner = k.owner AND i.id = k.id`)
	if err != nil {
		return nil, err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if first := s.reads[items]; first != nil { // somebody else was faster
		return first, prepared.Close()
	}
	s.reads[items] = prepared
	return prepared, nil
}

// row asks for one row in a transaction.
func (s *Store) row(ctx context.Context, tx *sql.Tx, text string, args ...any) *sql.Row {
	return tx.StmtContext(ctx, s.prepared[text]).QueryRowContext(ctx, args...)
}

// do makes a change.
func (w *writer) do(text string, args ...any) error {
	_, err := w.tx.StmtContext(w.ctx, w.prepared[text]).ExecContext(w.ctx, args...)
	return err
}
