package sqlite_test

import (
	"bytes"
	"context"
	"crypto/sha256"
	"database/sql"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"testing/fstest"
	"time"

	"github.com/go-json-experiment/json"
	"github.com/stretchr/testify/require"

	"briskwarden.example/briskwarden"
	"briskwarden.example/briskwarden/consent"
	"briskwarden.example/briskwarden/consent/consenttest"
	"briskwarden.example/briskwarden/service/state"
	"briskwarden.example/briskwarden/signon"
	"briskwarden.example/briskwarden/store/sqlite"
)

// rules let 30 people ask 5 clients for the data of 3 apps.
func rules(t testing.TB) *briskwarden.Rulebook {
	var b strings.Builder
	b.WriteString("rulebook r { floor none }\nuser rev { groups reviewers }\ngroup reviewers { }\ngroup deck { }\n")
	for i := range 30 {
		fmt.Fprintf(&b, "user u%d { groups deck  %s }\n", i, map[bool]string{true: "active no"}[i%7 == 6])
	}
	b.WriteString("app a0 { }\napp a1 { }\napp a2 { }\nscopes basic weight 0 { openid }\nscopes data { \"d.*\" }\npolicy c { who everyone to everything doing consent case \"harmless\" when scopes within basic => grant case \"never\" when scopes touch unclassified => block otherwise => review by group reviewers }\n")
	r, err := briskwarden.OpenFS(fstest.MapFS{"rulebook.warden": {Data: []byte(b.String())}}, briskwarden.WithClock(clock))
	require.NoError(t, err)
	return r
}

var clock = func() time.Time { return time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC) }

func open(t testing.TB, name string) *sqlite.Store {
	f, err := sqlite.Open(name)
	require.NoError(t, err)
	t.Cleanup(func() { f.Close() })
	return f
}

func someRequest(dice *rand.Rand) signon.SignOn {
	all := []string{"openid", "openid", "openid", "d.read", "d.write", "d.all", "strange"}
	var scopes []string
	for range 1 + dice.IntN(3) {
		scopes = append(scopes, all[dice.IntN(len(all))])
	}
	c := &signon.Consent{Client: fmt.Sprintf("client-%d", dice.IntN(5)), Scopes: scopes}
	switch dice.IntN(4) {
	case 0:
		c.For, c.Group = signon.ForGroup, "deck"
	case 1:
		c.For = signon.ForEveryone
	}
	return signon.SignOn{User: fmt.Sprintf("u%d", dice.IntN(30)), App: fmt.Sprintf("a%d", dice.IntN(3)), Consent: c}
}

// step does one thing of those that are done to a ledger, and tells what came of it.
func step(ctx context.Context, l *consent.Ledger, dice *rand.Rand) string {
	id := consent.ID(1 + dice.IntN(60))
	var did any
	var err error
	switch dice.IntN(12) {
	case 0, 1, 2:
		did, err = l.Settle(ctx, id, consent.Settlement{Grant: dice.IntN(3) > 0, By: "rev", Because: "so"})
	case 3:
		did, err = l.Withdraw(ctx, id, []string{"rev", "u3", "u6"}[dice.IntN(3)], "so")
	case 4:
		did, err = l.Ban(ctx, fmt.Sprintf("client-%d", dice.IntN(5)), "rev", "so")
	case 5, 6:
		did, err = l.Unban(ctx, fmt.Sprintf("client-%d", dice.IntN(5)), "rev", "so")
	default:
		var a *consent.Answer
		if a, err = l.Ask(ctx, someRequest(dice)); err == nil {
			var held []string
			for _, c := range a.Held {
				held = append(held, c.ID.String())
			}
			did = []any{a.Outcome, a.New, held, a.Consent, a.Client}
		}
	}
	text, failed := json.Marshal(did, json.Deterministic(true))
	return fmt.Sprint(string(text), err, failed)
}

// everything is all that a ledger tells.
func everything(t testing.TB, l *consent.Ledger, s consent.Store) string {
	clients, err := l.Clients(t.Context())
	require.NoError(t, err)
	waiting, err := l.Waiting(t.Context())
	require.NoError(t, err)
	file, err := l.File(t.Context(), "client-1")
	require.NoError(t, err)
	checked, found, err := l.Audit(t.Context())
	require.NoError(t, err)
	v, err := consent.Verify(t.Context(), s)
	require.NoError(t, err)
	text, err := json.Marshal([]any{clients, waiting, file, checked, found, v}, json.Deterministic(true))
	require.NoError(t, err)
	return string(text)
}

