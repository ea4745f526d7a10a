package sqlite

// The number of the last change, for many at once: those who ask while it is being read are answered by the next
// reading, which begins after they asked.

import (
	"context"
	"runtime"
	"sync"
)

// number is what is asked for and not answered yet.
type number struct {
	mu      sync.Mutex
	waiting []chan numbered
	reading bool
}

type numbered struct {
	last int64
	err  error
}

// last is the number of the last change.
func (s *Store) last(ctx context.Context) (int64, error) {
	if err := ctx.Err(); err != nil {
		return 0, err
	}
	answer := make(chan numbered, 1)
	s.number.mu.Lock()
	s.number.waiting = append(s.number.waiting, answer)
	begin := !s.number.reading
	s.number.reading = true
	s.number.mu.Unlock()
	if begin {
		go s.readNumbers()
	}
	select {
	case n := <-answer:
		return n.last, n.err
	case <-ctx.Done():
		return 0, ctx.Err()
	}
}

// readNumbers answers those who wait, until nobody does.
func (s *Store) readNumbers() {
	var spare []chan numbered
	for {
		runtime.Gosched() // who is about to ask is answered too
		s.number.mu.Lock()
		asked := s.number.waiting
		s.number.waiting = spare[:0]
		if len(asked) == 0 {
			s.number.reading = false
			s.number.mu.Unlock()
			return
		}
		s.number.mu.Unlock()
		n := s.readNumber()
		for _, answer := range asked {
			answer <- n
		}
		spare = asked
	}
}

func (s *Store) readNumber() (n numbered) {
	ctx, cancel := context.WithTimeout(context.Background(), patience)
	defer cancel()
	s.mu.Lock()
	if s.lastRead == nil {
		s.lastRead, n.err = s.db.PrepareContext(ctx, "SELECT last FROM versions")
	}
	read := s.lastRead
	s.mu.Unlock()
	if n.err == nil {
		n.err = read.QueryRowContext(ctx).Scan(&n.last)
	}
	return n
}
