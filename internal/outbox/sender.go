package outbox

// Sending: a queue for each receiver, by when messages are due.

import (
	"container/heap"
	"context"
	"errors"
	"log/slog"
	"math/rand/v2"
	"sync"
	"time"

	"briskwarden.example/briskwarden/service/state"
)

// Sender delivers the messages of a store. Its fields are set before it runs.
type Sender struct {
	Store   state.Store
	Deliver func(context.Context, *Message) error
	Pause   func(tries int) time.Duration // how long to wait after so many failures
	Left    time.Duration                 // how long the messages of another process are left to it
	Log     *slog.Logger
	Now     func() time.Time
	Count   func(result string) // is told of each try: "delivered", "failed" or "given up"

	mu     sync.Mutex
	queues map[string]*queue
	known  map[state.Key]bool // in a queue
	ctx    context.Context
	work   sync.WaitGroup
}

// GiveUpAfter is how long a message is tried.
const GiveUpAfter = 3 * 24 * time.Hour

// Pause grows from 5 seconds to an hour, so that receivers that were away are not all asked at once.
func Pause(tries int) time.Duration {
	p := min(time.Hour, 5*time.Second<<min(tries-1, 20))
	return p - time.Duration(rand.Int64N(int64(p/4)))
}

// LeftAfter is how long a message is left to the process that put it into the store, which may have been stopped.
const LeftAfter = time.Minute

const (
	lookEvery = time.Minute // for messages that other nodes left behind
	tryFor    = 10 * time.Second
)

// task is a message that waits in a queue.
type task struct {
	key     state.Key
	version int64 // 0 is to be read
	due     time.Time
	ours    bool // put into the store by this process: no other one sends it
	sent    bool // and only its deletion is left
}

// queue has the tasks of a receiver.
type queue struct {
	tasks  tasks
	flying int
	wake   chan struct{}
}

type tasks []*task

func (t tasks) Len() int           { return len(t) }
func (t tasks) Less(i, j int) bool { return t[i].due.Before(t[j].due) }
func (t tasks) Swap(i, j int)      { t[i], t[j] = t[j], t[i] }
func (t *tasks) Push(x any)        { *t = append(*t, x.(*task)) }
func (t *tasks) Pop() any {
	last := (*t)[len(*t)-1]
	*t = (*t)[:len(*t)-1]
	return last
}

// Run sends what the store has and what is added, until the context ends.
func (s *Sender) Run(ctx context.Context) {
	s.mu.Lock()
	s.ctx = ctx
	s.mu.Unlock()
	s.look(ctx)
	tick := time.NewTicker(lookEvery)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			s.mu.Lock()
			s.ctx = nil // nothing more is begun
			s.mu.Unlock()
			s.work.Wait()
			return
		case <-tick.C:
			s.look(ctx)
		}
	}
}

// look queues the messages of the store that this process does not know of.
func (s *Sender) look(ctx context.Context) {
	for m, err := range All(ctx, s.Store) {
		switch {
		case err != nil && ctx.Err() == nil:
			s.Log.Error("the outbox could not be looked through", slog.Any("error", err))
			return
		case err != nil:
			return
		case m.Failed.IsZero():
			s.add(&task{key: m.key(), due: m.Due})
		}
	}
}

// Added tells the sender of messages that this process has put into the store.
func (s *Sender) Added(list ...*Message) {
	for _, m := range list {
		s.add(&task{key: m.key(), due: m.Created, ours: true})
	}
}

func (s *Sender) add(t *task) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.ctx == nil || s.ctx.Err() != nil || s.known[t.key] { // not running: the next look finds it
		return
	}
	if s.queues == nil {
		s.queues, s.known = map[string]*queue{}, map[state.Key]bool{}
	}
	s.known[t.key] = true
	q := s.queues[t.key.Owner]
	if q == nil {
		q = &queue{wake: make(chan struct{}, 1)}
		s.queues[t.key.Owner] = q
		ctx := s.ctx
		s.work.Go(func() { s.serve(ctx, t.key.Owner, q) })
	}
	heap.Push(&q.tasks, t)
	q.rouse()
}

// mostAtOnce is how many messages are on their way to one receiver at once.
const mostAtOnce = 8

// serve sends what waits for one receiver, until nothing does.
func (s *Sender) serve(ctx context.Context, to string, q *queue) {
	for ctx.Err() == nil {
		t, wait, done := s.next(to, q)
		switch {
		case done:
			return
		case t != nil:
			s.work.Go(func() { s.finished(q, t, s.try(ctx, t)) })
			continue
		}
		pause := time.NewTimer(wait)
		select {
		case <-ctx.Done():
		case <-q.wake:
		case <-pause.C:
		}
		pause.Stop()
	}
}

