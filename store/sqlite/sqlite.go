// Package sqlite keeps the consent ledger, and what a decision service remembers, in a file: an
// embedded SQLite database that several processes use at once.
//
//	store, err := sqlite.Open("clients.ledger")
//	…
//	ledger := consent.New(store, rules)
package sqlite

import (
	"cmp"
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io/fs"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	driver "modernc.org/sqlite"
	codes "modernc.org/sqlite/lib"

	"briskwarden.example/briskwarden/consent"
	"briskwarden.example/briskwarden/internal/gather"
)

// Store is a [consent.Store] in a file. It is safe for concurrent use, by several processes too.
type Store struct {
	name string
	db   *sql.DB

	mu       sync.Mutex
	prepared map[string]*sql.Stmt // by their text, as long as the store is open
	reads    map[int]*sql.Stmt    // of so many items
	turn     chan struct{}        // held by whoever writes items: changes are brought to what is at hand in their order
	number   gather.Gatherer[chan numbered]
	recent   recent
}

// application marks our databases among those of SQLite: "BWcl".
const application = 0x4257636c

// schema is what a ledger's database holds. A table has documents alone: whatever a query goes
// by, the database itself takes out of the document, so that the two cannot differ.
var schema = []string{
	`CREATE TABLE clients (document TEXT NOT NULL, id TEXT NOT NULL AS (document ->> '$.id'))`,
	`CREATE UNIQUE INDEX clients_id ON clients (id)`,
	`CREATE TABLE consents (document TEXT NOT NULL, id INTEGER NOT NULL AS (document ->> '$.id'), client TEXT NOT NULL AS (document ->> '$.client'),
	  app TEXT NOT NULL AS (document ->> '$.app'), state TEXT NOT NULL AS (document ->> '$.state'),
	  holder TEXT NOT NULL AS (CASE document ->> '$.for' WHEN 'self' THEN document ->> '$.user' ELSE '' END))`,
	`CREATE UNIQUE INDEX consents_id ON consents (id)`,
	`CREATE INDEX consents_held ON consents (client, app, holder)`,
	`CREATE INDEX consents_waiting ON consents (state) WHERE state = 'waiting'`,
	`CREATE TABLE journal (document TEXT NOT NULL, number INTEGER NOT NULL AS (document ->> '$.number'))`,
	`CREATE UNIQUE INDEX journal_number ON journal (number)`,
}

// schemaOfItems is what a decision service keeps in the same database, by keys.
var schemaOfItems = []string{
	`CREATE TABLE items (kind INTEGER NOT NULL, owner BLOB NOT NULL, id BLOB NOT NULL, version INTEGER NOT NULL, expires INTEGER, value BLOB NOT NULL,
	  PRIMARY KEY (kind, owner, id)) WITHOUT ROWID`,
	`CREATE INDEX items_expire ON items (expires) WHERE expires IS NOT NULL`,
	`CREATE TABLE versions (last INTEGER NOT NULL)`,
	`INSERT INTO versions (last) VALUES (0)`,
}

// version is that of the schema. The first had columns beside the documents, the second no items.
const version = 3

// fromFirst is what brings a ledger of the first version to this one, around making the schema.
const (
	setFirstAside = `DROP INDEX consents_held; DROP INDEX consents_waiting; ALTER TABLE clients RENAME TO clients1;
	  ALTER TABLE consents RENAME TO consents1; ALTER TABLE journal RENAME TO journal1`
	takeFirstOver = `INSERT INTO clients (document) SELECT CAST(document AS TEXT) FROM clients1;
	  INSERT INTO consents (document) SELECT CAST(document AS TEXT) FROM consents1;
	  INSERT INTO journal (document) SELECT CAST(document AS TEXT) FROM journal1;
	  DROP TABLE clients1; DROP TABLE consents1; DROP TABLE journal1`
)

