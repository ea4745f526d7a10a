// Package consenttest tests that a [consent.Store] is as its documentation says.
//
//	func TestStore(t *testing.T) {
//		consenttest.TestStore(t, func(t *testing.T) consent.Store { return mystore.New() })
//	}
package consenttest

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"briskwarden.example/briskwarden/consent"
	"briskwarden.example/briskwarden/signon"
)

// TestStore holds stores against the contract of [consent.Store]. Open gives a new, empty one each
// time, and has it closed when the test ends.
func TestStore(t *testing.T, open func(t *testing.T) consent.Store) {
	for name, test := range map[string]func(*testing.T, consent.Store){
		"an empty store": empty, "what is put is found": found, "what is selected": selected, "a change that fails": failing,
		"a look changes nothing": looking, "a context that is done": done, "one change at a time": concurrent, "the journal": journal,
	} {
		t.Run(name, func(t *testing.T) { test(t, open(t)) })
	}
}

func update(t *testing.T, s consent.Store, change func(consent.Tx) error) {
	t.Helper()
	require.NoError(t, s.Update(t.Context(), change))
}

func view(t *testing.T, s consent.Store, look func(consent.Tx)) {
	t.Helper()
	require.NoError(t, s.View(t.Context(), func(tx consent.Tx) error {
		look(tx)
		return nil
	}))
}

// collect gathers what a sequence gives.
func collect[T any](t *testing.T, sequence func(func(T, error) bool)) (list []T) {
	t.Helper()
	for v, err := range sequence {
		require.NoError(t, err)
		list = append(list, v)
	}
	return list
}

func empty(t *testing.T, s consent.Store) {
	view(t, s, func(tx consent.Tx) {
		c, err := tx.Consent(1)
		require.NoError(t, err)
		require.Nil(t, c)
		client, err := tx.Client("notes")
		require.NoError(t, err)
		require.Nil(t, client)
		last, err := tx.LastEntry()
		require.NoError(t, err)
		require.Nil(t, last)
		require.Empty(t, collect(t, tx.Consents(consent.Selection{})))
		require.Empty(t, collect(t, tx.Clients()))
		require.Empty(t, collect(t, tx.Entries()))
	})
}

// odd are ids that a store could take for others, or in another order.
var odd = []string{"", " ", "B", "a", "a ", "b", "\u00e9", "e\u0301", "ÿ", "'; --", "%", "_", "\x00", "🂡"}

func found(t *testing.T, s consent.Store) {
	at := time.Date(2026, 11, 23, 8, 0, 0, 123_000_000, time.UTC)
	full := &consent.Consent{State: consent.Granted, User: "ann", App: "roster", Client: "notes", Scopes: []string{"a", "b"}, Granted: []string{"a"},
		For: signon.ForGroup, Group: "deck", Owner: signon.Yes, Asked: at, Policy: `p "x"`, Reviewers: "reviewers", By: "rev", Settled: at, Because: "so", Until: at}
	update(t, s, func(tx consent.Tx) error {
		require.NoError(t, tx.PutConsent(full))
		require.Equal(t, consent.ID(1), full.ID, "the first ID is 1")
		seen, err := tx.Consent(1)
		require.NoError(t, err)
		require.Equal(t, full, seen, "a transaction sees what it changed")
		for _, id := range odd {
			require.NoError(t, tx.PutClient(&consent.Client{ID: id, Name: "of " + id, Banned: consent.Ban{By: "rev", Because: "so", Since: at}}))
		}
		return nil
	})
	want := *full
	full.Because = "changed by whoever put it"
	update(t, s, func(tx consent.Tx) error {
		second := &consent.Consent{For: signon.ForSelf, Scopes: []string{"x"}, User: "bob"}
		require.NoError(t, tx.PutConsent(second))
		require.Equal(t, consent.ID(2), second.ID)
		return tx.PutClient(&consent.Client{ID: "a", Name: "another"})
	})
	view(t, s, func(tx consent.Tx) {
		got, err := tx.Consent(1)
		require.NoError(t, err)
		require.Equal(t, &want, got, "nothing of what was put is held on to, or lost")
		clients := collect(t, tx.Clients())
		require.Len(t, clients, len(odd))
		for i, c := range clients {
			if i > 0 {
				require.Less(t, clients[i-1].ID, c.ID, "by ID, byte by byte")
			}
			one, err := tx.Client(c.ID)
			require.NoError(t, err)
			require.Equal(t, c, one)
			if c.ID == "a" {
				require.Equal(t, &consent.Client{ID: "a", Name: "another"}, c, "in place of the first")
			} else {
				require.Equal(t, "of "+c.ID, c.Name)
			}
		}
		for range tx.Clients() {
			break // nobody has to hear a sequence out
		}
	})
}

func selected(t *testing.T, s consent.Store) {
	var all []*consent.Consent
	update(t, s, func(tx consent.Tx) error {
		for i := range 200 {
			c := &consent.Consent{State: []consent.State{consent.Waiting, consent.Granted, consent.Refused, consent.Withdrawn}[i%4], User: []string{"ann", "Ann", "bob"}[i%3],
				App: []string{"roster", "roster "}[i%2], Client: fmt.Sprint("c", i%5), For: []signon.ConsentFor{signon.ForSelf, signon.ForGroup, signon.ForEveryone}[i/3%3], Scopes: []string{"x"}}
			require.NoError(t, tx.PutConsent(c))
			all = append(all, c)
		}
		return nil
	})
	view(t, s, func(tx consent.Tx) {
		for _, of := range []consent.Selection{{}, {State: consent.Waiting}, {Client: "c3"}, {App: "roster"}, {User: "ann"}, {Client: "c"}, {User: "nobody"},
			{State: consent.Granted, Client: "c1", App: "roster ", User: "bob"}, {State: consent.Refused, User: "Ann"}} {
			var want []*consent.Consent
			for _, c := range all {
				if of.Selects(c) {
					want = append(want, c)
				}
			}
			require.Equal(t, want, collect(t, tx.Consents(of)), "%+v", of)
		}
	})
}

