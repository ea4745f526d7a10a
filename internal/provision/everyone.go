package provision

// Everybody who is provisioned, for those who go through people.

import (
	"context"
	"fmt"
	"maps"

	"github.com/go-json-experiment/json"

	"briskwarden.example/briskwarden/internal/rulebook"
	"briskwarden.example/briskwarden/service/state"
)

// Everyone makes of the people of a rulebook and of those who are provisioned one set of people, by id.
func Everyone(ctx context.Context, store state.Store, rb *rulebook.Rulebook) (map[string]*rulebook.Person, error) {
	r, err := store.Read(ctx, []state.Key{{Kind: state.Service}})
	if err != nil {
		return nil, err
	}
	var all Everybody
	if value := r.Items[0].Value; value != nil {
		if err := json.Unmarshal(value, &all); err != nil {
			return nil, fmt.Errorf("what is kept of groups cannot be read: %w", err)
		}
	}
	people := maps.Clone(rb.People)
	for l, err := range store.List(ctx, state.Key{Kind: state.Person}) {
		var p Person
		if err == nil {
			err = json.Unmarshal(l.Value, &p)
		}
		if err != nil {
			return nil, fmt.Errorf("what is kept of %q cannot be read: %w", l.Owner, err)
		}
		if joined, _ := p.Join(rb, l.Owner, all.Nesting); joined != nil {
			people[l.Owner] = joined
		}
	}
	return people, nil
}