// Open opens the ledger in a file, and begins one where there is none. The error says what is
// wrong with the file: it is no ledger, it was written by a newer release, or it cannot be read
// and written.
func Open(name string) (*Store, error) {
	if info, err := os.Stat(name); err == nil && info.IsDir() {
		return nil, fmt.Errorf("%s is a folder, not a ledger", name)
	}
	if dir := filepath.Dir(name); !isFolder(dir) {
		return nil, fmt.Errorf("%s cannot be opened: there is no folder %s", name, dir)
	}
	if err := private(name); err != nil {
		return nil, fmt.Errorf("%s cannot be opened: %w", name, err)
	}
	query := url.Values{"_pragma": {fmt.Sprintf("busy_timeout(%d)", patience.Milliseconds()), "synchronous(FULL)"}, "_txlock": {"immediate"}}
	db, err := sql.Open("sqlite", (&url.URL{Scheme: "file", OmitHost: true, Path: filepath.ToSlash(name), RawQuery: query.Encode()}).String())
	if err != nil {
		return nil, fmt.Errorf("%s cannot be opened: %w", name, err)
	}
	db.SetMaxIdleConns(connections)
	db.SetMaxOpenConns(connections)
	s := &Store{name: name, db: db, prepared: map[string]*sql.Stmt{}, reads: map[int]*sql.Stmt{}, turn: make(chan struct{}, 1)}
	s.number.AtOnce, s.number.Answer = 1, s.tellNumber
	if err := cmp.Or(s.migrate(), s.prepare()); err != nil {
		db.Close()
		return nil, err
	}
	return s, nil
}

// private begins the file, if there is none, as one that nobody else may read; SQLite gives the files beside it the same mode.
func private(name string) error {
	f, err := os.OpenFile(name, os.O_RDWR|os.O_CREATE|os.O_EXCL, 0o600)
	switch {
	case err == nil:
		return f.Close()
	case errors.Is(err, fs.ErrExist), errors.Is(err, fs.ErrPermission): // which SQLite says in its own words
		return nil
	}
	return err
}

// Exists reports whether there is a ledger in a file.
func Exists(name string) bool {
	_, err := os.Stat(name)
	return !errors.Is(err, fs.ErrNotExist)
}

func isFolder(name string) bool {
	info, err := os.Stat(name)
	return err == nil && info.IsDir()
}

// self is what a database says of itself.
type self struct{ mark, version, tables int }

func stateOf(tx *sql.Tx) (s self, err error) {
	err = errors.Join(tx.QueryRow("PRAGMA application_id").Scan(&s.mark), tx.QueryRow("PRAGMA user_version").Scan(&s.version),
		tx.QueryRow("SELECT count(*) FROM sqlite_schema").Scan(&s.tables))
	return s, err
}

// migrate checks that the database is ours, and brings it to this version.
func (s *Store) migrate() error {
	var now self
	err := s.transaction(context.Background(), &sql.TxOptions{ReadOnly: true}, func(tx *sql.Tx) (err error) {
		now, err = stateOf(tx) // as it was at one time, though another process may be making it
		return err
	})
	switch {
	case err != nil:
		return err
	case now.mark != application && now.tables > 0:
		return fmt.Errorf("%s is a database, but no consent ledger", s.name)
	case now.version > version:
		return fmt.Errorf("%s was written by a newer brisk (version %d of the ledger; this one knows %d): nothing was changed", s.name, now.version, version)
	case now.version == version:
		return s.checkSchema()
	}
	// Of a database that is not ours nothing is changed, not even this.
	if err := s.logAhead(); err != nil {
		return s.plain(err)
	}
	return s.transaction(context.Background(), nil, func(tx *sql.Tx) error {
		now, err := stateOf(tx) // another process may have been first
		if err != nil || now.version == version {
			return err
		}
		statements := slices.Concat(schema, schemaOfItems)
		switch now.version {
		case 1:
			statements = slices.Concat([]string{setFirstAside}, schema, []string{takeFirstOver}, schemaOfItems)
		case 2:
			statements = schemaOfItems
		}
		statements = append(slices.Clone(statements), fmt.Sprintf("PRAGMA application_id = %d; PRAGMA user_version = %d", application, version))
		for _, statement := range statements {
			if _, err := tx.Exec(statement); err != nil {
				return err
			}
		}
		return nil
	})
}

