package provision

// Names that are equal when folded (RFC 8265, UsernameCaseMapped): twins. Decisions compare ids exactly. What tightens reaches
// every twin, and nobody gets a clean sheet by a name in another case.

import (
	"context"
	"slices"

	"github.com/go-json-experiment/json/jsontext"

	"briskwarden.example/briskwarden/internal/directory"
	"briskwarden.example/briskwarden/service/state"
)

// formerNames are the ids that users of a folded name have had.
type formerNames struct {
	IDs []string `json:"ids"`

	Rest jsontext.Value `json:",embed"` // what this version does not know
}

// mostFormer is how many are kept.
const mostFormer = 64

func formerKey(user string) state.Key {
	return state.Key{Kind: state.FormerName, Owner: directory.Fold(user)}
}

// Twins are the other ids of the rulebook and of provisioned users, and with former those of deleted ones, that are equal to a
// name when folded.
func (d *Directory) Twins(ctx context.Context, rules *Rules, name string, former bool) ([]string, error) {
	twins := slices.Clone(rules.Folded[directory.Fold(name)])
	tx := &transaction{ctx: ctx, store: d.Store, items: map[state.Key]*entry{}}
	var h nameOwner
	found, err := tx.get(userNameKey(name), &h)
	if err != nil {
		return nil, err
	}
	if found {
		k, _, err := tx.read(Users, h.ID)
		if err != nil {
			return nil, err
		}
		twins = append(twins, k.User)
	}
	if former {
		var f formerNames
		if _, err := tx.get(formerKey(name), &f); err != nil {
			return nil, err
		}
		twins = append(twins, f.IDs...)
	}
	slices.Sort(twins)
	return slices.DeleteFunc(slices.Compact(twins), func(id string) bool { return id == name }), nil
}

// Free reports whether a new user may have a name, whose state begins anew then.
func (d *Directory) Free(ctx context.Context, rules *Rules, name string) (bool, error) {
	if len(rules.Folded[directory.Fold(name)]) > 0 {
		return false, nil
	}
	tx := &transaction{ctx: ctx, store: d.Store, items: map[state.Key]*entry{}}
	var h nameOwner
	taken, err := tx.get(userNameKey(name), &h)
	return !taken, err
}

// remember notes the id of a user who is deleted.
func (t *transaction) remember(user string) error {
	var f formerNames
	if _, err := t.get(formerKey(user), &f); err != nil {
		return err
	}
	if !slices.Contains(f.IDs, user) && len(f.IDs) < mostFormer {
		f.IDs = append(f.IDs, user)
	}
	return t.put(formerKey(user), &f)
}