// next takes the task that is due, or tells how long to wait for it; done is that none is left, and the queue is gone.
func (s *Sender) next(to string, q *queue) (t *task, wait time.Duration, done bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	switch {
	case len(q.tasks) == 0 && q.flying == 0:
		delete(s.queues, to)
		return nil, 0, true
	case len(q.tasks) == 0 || q.flying == mostAtOnce:
		return nil, time.Hour, false // it is woken once one is back
	}
	if wait = q.tasks[0].due.Sub(s.Now()); wait > 0 {
		return nil, wait, false
	}
	q.flying++
	return heap.Pop(&q.tasks).(*task), 0, false
}

// finished takes a task back that was tried.
func (s *Sender) finished(q *queue, t *task, again bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	q.flying--
	if again {
		heap.Push(&q.tasks, t)
	} else {
		delete(s.known, t.key)
	}
	q.rouse()
}

func (q *queue) rouse() {
	select {
	case q.wake <- struct{}{}:
	default:
	}
}

// try tries a message once, and reports whether it is to be tried again by this process.
func (s *Sender) try(sending context.Context, t *task) (again bool) {
	ctx, cancel := context.WithTimeout(context.WithoutCancel(sending), 3*tryFor) // what was sent is noted, though the service stops
	defer cancel()
	r, err := s.Store.Read(ctx, []state.Key{t.key})
	if err != nil {
		return t.later(s.Now().Add(tryFor))
	}
	item := r.Items[0]
	if item.Version == 0 || t.version != 0 && item.Version != t.version { // sent, or another node's by now
		return false
	}
	t.version = item.Version
	if t.sent {
		return s.remove(ctx, t)
	}
	m, err := read(t.key, item.Value)
	if err != nil {
		s.Log.Error("a message cannot be sent", slog.Any("error", err))
		return false
	}
	switch {
	case !m.Failed.IsZero():
		return false
	case !t.ours && m.Due.After(s.Now()): // its own process has tried it meanwhile, and will again
		t.version = 0
		return t.later(m.Due)
	case !t.ours && !s.claim(ctx, t, m):
		return false
	}
	if err = s.deliver(sending, m); err == nil {
		s.count("delivered")
		t.sent = true
		return s.remove(ctx, t)
	}
	if sending.Err() != nil { // stopped meanwhile: the next look finds it as it was
		return false
	}
	s.failed(m, err)
	var ok bool
	if t.version, ok = s.keep(ctx, t, m); !ok || !m.Failed.IsZero() {
		return false
	}
	return t.later(m.Due.Add(-s.Left))
}

// later has a task wait.
func (t *task) later(due time.Time) bool {
	t.due = due
	return true
}

// deliver tries once; a receiver that is slow is as one that is down.
func (s *Sender) deliver(ctx context.Context, m *Message) error {
	ctx, cancel := context.WithTimeout(ctx, tryFor)
	defer cancel()
	return s.Deliver(ctx, m)
}

// claim takes a message over that another process put into the store, so that not all nodes send it.
func (s *Sender) claim(ctx context.Context, t *task, m *Message) bool {
	m.Due = s.Now().UTC().Add(s.Left)
	version, ok := s.keep(ctx, t, m)
	t.version, t.ours = version, ok
	return ok
}

// failed notes a try that failed.
func (s *Sender) failed(m *Message, why error) {
	now := s.Now().UTC()
	m.Tries++
	m.Why = why.Error()
	m.Due = now.Add(s.Pause(m.Tries) + s.Left)
	if now.Sub(m.Created) >= GiveUpAfter {
		m.Failed = now
		s.count("given up")
		s.Log.Error("a message was given up", slog.String("to", m.To), slog.String("about", m.About), slog.String("id", m.ID), slog.String("why", m.Why))
		return
	}
	s.count("failed")
	s.Log.Warn("a message could not be sent", slog.String("to", m.To), slog.String("about", m.About), slog.String("id", m.ID), slog.Int("tries", m.Tries),
		slog.String("why", m.Why))
}

func (s *Sender) count(result string) {
	if s.Count != nil {
		s.Count(result)
	}
}

// remove deletes a message that was sent, and reports whether that is to be tried again.
func (s *Sender) remove(ctx context.Context, t *task) (again bool) {
	err := s.Store.Write(ctx, []state.Change{{Key: t.key, If: t.version}})[0]
	if err == nil || errors.Is(err, state.ErrConflict) {
		return false
	}
	return t.later(s.Now().Add(tryFor))
}

// keep keeps a message as it is now, and gives its version; it reports false where another process changed it.
func (s *Sender) keep(ctx context.Context, t *task, m *Message) (version int64, ok bool) {
	c, err := m.Change(t.version)
	if err == nil {
		err = s.Store.Write(ctx, []state.Change{c})[0]
	}
	if err != nil {
		return 0, false // the next look finds it, as it was
	}
	r, err := s.Store.Read(ctx, []state.Key{t.key})
	if err != nil {
		return 0, true
	}
	return r.Items[0].Version, true
}