// connections is how many there are to the file: what is read and written by more goroutines waits its turn.
const connections = 16

// patience is how long to wait for another process.
const patience = time.Minute

// logAhead has the database write ahead of its file. SQLite does not wait by itself for another
// process that does the same.
func (s *Store) logAhead() error {
	for since := time.Now(); ; time.Sleep(5 * time.Millisecond) {
		_, err := s.db.Exec("PRAGMA journal_mode = WAL")
		var failed *driver.Error
		if !errors.As(err, &failed) || failed.Code()&0xff != codes.SQLITE_BUSY || time.Since(since) > patience {
			return err
		}
	}
}

// checkSchema reports a database whose tables are not as they were made: its queries might see
// other than the documents say.
func (s *Store) checkSchema() error {
	rows, err := s.db.Query("SELECT sql FROM sqlite_schema WHERE name NOT LIKE 'sqlite_%'")
	if err != nil {
		return s.plain(err)
	}
	defer rows.Close()
	var found []string
	for rows.Next() {
		var statement sql.NullString
		if err := rows.Scan(&statement); err != nil {
			return s.plain(err)
		}
		found = append(found, statement.String)
	}
	slices.Sort(found)
	tables := slices.Sorted(slices.Values(slices.Concat(schema, slices.DeleteFunc(slices.Clone(schemaOfItems), func(s string) bool { return !strings.HasPrefix(s, "CREATE") }))))
	if err := rows.Err(); err != nil || !slices.Equal(found, tables) {
		return cmp.Or(s.plain(err), fmt.Errorf("%s is damaged: its tables are not as brisk made them; restore it from a copy", s.name))
	}
	return nil
}

// Check reports a database whose indexes or tables are damaged.
func (s *Store) Check(ctx context.Context) error {
	var first string
	if err := s.db.QueryRowContext(ctx, "PRAGMA integrity_check(1)").Scan(&first); err != nil {
		return s.plain(err)
	}
	if first != "ok" {
		return fmt.Errorf("%s is damaged: %s", s.name, first)
	}
	return s.checkSchema()
}

// Close closes the ledger.
func (s *Store) Close() error { return s.db.Close() }

// Update runs a change in a transaction that no other writes beside.
func (s *Store) Update(ctx context.Context, change func(consent.Tx) error) error {
	return s.transaction(ctx, nil, func(tx *sql.Tx) error { return change(&transaction{ctx, tx, s, true}) })
}

// View runs a look at one state of the ledger.
func (s *Store) View(ctx context.Context, look func(consent.Tx) error) error {
	return s.transaction(ctx, &sql.TxOptions{ReadOnly: true}, func(tx *sql.Tx) error { return look(&transaction{ctx, tx, s, false}) })
}

// plain says in our words what SQLite says in its own.
func (s *Store) plain(err error) error {
	var failed *driver.Error
	if !errors.As(err, &failed) {
		return err
	}
	why := map[int]string{
		codes.SQLITE_NOTADB:   "is no consent ledger",
		codes.SQLITE_CORRUPT:  "is damaged: restore it from a copy",
		codes.SQLITE_FULL:     "cannot be written: the disk is full; nothing of this change was kept",
		codes.SQLITE_READONLY: "cannot be written: the file or its folder is read-only",
		codes.SQLITE_CANTOPEN: "cannot be opened: may the file and its folder be read and written?",
		codes.SQLITE_PERM:     "cannot be opened: it may not be read",
		codes.SQLITE_BUSY:     "is kept busy by another process: try again",
		codes.SQLITE_IOERR:    "cannot be read or written: the disk fails, or is full; nothing of this change was kept",
	}[failed.Code()&0xff]
	if why == "" {
		return fmt.Errorf("%s: %w", s.name, err)
	}
	return fmt.Errorf("%s %s", s.name, why)
}
