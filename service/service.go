// Package service answers over HTTP what a rulebook decides, by the OpenID AuthZEN Authorization API 1.0, and remembers
// what decisions rest on: sessions, proofs, the past, provisioned people and consents.
//
//	store, err := sqlite.Open("brisk.state")
//	…
//	s := service.New(rules, store, service.Options{})
//	defer s.Close()
//	http.ListenAndServeTLS(":7575", "cert.pem", "key.pem", s)
//
// Who may ask stands in the rulebook, as callers. Whatever goes wrong, the answer is a block.
package service

import (
	"context"
	"log/slog"
	"net/http"
	"runtime"
	"sync"
	"sync/atomic"
	"time"

	"briskwarden.example/briskwarden"
	"briskwarden.example/briskwarden/consent"
	"briskwarden.example/briskwarden/internal/allowance"
	"briskwarden.example/briskwarden/internal/bridge"
	"briskwarden.example/briskwarden/internal/engine"
	"briskwarden.example/briskwarden/internal/fastlog"
	"briskwarden.example/briskwarden/internal/memory"
	"briskwarden.example/briskwarden/internal/outbox"
	"briskwarden.example/briskwarden/internal/provision"
	"briskwarden.example/briskwarden/internal/raise"
	"briskwarden.example/briskwarden/service/state"
)

// Rules gives the rulebook that decides: a [*briskwarden.Rulebook] always gives itself, a [*briskwarden.Live] the one
// that it holds at the time.
type Rules = consent.Rules

// Options say how a service answers.
type Options struct {
	// Open lets whoever reaches the service ask everything, without proof of who it is: for trying it out. Requests
	// must come from this machine, to a Host that is this machine.
	Open bool
	// BehindProxy says that connections come from a proxy, so that their address tells nothing: callers of the
	// rulebook with "from" are let in nowhere.
	BehindProxy bool
	// Clock is the clock of this process, which must not be far from that of the store. Nil is time.Now.
	Clock func() time.Time
	// URL is the address of the service, from which metadata and links are built, such as "https://brisk.skerry.example".
	URL string
	// Log is told what somebody should look at; never with a token, a proof or a whole request; of one kind at most once a
	// second, with the number of those that were not told. Nil is not to log.
	Log *slog.Logger
	// SignOns, if there is one, is given every decision, as a line of a sign-on log, before the answer is: see [OpenLog].
	SignOns *Log
	// Folder is that of the rulebook: where it lies in a version control, digests tell of its commits. It may be empty.
	Folder string
	// Mail says how alerts and digests for mailboxes are sent; the zero Mail is not to.
	Mail Mail
}

// Service is the decision service. It is an [http.Handler], safe for concurrent use.
type Service struct {
	Options
	rules  Rules
	store  state.Store
	memory *memory.Memory
	routes *http.ServeMux

	readers chan *fastlog.Reader // of requests, each with what it has learned of their shapes

	quotas   quotas
	told     *allowance.Each // of whom it is kept why they were not let in
	inFlight atomic.Int64
	callers  atomic.Pointer[callers]
	keys     *keyring
	metrics  *metrics
	stale    atomic.Pointer[staleness]
	folded   atomic.Pointer[provision.Rules]
	raiser   *raise.Raiser
	sender   *outbox.Sender
	carrier  *outbox.Carrier

	certificateEnds atomic.Pointer[time.Time]

	unwatched atomic.Pointer[string] // why the rulebook's folder cannot be watched; nil is that it can, or need not be

	closing context.Context
	stop    context.CancelFunc
	stopped sync.WaitGroup
}

// New returns a service that decides by rules and remembers in a store, which the caller closes after the service.
func New(rules Rules, store state.Store, o Options) *Service {
	if o.Log == nil {
		o.Log = slog.New(slog.DiscardHandler)
	}
	if o.Clock == nil {
		o.Clock = time.Now
	}
	o.Log = slog.New(newComplaints(o.Log.Handler()))
	ctx, stop := context.WithCancel(context.Background())
	s := &Service{Options: o, rules: rules, store: store, memory: memory.New(store, o.Log, o.Clock), closing: ctx, stop: stop}
	s.told = allowance.NewEach(reasonsAtOnce, reasonEach)
	s.metrics = newMetrics(s)
	s.keys = &keyring{client: newClient(10 * time.Second), now: o.Clock, log: o.Log}
	s.readers = make(chan *fastlog.Reader, 2*runtime.GOMAXPROCS(0))
	for range cap(s.readers) {
		s.readers <- &fastlog.Reader{}
	}
	s.routes = s.newRoutes()
	s.newOutbox()
	s.stopped.Go(func() { s.sweep(ctx) })
	s.stopped.Go(func() { s.pollAll(ctx) })
	s.stopped.Go(func() { s.watch(ctx) })
	s.stopped.Go(func() { s.digests(ctx) })
	return s
}

// Restored tells the service that its state was brought back from a backup, which may have forgotten that sessions
// were ended: it ends all sessions, and makes all proofs void.
func (s *Service) Restored(ctx context.Context) error { return s.memory.EndAll(ctx) }

// NobodyMayAsk reports whether the rulebook held now has no caller, and the service is not open.
func (s *Service) NobodyMayAsk() bool { return !s.Open && len(s.engine().Rulebook().Callers) == 0 }

// Close finishes what is to be remembered. Nothing may be asked any more.
func (s *Service) Close() error {
	s.stop()
	s.stopped.Wait()
	s.keys.work.Wait()
	s.memory.Close()
	return nil
}

// engine is that of the rulebook held now.
func (s *Service) engine() *engine.Engine { return bridge.Engine(s.rules.Rulebook()) }

// sweepEvery is how often what is kept no longer is deleted.
const sweepEvery = time.Hour

func (s *Service) sweep(ctx context.Context) {
	tick := time.NewTicker(sweepEvery)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
			if _, err := s.memory.Sweep(ctx); err != nil && ctx.Err() == nil {
				s.metrics.stateErrors.Inc()
				s.Log.Error("what is kept no longer was not deleted", slog.Any("error", err))
			}
		}
	}
}

// staleness says since when the rulebook could not be renewed, and why.
type staleness struct {
	since time.Time
	why   string
}

// Reloaded tells the service how renewing its rulebook went, for metrics and readiness: give it to
// [briskwarden.WithReloads].
func (s *Service) Reloaded(_ *briskwarden.Rulebook, err error) {
	switch before := s.stale.Load(); {
	case err == nil:
		s.stale.Store(nil)
		s.metrics.loaded.SetToCurrentTime()
	case before != nil:
		s.stale.Store(&staleness{before.since, err.Error()})
	default:
		s.stale.Store(&staleness{time.Now(), err.Error()})
	}
}
