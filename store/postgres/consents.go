package postgres

// The consent ledger. What queries go by stands beside each document, and is held to it whenever one is read.

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"iter"

	"github.com/go-json-experiment/json"
	"github.com/jackc/pgx/v5"

	"briskwarden.example/briskwarden/consent"
	"briskwarden.example/briskwarden/signon"
)

// ledgerLock is what changes of the ledger wait for: no other runs beside.
const ledgerLock = 0x4257_6c65

// Update runs a change in a transaction that no other writes beside.
func (s *Store) Update(ctx context.Context, change func(consent.Tx) error) error {
	tx, err := s.pool.Begin(ctx)
	if err != nil {
		return err
	}
	defer func() { _ = tx.Rollback(context.WithoutCancel(ctx)) }() // of no effect once it is committed
	if _, err := tx.Exec(ctx, "SELECT pg_advisory_xact_lock($1)", ledgerLock); err != nil {
		return err
	}
	if err := change(&transaction{ctx, tx, true}); err != nil {
		return err
	}
	return tx.Commit(ctx)
}

// View runs a look at one state of the ledger.
func (s *Store) View(ctx context.Context, look func(consent.Tx) error) error {
	tx, err := s.pool.BeginTx(ctx, pgx.TxOptions{IsoLevel: pgx.RepeatableRead, AccessMode: pgx.ReadOnly})
	if err != nil {
		return err
	}
	defer func() { _ = tx.Rollback(context.WithoutCancel(ctx)) }()
	return look(&transaction{ctx, tx, false})
}

type transaction struct {
	ctx    context.Context // of the caller
	tx     pgx.Tx
	writes bool
}

func holder(c *consent.Consent) []byte {
	if c.For == signon.ForSelf {
		return []byte(c.User)
	}
	return []byte{}
}

// The columns beside each kind of document, and whether they are as it says.
var (
	consentColumns = "id, client, app, holder, state"
	sameConsent    = func(c *consent.Consent, beside []any) bool {
		return beside[0] == int64(c.ID) && bytes.Equal(beside[1].([]byte), []byte(c.Client)) && bytes.Equal(beside[2].([]byte), []byte(c.App)) &&
			bytes.Equal(beside[3].([]byte), holder(c)) && beside[4] == string(c.State)
	}
	sameClient = func(c *consent.Client, beside []any) bool { return bytes.Equal(beside[0].([]byte), []byte(c.ID)) }
	sameEntry  = func(e *consent.Entry, beside []any) bool { return beside[0] == int64(e.Number) }
)

// documents gives the documents of a query, whose last column they are; what stands before must be as they say.
func documents[T any](t *transaction, same func(*T, []any) bool, query string, args ...any) iter.Seq2[*T, error] {
	return func(yield func(*T, error) bool) {
		rows, err := t.tx.Query(t.ctx, query, args...)
		if err != nil {
			yield(nil, err)
			return
		}
		var list [][]any // read whole, so that others can be asked meanwhile
		for rows.Next() {
			values, err := rows.Values()
			if err != nil {
				rows.Close()
				yield(nil, err)
				return
			}
			list = append(list, values)
		}
		if err := rows.Err(); err != nil {
			yield(nil, err)
			return
		}
		for _, values := range list {
			v := new(T)
			err := json.Unmarshal(values[len(values)-1].([]byte), v)
			if err == nil && !same(v, values[:len(values)-1]) {
				err = errors.New("its columns say other than its document")
			}
			if err != nil {
				yield(nil, fmt.Errorf("the ledger is damaged: %v: %w", values[0], err))
				return
			}
			if !yield(v, nil) {
				return
			}
		}
	}
}

// one gives the only document of a query; nil is that there is none.
func one[T any](t *transaction, same func(*T, []any) bool, query string, args ...any) (*T, error) {
	for v, err := range documents(t, same, query, args...) {
		return v, err
	}
	return nil, nil
}