// TestFileAnswersAsMemory does the same things to a ledger in memory and to one in a file,
// which is closed and opened in between.
func TestFileAnswersAsMemory(t *testing.T) {
	e := rules(t)
	for seed := range uint64(4) {
		name := filepath.Join(t.TempDir(), "ledger")
		memory := consent.NewMemory()
		inMemory := consent.New(memory, e)
		a, b := rand.New(rand.NewPCG(seed, 1)), rand.New(rand.NewPCG(seed, 1))
		granted := 0
		for range 4 {
			file, err := sqlite.Open(name)
			require.NoError(t, err)
			inFile := consent.New(file, e)
			for range 100 {
				want := step(t.Context(), inMemory, a)
				require.Equal(t, want, step(t.Context(), inFile, b))
				granted += strings.Count(want, `"state":"granted"`)
			}
			require.Equal(t, everything(t, inMemory, memory), everything(t, inFile, file))
			require.NoError(t, file.Close())
		}
		require.Greater(t, granted, 10)
	}
}

// TestChangesThatFail leave nothing, in either store.
func TestChangesThatFail(t *testing.T) {
	e := rules(t)
	for _, s := range []consent.Store{consent.NewMemory(), open(t, filepath.Join(t.TempDir(), "ledger"))} {
		l := consent.New(s, e)
		dice := rand.New(rand.NewPCG(7, 7))
		for range 50 {
			step(t.Context(), l, dice)
		}
		before := everything(t, l, s)
		require.ErrorContains(t, s.Update(t.Context(), func(tx consent.Tx) error {
			for _, c := range []*consent.Consent{{User: "u1", Client: "client-1"}, {ID: 1, User: "u1", Client: "client-1"}} {
				require.NoError(t, tx.PutConsent(c))
			}
			require.NoError(t, tx.PutClient(&consent.Client{ID: "client-1", Name: "x"}))
			require.NoError(t, tx.PutClient(&consent.Client{ID: "client-new"}))
			require.NoError(t, tx.Append(&consent.Entry{Number: 1000}))
			return fmt.Errorf("no")
		}), "no")
		require.Equal(t, before, everything(t, l, s))
		require.Error(t, s.View(t.Context(), func(tx consent.Tx) error { return tx.PutClient(&consent.Client{ID: "client-new"}) }))
		require.Equal(t, before, everything(t, l, s))
	}
}

// filled is a ledger after many steps.
func filled(t *testing.T) (name string, file *sqlite.Store) {
	name = filepath.Join(t.TempDir(), "ledger")
	file = open(t, name)
	l := consent.New(file, rules(t))
	dice := rand.New(rand.NewPCG(3, 3))
	for range 120 {
		step(t.Context(), l, dice)
	}
	_, err := consent.Verify(t.Context(), file)
	require.NoError(t, err)
	return name, file
}

// execute does something to a database from outside, and gives how many rows were changed.
func execute(t *testing.T, name, statement string) (int64, error) {
	db, err := sql.Open("sqlite", name)
	require.NoError(t, err)
	defer db.Close()
	done, err := db.Exec(statement)
	if err != nil {
		return 0, err
	}
	return done.RowsAffected()
}

func TestTampering(t *testing.T) {
	const set = `UPDATE consents SET document = json_set(document, `
	for tamper, want := range map[string]string{
		`UPDATE journal SET document = replace(document, '"who":"', '"who":"x') WHERE number = 9`:           "entry 9: was changed after it was written",
		`UPDATE journal SET document = '{"number":9,"time":3}' WHERE number = 9`:                            "entry 9: cannot be read",
		`UPDATE journal SET document = '{"number":9,"number":9}' WHERE number = 9`:                          "entry 9: cannot be read",
		`DELETE FROM journal WHERE number = 9`:                                                              "entry 9: is missing: entry 10 stands in its place",
		`UPDATE journal SET document = json_set(document, '$.number', 1005) WHERE number = 5`:               "entry 5: is missing",
		set + `'$.state', 'granted') WHERE id = 2`:                                                          "the consent c-2 in the ledger is not what the journal left it",
		set + `'$.app', 'a2') WHERE id = 2`:                                                                 "the consent c-2 in the ledger is not what the journal left it",
		set + `'$.user', 'u9') WHERE id = 2`:                                                                "the consent c-2 in the ledger is not what the journal left it",
		set + `'$.for', 'everyone') WHERE id = 2`:                                                           "the consent c-2 in the ledger is not what the journal left it",
		set + `'$.client', 'client-9') WHERE id = 2`:                                                        "the consent c-2 in the ledger is not what the journal left it",
		set + `'$.id', 902) WHERE id = 2`:                                                                   "the consent c-902 in the ledger is not what the journal left it",
		`DELETE FROM consents WHERE id = 3`:                                                                 "the consent c-3 is gone from the ledger",
		`INSERT INTO consents (document) SELECT json_set(document, '$.id', 900) FROM consents WHERE id = 1`: "the consent c-900 in the ledger is not what",
		`UPDATE clients SET document = replace(document, '"banned"', '"bamned"')`:                           "the client client-",
		`UPDATE clients SET document = json_set(document, '$.id', id || 'x')`:                               "in the ledger is not what the journal left it",
		`DELETE FROM clients`:                   "is gone from the ledger",
		`DELETE FROM journal WHERE number > 12`: "in the ledger is not what the journal left it",
	} {
		name, file := filled(t)
		n, err := execute(t, name, tamper)
		require.NoError(t, err, tamper)
		require.Positive(t, n, tamper)
		_, err = consent.Verify(t.Context(), file)
		require.ErrorContains(t, err, want, tamper)
	}
}

