package service

// Messages that wait to be sent, for those who only look.

import (
	"context"
	"iter"
	"time"

	"briskwarden.example/briskwarden/internal/outbox"
	"briskwarden.example/briskwarden/service/state"
)

// Message is an alert or a digest in the outbox.
type Message struct {
	ID      string    `json:"id"`
	To      string    `json:"to"`
	About   string    `json:"about"` // what sends it, such as "alert from-a-relay"
	Subject string    `json:"subject"`
	Created time.Time `json:"created"`
	Tries   int       `json:"tries"`        // that failed
	Why     string    `json:"why"`          // the last one did
	Due     time.Time `json:"due,omitzero"` // when it is tried next
	Failed  time.Time `json:"failed,omitzero"`
}

// Messages gives what the outbox of a store has: what waits, and for 30 days what was given up after three days. They
// come by receiver, the oldest first.
func Messages(ctx context.Context, store state.Store) iter.Seq2[Message, error] {
	return func(yield func(Message, error) bool) {
		for m, err := range outbox.All(ctx, store) {
			if err != nil {
				yield(Message{}, err)
				return
			}
			told := Message{m.ID, m.To, m.About, m.Subject, m.Created, m.Tries, m.Why, m.Due, m.Failed}
			if !m.Failed.IsZero() {
				told.Due = time.Time{}
			}
			if !yield(told, nil) {
				return
			}
		}
	}
}

// Messages gives what the outbox has: see the function [Messages].
func (b *Beside) Messages(ctx context.Context) iter.Seq2[Message, error] {
	return Messages(ctx, b.store)
}
