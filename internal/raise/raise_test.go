package raise_test

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"path/filepath"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"briskwarden.example/briskwarden/internal/alert"
	"briskwarden.example/briskwarden/internal/outbox"
	"briskwarden.example/briskwarden/internal/raise"
	"briskwarden.example/briskwarden/internal/rulebook"
	"briskwarden.example/briskwarden/service/state"
	"briskwarden.example/briskwarden/store/sqlite"
)

// stalled is a store with a clock of its own, which can fail to write.
type stalled struct {
	state.Store
	later  atomic.Int64
	broken atomic.Bool
}

func (s *stalled) Read(ctx context.Context, keys []state.Key) (state.Reading, error) {
	r, err := s.Store.Read(ctx, keys)
	r.At = r.At.Add(time.Duration(s.later.Load()))
	return r, err
}

func (s *stalled) Write(ctx context.Context, sets ...[]state.Change) []error {
	if s.broken.Load() {
		return []error{errors.New("the disk is full")}
	}
	return s.Store.Write(ctx, sets...)
}

func (s *stalled) now() time.Time { return time.Now().Add(time.Duration(s.later.Load())) }

func opened(t *testing.T) *stalled {
	store, err := sqlite.Open(filepath.Join(t.TempDir(), "brisk.state"))
	require.NoError(t, err)
	t.Cleanup(func() { store.Close() })
	return &stalled{Store: store}
}

// node is one of several processes that raise alerts.
func node(store state.Store) *raise.Raiser {
	r := raise.New(store)
	r.Sender = &outbox.Sender{Store: store, Log: slog.New(slog.DiscardHandler), Now: time.Now, Left: time.Minute}
	r.Summary = func(s *alert.Summary) (outbox.Content, error) {
		return outbox.Content{Type: "summary", Data: []byte("{}"), Subject: fmt.Sprintf("%d of %v", s.Held, s.Users)}, nil
	}
	return r
}

func raised(a *rulebook.Alert, user, app string) *raise.Raised {
	return &raise.Raised{Alert: a, User: user, App: app, Content: func(held int) (outbox.Content, error) {
		return outbox.Content{Type: "alert", Data: []byte("{}"), Subject: fmt.Sprintf("%s %s %d", user, app, held)}, nil
	}}
}

// said takes what is in the outbox, in any order.
func said(t *testing.T, store state.Store) (subjects []string) {
	for m, err := range outbox.All(t.Context(), store) {
		require.NoError(t, err)
		subjects = append(subjects, m.Subject)
		require.NoError(t, store.Write(t.Context(), []state.Change{{Key: state.Key{Kind: state.Outgoing, Owner: m.To, ID: m.ID}, If: version(t, store, m)}})[0])
	}
	return subjects
}

func version(t *testing.T, store state.Store, m *outbox.Message) int64 {
	r, err := store.Read(t.Context(), []state.Key{{Kind: state.Outgoing, Owner: m.To, ID: m.ID}})
	require.NoError(t, err)
	return r.Items[0].Version
}

var desk = []rulebook.Receiver{{Address: "mailto:desk@skerry.example"}}

// TestNodesShareLimits raises on two nodes: together they send no more than the alert says, and the next message says how many there
// were meanwhile, once.
func TestNodesShareLimits(t *testing.T) {
	for per, want := range map[rulebook.Per][]string{rulebook.PerUser: {"ann pay 0", "bob pay 0"}, rulebook.PerApp: {"ann pay 0", "ann log 0"}, rulebook.PerRulebook: {"ann pay 0"}} {
		store := opened(t)
		a := &rulebook.Alert{Name: "a", Most: 1, Per: per, Every: time.Hour, Tell: desk}
		nodes := []*raise.Raiser{node(store), node(store)}
		for i, who := range [][2]string{{"ann", "pay"}, {"ann", "pay"}, {"bob", "pay"}, {"ann", "log"}, {"ann", "pay"}, {"bob", "pay"}, {"ann", "pay"}} {
			require.NoError(t, nodes[i%2].Raise(t.Context(), store.now(), []*raise.Raised{raised(a, who[0], who[1])}))
		}
		require.ElementsMatch(t, want, said(t, store), per)
		for _, n := range nodes {
			require.NoError(t, n.Look(t.Context(), []*rulebook.Alert{a}))
		}
		held := map[rulebook.Per]int{rulebook.PerUser: 4, rulebook.PerApp: 5, rulebook.PerRulebook: 6}[per]
		if per == rulebook.PerApp {
			held = 5
		}
		store.later.Add(int64(time.Hour))
		require.NoError(t, nodes[0].Raise(t.Context(), store.now(), []*raise.Raised{raised(a, "ann", "pay")}))
		require.Equal(t, []string{fmt.Sprintf("ann pay %d", held)}, said(t, store), per)
		store.later.Add(int64(time.Hour))
		require.NoError(t, nodes[1].Raise(t.Context(), store.now(), []*raise.Raised{raised(a, "ann", "pay")}))
		require.Equal(t, []string{"ann pay 0"}, said(t, store), "told once")
	}
}

// TestSixtyAnHour holds two nodes that raise at the same time to sixty, and sends one summary when the hour is over.
func TestSixtyAnHour(t *testing.T) {
	store := opened(t)
	a := &rulebook.Alert{Name: "a", Tell: desk}
	nodes := []*raise.Raiser{node(store), node(store)}
	var wg sync.WaitGroup
	for i := range 200 {
		wg.Go(func() {
			if err := nodes[i%2].Raise(t.Context(), store.now(), []*raise.Raised{raised(a, fmt.Sprint("u", i%3), "pay")}); err != nil {
				t.Error(err)
			}
		})
	}
	wg.Wait()
	require.Len(t, said(t, store), 60)
	look := func() {
		for _, n := range nodes {
			require.NoError(t, n.Look(t.Context(), []*rulebook.Alert{a}))
		}
	}
	look()
	require.Empty(t, said(t, store), "not before the hour is over")
	store.later.Add(int64(time.Hour))
	look()
	summary := said(t, store)
	require.Len(t, summary, 1)
	require.Contains(t, summary[0], "140 of [u")
	look()
	require.Empty(t, said(t, store))
}

// TestNothingIsForgotten keeps counting while the state cannot be written to, and says so to whoever waits.
func TestNothingIsForgotten(t *testing.T) {
	store := opened(t)
	a := &rulebook.Alert{Name: "a", Most: 1, Every: time.Hour, Tell: desk}
	n := node(store)
	one := func() error { return n.Raise(t.Context(), store.now(), []*raise.Raised{raised(a, "ann", "pay")}) }
	require.NoError(t, one())
	require.NoError(t, one(), "held back")
	store.broken.Store(true)
	require.ErrorContains(t, n.Look(t.Context(), []*rulebook.Alert{a}), "the disk is full")
	require.NoError(t, one(), "held back")
	store.later.Add(int64(time.Hour))
	require.ErrorContains(t, one(), "the disk is full")
	store.broken.Store(false)
	said(t, store)
	require.NoError(t, one())
	require.Equal(t, []string{"ann pay 2"}, said(t, store))
}
