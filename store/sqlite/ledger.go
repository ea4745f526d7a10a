package sqlite

// The ledger of consents, in the file.

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"iter"

	"github.com/go-json-experiment/json"

	"briskwarden.example/briskwarden/consent"
)

func (s *Store) transaction(ctx context.Context, o *sql.TxOptions, work func(*sql.Tx) error) error {
	tx, err := s.db.BeginTx(ctx, o)
	if err != nil {
		return s.plain(err)
	}
	defer func() { _ = tx.Rollback() }() // of no effect once it is committed
	if err = work(tx); err == nil {
		err = tx.Commit()
	}
	if ctx.Err() != nil && errors.Is(err, sql.ErrTxDone) { // the database took it back for that reason
		return ctx.Err()
	}
	return s.plain(err)
}

type transaction struct {
	ctx    context.Context // of the caller
	tx     *sql.Tx
	file   *Store
	writes bool
}

// put keeps a document by a statement.
func (t *transaction) put(statement string, v any) error {
	if !t.writes {
		return consent.ErrReadOnly
	}
	data, err := json.Marshal(v, json.Deterministic(true))
	if err == nil {
		_, err = t.tx.ExecContext(t.ctx, statement, string(data))
	}
	return err
}

// document reads a document into v; false is that there is none.
func (t *transaction) document(v any, what, query string, args ...any) (bool, error) {
	var data []byte
	switch err := t.tx.QueryRowContext(t.ctx, query, args...).Scan(&data); {
	case errors.Is(err, sql.ErrNoRows):
		return false, nil
	case err != nil:
		return false, err
	}
	return true, t.decode(data, v, what)
}

func (t *transaction) decode(data []byte, v any, what string) error {
	if err := json.Unmarshal(data, v); err != nil {
		return fmt.Errorf("%s: %s is damaged: %w", t.file.name, what, err)
	}
	return nil
}

// documents gives the documents of a query.
func documents[T any](t *transaction, what, query string, args ...any) iter.Seq2[*T, error] {
	return func(yield func(*T, error) bool) {
		rows, err := t.tx.QueryContext(t.ctx, query, args...)
		if err != nil {
			yield(nil, err)
			return
		}
		defer rows.Close()
		for rows.Next() {
			v := new(T)
			var data sql.RawBytes
			err := rows.Scan(&data)
			if err == nil {
				err = t.decode(data, v, what)
			}
			if !yield(v, err) || err != nil {
				return
			}
		}
		if err := rows.Err(); err != nil {
			yield(nil, err)
		}
	}
}

// Consent finds one.
func (t *transaction) Consent(id consent.ID) (*consent.Consent, error) {
	var c consent.Consent
	found, err := t.document(&c, "the consent "+id.String(), "SELECT document FROM consents WHERE id = ?", int64(id))
	if !found || err != nil {
		return nil, err
	}
	return &c, nil
}

// Consents gives those selected.
func (t *transaction) Consents(of consent.Selection) iter.Seq2[*consent.Consent, error] {
	query, args := "SELECT document FROM consents WHERE 1", []any{}
	narrow := func(condition, value string) {
		if value != "" {
			query += " AND " + condition
			args = append(args, value)
		}
	}
	narrow("client = ?", of.Client)
	narrow("app = ?", of.App)
	narrow("holder IN (?, '')", of.User)
	narrow("state = ?", string(of.State))
	return documents[consent.Consent](t, "a consent", query+" ORDER BY id", args...)
}

// PutConsent keeps one.
func (t *transaction) PutConsent(c *consent.Consent) error {
	if c.ID == 0 {
		if err := t.tx.QueryRowContext(t.ctx, "SELECT coalesce(max(id), 0) + 1 FROM consents").Scan((*int64)(&c.ID)); err != nil {
			return err
		}
	}
	return t.put("INSERT OR REPLACE INTO consents (document) VALUES (?)", c)
}

// Client finds one.
func (t *transaction) Client(id string) (*consent.Client, error) {
	var c consent.Client
	found, err := t.document(&c, "the client "+id, "SELECT document FROM clients WHERE id = ?", id)
	if !found || err != nil {
		return nil, err
	}
	return &c, nil
}

// Clients gives all.
func (t *transaction) Clients() iter.Seq2[*consent.Client, error] {
	return documents[consent.Client](t, "a client", "SELECT document FROM clients ORDER BY id")
}

// PutClient keeps one.
func (t *transaction) PutClient(c *consent.Client) error {
	return t.put("INSERT OR REPLACE INTO clients (document) VALUES (?)", c)
}

// Entries gives the journal.
func (t *transaction) Entries() iter.Seq2[*consent.Entry, error] {
	return documents[consent.Entry](t, "an entry", "SELECT document FROM journal ORDER BY number")
}

// LastEntry gives the last of the journal.
func (t *transaction) LastEntry() (*consent.Entry, error) {
	var e consent.Entry
	found, err := t.document(&e, "the last entry", "SELECT document FROM journal ORDER BY number DESC LIMIT 1")
	if !found || err != nil {
		return nil, err
	}
	return &e, nil
}

// Append adds to the journal.
func (t *transaction) Append(e *consent.Entry) error {
	return t.put("INSERT INTO journal (document) VALUES (?)", e)
}
