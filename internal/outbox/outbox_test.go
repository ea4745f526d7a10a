package outbox_test

import (
	"context"
	"errors"
	"log/slog"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"briskwarden.example/briskwarden/internal/outbox"
	"briskwarden.example/briskwarden/service/state"
	"briskwarden.example/briskwarden/store/sqlite"
)

// post is what several senders of one store deliver to.
type post struct {
	mu    sync.Mutex
	tries []string
	fail  func(n int, m *outbox.Message) error
}

func (p *post) deliver(_ context.Context, m *outbox.Message) error {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.tries = append(p.tries, m.ID)
	return p.fail(len(p.tries), m)
}

func (p *post) count() int {
	p.mu.Lock()
	defer p.mu.Unlock()
	return len(p.tries)
}

// sender is a running sender, which is stopped when the test ends, or before.
func (p *post) sender(t *testing.T, store state.Store, now func() time.Time) (s *outbox.Sender, stop func()) {
	s = &outbox.Sender{Store: store, Deliver: p.deliver, Pause: func(int) time.Duration { return 20 * time.Millisecond }, Left: 300 * time.Millisecond,
		Log: slog.New(slog.DiscardHandler), Now: now}
	ctx, cancel := context.WithCancel(t.Context())
	done := make(chan struct{})
	go func() {
		s.Run(ctx)
		close(done)
	}()
	stop = func() {
		cancel()
		<-done
	}
	t.Cleanup(stop)
	time.Sleep(50 * time.Millisecond) // for it to look through the store
	return s, stop
}

func put(t *testing.T, store state.Store, s *outbox.Sender, created time.Time) *outbox.Message {
	m := s.New("https://hooks.skerry.example/x", "", "alert a", created, outbox.Content{Subject: "s", Type: "alert", Data: []byte("{}")})
	c, err := m.Change(0)
	require.NoError(t, err)
	require.NoError(t, store.Write(t.Context(), []state.Change{c})[0])
	s.Added(m)
	return m
}

func all(t *testing.T, store state.Store) (list []*outbox.Message) {
	for m, err := range outbox.All(t.Context(), store) {
		require.NoError(t, err)
		list = append(list, m)
	}
	return list
}

func opened(t *testing.T) state.Store {
	store, err := sqlite.Open(filepath.Join(t.TempDir(), "brisk.state"))
	require.NoError(t, err)
	t.Cleanup(func() { store.Close() })
	return store
}

func eventually(t *testing.T, what func() bool) {
	t.Helper()
	require.Eventually(t, what, 10*time.Second, 10*time.Millisecond)
}

// TestGivenUp tries for three days, keeps what was given up, and tries it no more.
func TestGivenUp(t *testing.T) {
	store, p := opened(t), &post{fail: func(int, *outbox.Message) error { return errors.New("nobody is there") }}
	s, stop := p.sender(t, store, time.Now)
	put(t, store, s, time.Now().Add(-outbox.GiveUpAfter+500*time.Millisecond))
	eventually(t, func() bool { return len(all(t, store)) == 1 && !all(t, store)[0].Failed.IsZero() })
	m := all(t, store)[0]
	require.Greater(t, m.Tries, 2)
	require.Equal(t, "nobody is there", m.Why)
	tries := p.count()
	stop()
	_, _ = p.sender(t, store, time.Now)
	time.Sleep(500 * time.Millisecond)
	require.Equal(t, tries, p.count())
	n, err := store.Sweep(t.Context(), m.Failed.Add(outbox.FailedFor-time.Second), 10)
	require.NoError(t, err)
	require.Zero(t, n)
	n, err = store.Sweep(t.Context(), m.Failed.Add(outbox.FailedFor+time.Second), 10)
	require.NoError(t, err)
	require.Equal(t, 1, n)
}

// TestTakenOver: what a process leaves behind, others send after a while, and one of them alone.
func TestTakenOver(t *testing.T) {
	store, p := opened(t), &post{fail: func(int, *outbox.Message) error { return errors.New("not yet") }}
	s, stop := p.sender(t, store, time.Now)
	m := put(t, store, s, time.Now())
	eventually(t, func() bool { return p.count() > 1 })
	stop()
	p.mu.Lock()
	p.tries, p.fail = nil, func(int, *outbox.Message) error { return nil }
	p.mu.Unlock()
	for range 3 {
		p.sender(t, store, time.Now)
	}
	eventually(t, func() bool { return len(all(t, store)) == 0 })
	require.Equal(t, []string{m.ID}, p.tries)
}

// TestOwnMessagesAreLeft: while a process tries its own message, no other does.
func TestOwnMessagesAreLeft(t *testing.T) {
	store, p := opened(t), &post{fail: func(n int, _ *outbox.Message) error {
		if n < 20 {
			return errors.New("not yet")
		}
		return nil
	}}
	other := &post{fail: func(int, *outbox.Message) error { return nil }}
	s, _ := p.sender(t, store, time.Now)
	put(t, store, s, time.Now())
	other.sender(t, store, time.Now)
	eventually(t, func() bool { return len(all(t, store)) == 0 })
	require.Zero(t, other.count())
	require.Equal(t, 20, p.count())
}

func TestPausesGrow(t *testing.T) {
	for tries, most := range map[int]time.Duration{1: 5 * time.Second, 2: 10 * time.Second, 5: 80 * time.Second, 12: time.Hour, 1000: time.Hour} {
		p := outbox.Pause(tries)
		require.LessOrEqual(t, p, most)
		require.GreaterOrEqual(t, p, most*3/4)
	}
}