// TestColumnsSayWhatDocumentsSay: what queries go by cannot be changed by itself, and tables of
// another make are not used.
func TestColumnsSayWhatDocumentsSay(t *testing.T) {
	for _, column := range []string{"consents.id", "consents.client", "consents.app", "consents.state", "consents.holder", "clients.id", "journal.number"} {
		table, name, _ := strings.Cut(column, ".")
		path, _ := filled(t)
		_, err := execute(t, path, fmt.Sprintf("UPDATE %s SET %s = 'x'", table, name))
		require.ErrorContains(t, err, "generated column", column)
	}
	for _, tamper := range []string{
		`CREATE TABLE copy AS SELECT * FROM consents; DROP TABLE consents; ALTER TABLE copy RENAME TO consents`,
		`DROP INDEX consents_id`,
		`CREATE TRIGGER late AFTER INSERT ON consents BEGIN DELETE FROM clients; END`,
		`PRAGMA writable_schema = 1; UPDATE sqlite_schema SET sql = replace(sql, '$.user', '$.app') WHERE name = 'consents'`,
	} {
		name, file := filled(t)
		_, err := execute(t, name, tamper)
		require.NoError(t, err, tamper)
		_, err = consent.Verify(t.Context(), file)
		require.ErrorContains(t, err, "is damaged", tamper)
		_, err = sqlite.Open(name)
		require.ErrorContains(t, err, "is damaged", tamper)
	}
}

// TestOlderVersions brings ledgers to this version, the first, which had columns of its own, by what its documents say.
func TestOlderVersions(t *testing.T) {
	for version, downgrade := range map[string]string{"1": firstVersion, "2": "DROP TABLE items; DROP TABLE versions; PRAGMA user_version = 2"} {
		name, file := filled(t)
		before := everything(t, consent.New(file, rules(t)), file)
		require.NoError(t, file.Close())
		_, err := execute(t, name, downgrade)
		require.NoError(t, err, version)
		again := open(t, name)
		require.Equal(t, before, everything(t, consent.New(again, rules(t)), again), version)
		require.NoError(t, again.Write(t.Context(), []state.Change{{Key: state.Key{Kind: state.Marks}, Value: []byte("x")}})[0], version)
	}
}

const firstVersion = `CREATE TABLE c AS SELECT * FROM clients; CREATE TABLE s AS SELECT * FROM consents; CREATE TABLE j AS SELECT * FROM journal;
	 DROP TABLE clients; DROP TABLE consents; DROP TABLE journal;
	 CREATE TABLE clients (id TEXT PRIMARY KEY, document BLOB NOT NULL) WITHOUT ROWID;
	 CREATE TABLE consents (id INTEGER PRIMARY KEY, client TEXT NOT NULL, app TEXT NOT NULL, holder TEXT NOT NULL, state TEXT NOT NULL, document BLOB NOT NULL);
	 CREATE INDEX consents_held ON consents (client, app, holder);
	 CREATE INDEX consents_waiting ON consents (state) WHERE state = 'waiting';
	 CREATE TABLE journal (number INTEGER PRIMARY KEY, document BLOB NOT NULL);
	 INSERT INTO clients SELECT id, CAST(document AS BLOB) FROM c; INSERT INTO journal SELECT number, CAST(document AS BLOB) FROM j;
	 INSERT INTO consents SELECT id, client, 'a0', holder, 'granted', CAST(document AS BLOB) FROM s;
	 DROP TABLE c; DROP TABLE s; DROP TABLE j; DROP TABLE items; DROP TABLE versions; PRAGMA user_version = 1`

