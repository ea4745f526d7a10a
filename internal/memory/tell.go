package memory

// What a person can be told later of a decision.

import (
	"context"
	"time"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"

	"briskwarden.example/briskwarden/service/state"
)

// toldFor is how long a person can be told of a decision.
const toldFor = 7 * 24 * time.Hour

// told is a reason with its time.
type told struct {
	At     time.Time      `json:"at"`
	Reason jsontext.Value `json:"reason"`

	Rest jsontext.Value `json:",embed"` // what this version does not know
}

func toldKey(user, id string) state.Key { return state.Key{Kind: state.Told, Owner: user, ID: id} }

// Tell keeps what a user can be told of a decision, by its id, for a week.
func (m *Memory) Tell(ctx context.Context, user, id string, reason any, at time.Time) error {
	value, err := json.Marshal(reason)
	if err != nil {
		return err
	}
	return m.writer.write(ctx, []update{change(toldKey(user, id), at.Add(toldFor), func(t *told) { t.At, t.Reason = at, value })})
}

// Told finds what a user can be told of a decision.
func (m *Memory) Told(ctx context.Context, user, id string, reason any) (found bool, err error) {
	r, err := m.read(ctx, []state.Key{toldKey(user, id)})
	if err != nil || r.Items[0].Version == 0 {
		return false, err
	}
	var t told
	if err := json.Unmarshal(r.Items[0].Value, &t); err != nil {
		return false, damaged(r.keys[0], err)
	}
	if !r.At.Before(t.At.Add(toldFor)) {
		return false, nil
	}
	return true, json.Unmarshal(t.Reason, reason)
}