// put keeps a document by a statement, whose last argument it is.
func (t *transaction) put(statement string, v any, beside ...any) error {
	if !t.writes {
		return consent.ErrReadOnly
	}
	data, err := json.Marshal(v, json.Deterministic(true))
	if err == nil {
		_, err = t.tx.Exec(t.ctx, statement, append(beside, data)...)
	}
	return err
}

// Consent finds one.
func (t *transaction) Consent(id consent.ID) (*consent.Consent, error) {
	return one(t, sameConsent, "SELECT "+consentColumns+", document FROM brisk_consents WHERE id = $1", int64(id))
}

// Consents gives those selected.
func (t *transaction) Consents(of consent.Selection) iter.Seq2[*consent.Consent, error] {
	query, args := "SELECT "+consentColumns+", document FROM brisk_consents WHERE true", []any{}
	narrow := func(condition, value string, as any) {
		if value != "" {
			args = append(args, as)
			query += fmt.Sprintf(" AND "+condition, len(args))
		}
	}
	narrow("client = $%d", of.Client, []byte(of.Client))
	narrow("app = $%d", of.App, []byte(of.App))
	narrow(`holder IN ($%d, ''::bytea)`, of.User, []byte(of.User))
	narrow("state = $%d", string(of.State), string(of.State))
	return documents(t, sameConsent, query+" ORDER BY id", args...)
}

// PutConsent keeps one.
func (t *transaction) PutConsent(c *consent.Consent) error {
	if c.ID == 0 {
		if err := t.tx.QueryRow(t.ctx, "SELECT coalesce(max(id), 0) + 1 FROM brisk_consents").Scan((*int64)(&c.ID)); err != nil {
			return err
		}
	}
	return t.put(`INSERT INTO brisk_consents (id, client, app, holder, state, document) VALUES ($1, $2, $3, $4, $5, $6) ON CONFLICT (id) DO UPDATE
	  SET client = excluded.client, app = excluded.app, holder = excluded.holder, state = excluded.state, document = excluded.document`,
		c, int64(c.ID), []byte(c.Client), []byte(c.App), holder(c), string(c.State))
}

// Client finds one.
func (t *transaction) Client(id string) (*consent.Client, error) {
	return one(t, sameClient, "SELECT id, document FROM brisk_clients WHERE id = $1", []byte(id))
}

// Clients gives all.
func (t *transaction) Clients() iter.Seq2[*consent.Client, error] {
	return documents(t, sameClient, "SELECT id, document FROM brisk_clients ORDER BY id")
}

// PutClient keeps one.
func (t *transaction) PutClient(c *consent.Client) error {
	return t.put("INSERT INTO brisk_clients (id, document) VALUES ($1, $2) ON CONFLICT (id) DO UPDATE SET document = excluded.document", c, []byte(c.ID))
}

// Entries gives the journal.
func (t *transaction) Entries() iter.Seq2[*consent.Entry, error] {
	return documents(t, sameEntry, "SELECT number, document FROM brisk_journal ORDER BY number")
}

// LastEntry gives the last of the journal.
func (t *transaction) LastEntry() (*consent.Entry, error) {
	return one(t, sameEntry, "SELECT number, document FROM brisk_journal ORDER BY number DESC LIMIT 1")
}

// Append adds to the journal.
func (t *transaction) Append(e *consent.Entry) error {
	return t.put("INSERT INTO brisk_journal (number, document) VALUES ($1, $2)", e, int64(e.Number))
}

// Check reads every document, so that one whose columns say otherwise is found whatever asks for it.
func (s *Store) Check(ctx context.Context) error {
	return s.View(ctx, func(tx consent.Tx) error {
		for _, err := range tx.Consents(consent.Selection{}) {
			if err != nil {
				return err
			}
		}
		for _, err := range tx.Clients() {
			if err != nil {
				return err
			}
		}
		return nil
	})
}