// TestForgedEntry changes an entry and gives it the hash that it should have: the one after it tells.
func TestForgedEntry(t *testing.T) {
	name, file := filled(t)
	db, err := sql.Open("sqlite", name)
	require.NoError(t, err)
	defer db.Close()
	var document []byte
	require.NoError(t, db.QueryRow("SELECT document FROM journal WHERE number = 9").Scan(&document))
	var e consent.Entry
	require.NoError(t, json.Unmarshal(document, &e))
	e.Who, e.Hash = "somebody", ""
	open, err := json.Marshal(&e, json.Deterministic(true))
	require.NoError(t, err)
	e.Hash = fmt.Sprintf("%x", sha256.Sum256(open))
	document, err = json.Marshal(&e, json.Deterministic(true))
	require.NoError(t, err)
	_, err = db.Exec("UPDATE journal SET document = ? WHERE number = 9", document)
	require.NoError(t, err)
	_, err = consent.Verify(t.Context(), file)
	require.ErrorContains(t, err, "entry 10: does not follow the entry before it")
}

func TestFilesThatAreNoLedgers(t *testing.T) {
	dir := t.TempDir()
	in := func(name string) string { return filepath.Join(dir, name) }
	require.NoError(t, os.WriteFile(in("text"), []byte(strings.Repeat("this is no database\n", 500)), 0o644))
	other, err := sql.Open("sqlite", in("other"))
	require.NoError(t, err)
	_, err = other.Exec("CREATE TABLE mine (x)")
	require.NoError(t, err)
	require.NoError(t, other.Close())
	newer := open(t, in("newer"))
	require.NoError(t, newer.Close())
	db, err := sql.Open("sqlite", in("newer"))
	require.NoError(t, err)
	_, err = db.Exec("PRAGMA user_version = 7")
	require.NoError(t, err)
	require.NoError(t, db.Close())
	for name, want := range map[string]string{
		"text": "text is no consent ledger", "other": "is a database, but no consent ledger", ".": "is a folder, not a ledger",
		"newer": "was written by a newer brisk (version 7 of the ledger; this one knows 3): nothing was changed", "none/ledger": "there is no folder",
	} {
		before, _ := os.ReadFile(in(name))
		_, err := sqlite.Open(in(name))
		require.ErrorContains(t, err, want)
		after, _ := os.ReadFile(in(name))
		require.True(t, bytes.Equal(before, after), "%s: nothing is changed", name)
	}
}

// TestFullDisk fills a disk of a few pages: the change that no longer fits is told and not kept.
func TestFullDisk(t *testing.T) {
	e := rules(t)
	file := open(t, filepath.Join(t.TempDir(), "ledger"))
	file.Limit(t, 24)
	l := consent.New(file, e)
	for i := range 10_000 {
		so := signon.SignOn{User: "u1", App: "a1", Consent: &signon.Consent{Client: fmt.Sprintf("client-%d-%s", i, strings.Repeat("x", 500)), Scopes: []string{"openid"}}}
		before, err := consent.Verify(t.Context(), file)
		require.NoError(t, err)
		if _, err := l.Ask(t.Context(), so); err != nil {
			require.ErrorContains(t, err, "the disk is full; nothing of this change was kept")
			after, err := consent.Verify(t.Context(), file)
			require.NoError(t, err)
			require.Equal(t, before, after)
			require.Positive(t, i)
			return
		}
	}
	t.Fatal("the disk never filled")
}

// TestSeveralAtOnce lets many ask and settle at the same time, through several connections.
func TestSeveralAtOnce(t *testing.T) {
	e := rules(t)
	name := filepath.Join(t.TempDir(), "ledger")
	var wg sync.WaitGroup
	for i := range 4 {
		file := open(t, name)
		wg.Go(func() {
			dice := rand.New(rand.NewPCG(uint64(i), 5))
			for range 60 {
				step(t.Context(), consent.New(file, e), dice)
			}
		})
	}
	wg.Wait()
	v, err := consent.Verify(t.Context(), open(t, name))
	require.NoError(t, err)
	require.Greater(t, v.Entries, int64(30))
}

func TestContract(t *testing.T) {
	consenttest.TestStore(t, func(t *testing.T) consent.Store { return open(t, filepath.Join(t.TempDir(), "ledger")) })
}
