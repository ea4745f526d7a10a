package sqlite

// The number of the last change, read once for all who ask for it at the same time.

import (
	"context"
)

// numbered is the number, or why it cannot be read.
type numbered struct {
	last int64
	err  error
}

// last is the number of the last change, read after the call began.
func (s *Store) last(ctx context.Context) (int64, error) {
	if err := ctx.Err(); err != nil {
		return 0, err
	}
	answer := make(chan numbered, 1)
	s.number.Ask(answer)
	select {
	case n := <-answer:
		return n.last, n.err
	case <-ctx.Done():
		return 0, ctx.Err()
	}
}

// tellNumber tells the number to those who asked.
func (s *Store) tellNumber(asked []chan numbered) {
	n := s.readNumber()
	for _, answer := range asked {
		answer <- n
	}
}

func (s *Store) readNumber() (n numbered) {
	ctx, cancel := context.WithTimeout(context.Background(), patience)
	defer cancel()
	n.err = s.prepared[readLast].QueryRowContext(ctx).Scan(&n.last)
	return n
}
