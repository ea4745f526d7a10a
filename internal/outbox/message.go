// Package outbox keeps messages for people in the state until they are delivered: every one at least once, by mail or
// webhook, whoever of several nodes is stopped meanwhile. A receiver that is slow or down holds up nobody else.
package outbox

import (
	"context"
	"fmt"
	"iter"
	"time"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"
	"github.com/google/uuid"

	"briskwarden.example/briskwarden/service/state"
)

// Message is a message to one receiver. Its id tells repeats from others.
type Message struct {
	ID       string    `json:"-"`
	To       string    `json:"-"`                  // mailto: or https:
	SecretIn string    `json:"secret_in,omitzero"` // the variable of the environment with the secret that signs it
	About    string    `json:"about"`              // what sends it, such as "alert from-a-relay"
	Created  time.Time `json:"created"`
	Content

	Due    time.Time `json:"due"`             // when whoever finds it is to try it: its own process does so before
	Tries  int       `json:"tries,omitzero"`  // that failed
	Why    string    `json:"why,omitzero"`    // the last one did
	Failed time.Time `json:"failed,omitzero"` // when it was given up

	Rest jsontext.Value `json:",embed"` // what this version does not know
}

// Content is what a message says: to those who read mail, and to programs.
type Content struct {
	Subject string         `json:"subject"` // one line
	Text    string         `json:"text"`
	HTML    string         `json:"html,omitzero"`
	Type    string         `json:"type"` // of Data, such as "alert"
	Data    jsontext.Value `json:"data"`
}

// New is a message that this process will send once it is told that it was added.
func (s *Sender) New(to, secretIn, about string, now time.Time, c Content) *Message {
	id := uuid.Must(uuid.NewV7()) // fails only where the machine has no random numbers
	return &Message{ID: "msg_" + id.String(), To: to, SecretIn: secretIn, About: about, Created: now.UTC(), Due: now.UTC().Add(s.Left), Content: c}
}

func (m *Message) key() state.Key { return state.Key{Kind: state.Outgoing, Owner: m.To, ID: m.ID} }

// FailedFor is how long a message that was given up is kept.
const FailedFor = 30 * 24 * time.Hour

// Change keeps the message in place of a version of it; 0 is none.
func (m *Message) Change(version int64) (state.Change, error) {
	value, err := json.Marshal(m)
	c := state.Change{Key: m.key(), If: version, Value: value}
	if !m.Failed.IsZero() {
		c.Expires = m.Failed.Add(FailedFor)
	}
	return c, err
}

func read(key state.Key, value []byte) (*Message, error) {
	m := &Message{ID: key.ID, To: key.Owner}
	if err := json.Unmarshal(value, m); err != nil {
		return nil, fmt.Errorf("the message %s to %q cannot be read: %w", key.ID, key.Owner, err)
	}
	return m, nil
}

// All gives the messages of a store that wait, and those that were given up, by receiver and the time at which they
// were made.
func All(ctx context.Context, store state.Store) iter.Seq2[*Message, error] {
	return func(yield func(*Message, error) bool) {
		for l, err := range store.List(ctx, state.Key{Kind: state.Outgoing}) {
			var m *Message
			if err == nil {
				m, err = read(l.Key, l.Value)
			}
			if !yield(m, err) || err != nil {
				return
			}
		}
	}
}