func failing(t *testing.T, s consent.Store) {
	update(t, s, func(tx consent.Tx) error {
		require.NoError(t, tx.PutConsent(&consent.Consent{For: signon.ForSelf, Scopes: []string{"x"}, User: "ann"}))
		return tx.PutClient(&consent.Client{ID: "notes"})
	})
	broken := errors.New("broken")
	require.ErrorIs(t, s.Update(t.Context(), func(tx consent.Tx) error {
		require.NoError(t, tx.PutConsent(&consent.Consent{For: signon.ForSelf, Scopes: []string{"x"}, ID: 1, User: "bob"}))
		require.NoError(t, tx.PutConsent(&consent.Consent{For: signon.ForSelf, Scopes: []string{"x"}, User: "new"}))
		require.NoError(t, tx.PutClient(&consent.Client{ID: "notes", Name: "changed"}))
		require.NoError(t, tx.PutClient(&consent.Client{ID: "new"}))
		require.NoError(t, tx.Append(&consent.Entry{Number: 1}))
		return broken
	}), broken, "the change's own error")
	view(t, s, func(tx consent.Tx) {
		require.Equal(t, []*consent.Client{{ID: "notes"}}, collect(t, tx.Clients()))
		require.Empty(t, collect(t, tx.Entries()))
		list := collect(t, tx.Consents(consent.Selection{}))
		require.Len(t, list, 1)
		require.Equal(t, "ann", list[0].User)
	})
	update(t, s, func(tx consent.Tx) error {
		next := &consent.Consent{For: signon.ForSelf, Scopes: []string{"x"}, User: "cy"}
		require.NoError(t, tx.PutConsent(next))
		require.Equal(t, consent.ID(2), next.ID, "what failed took no number")
		return nil
	})
}

func looking(t *testing.T, s consent.Store) {
	for what, change := range map[string]func(consent.Tx) error{
		"a consent": func(tx consent.Tx) error {
			return tx.PutConsent(&consent.Consent{For: signon.ForSelf, Scopes: []string{"x"}})
		},
		"a client": func(tx consent.Tx) error { return tx.PutClient(&consent.Client{ID: "a"}) },
		"an entry": func(tx consent.Tx) error { return tx.Append(&consent.Entry{Number: 1}) },
	} {
		require.ErrorIs(t, s.View(t.Context(), change), consent.ErrReadOnly, what)
	}
	empty(t, s)
}

func done(t *testing.T, s consent.Store) {
	over, cancel := context.WithCancel(t.Context())
	cancel()
	put := func(tx consent.Tx) error { return tx.PutClient(&consent.Client{ID: "a"}) }
	require.ErrorIs(t, s.Update(over, put), context.Canceled)
	require.ErrorIs(t, s.View(over, func(consent.Tx) error { return nil }), context.Canceled)
	meanwhile, cancel := context.WithCancel(t.Context())
	require.ErrorIs(t, s.Update(meanwhile, func(tx consent.Tx) error {
		err := put(tx)
		cancel()
		return err
	}), context.Canceled, "it is not kept")
	empty(t, s)
}

func concurrent(t *testing.T, s consent.Store) {
	const workers, each = 8, 25
	var wg sync.WaitGroup
	errs := make([]error, workers)
	for w := range workers {
		wg.Go(func() {
			for range each {
				errs[w] = errors.Join(errs[w], s.Update(t.Context(), func(tx consent.Tx) error {
					last, err := tx.LastEntry()
					if err != nil {
						return err
					}
					n := int64(1)
					if last != nil {
						n = last.Number + 1
					}
					return tx.Append(&consent.Entry{Number: n, Who: fmt.Sprint(w)})
				}))
			}
		})
	}
	wg.Wait()
	require.NoError(t, errors.Join(errs...))
	view(t, s, func(tx consent.Tx) {
		for i, e := range collect(t, tx.Entries()) {
			require.Equal(t, int64(i+1), e.Number)
		}
		last, err := tx.LastEntry()
		require.NoError(t, err)
		require.Equal(t, int64(workers*each), last.Number, "no change was lost")
	})
}

func journal(t *testing.T, s consent.Store) {
	entry := &consent.Entry{Number: 1, Time: time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC), Who: "rev", What: "grant", Client: "notes", Consent: 7, Why: "so\nand so",
		Before: consent.Things{Client: &consent.Client{ID: "notes"}}, After: consent.Things{Consent: &consent.Consent{ID: 7, For: signon.ForSelf, Scopes: []string{"x"}}}, Previous: "a", Hash: "b"}
	update(t, s, func(tx consent.Tx) error { return tx.Append(entry) })
	require.Error(t, s.Update(t.Context(), func(tx consent.Tx) error { return tx.Append(&consent.Entry{Number: 1, Who: "forger"}) }), "a number is given once")
	view(t, s, func(tx consent.Tx) { require.Equal(t, []*consent.Entry{entry}, collect(t, tx.Entries())) })
}
