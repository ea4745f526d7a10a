package provision

// Finding what is kept.

import (
	"context"
	"iter"

	"github.com/go-json-experiment/json"

	"briskwarden.example/briskwarden/internal/directory"
	"briskwarden.example/briskwarden/service/state"
)

// Get finds a resource; members says whether those of a group are wanted.
func (d *Directory) Get(ctx context.Context, of *Type, id string, members bool) (*Found, error) {
	tx := &transaction{ctx: ctx, store: d.Store, items: map[state.Key]*entry{}}
	k, version, err := tx.read(of, id)
	if err != nil {
		return nil, err
	}
	return d.found(tx, of, id, version, k, members)
}

func (d *Directory) found(tx *transaction, of *Type, id string, version int64, k *kept, members bool) (*Found, error) {
	f := &Found{ID: id, Version: version, Created: k.Created, Modified: k.Modified, Resource: k.Resource}
	if of == Users {
		var p Person
		if _, err := tx.get(personKey(k.User), &p); err != nil {
			return nil, err
		}
		f.Groups = p.Groups
		return f, nil
	}
	if !members {
		return f, nil
	}
	for m, err := range d.members(tx.ctx, id) {
		if err != nil {
			return nil, err
		}
		f.Members = append(f.Members, m)
	}
	return f, nil
}

// members are those of a group, by their ids.
func (d *Directory) members(ctx context.Context, group string) iter.Seq2[Member, error] {
	return func(yield func(Member, error) bool) {
		for l, err := range d.Store.List(ctx, memberKey(group, "")) {
			if err != nil || l.Owner != group {
				if err != nil {
					yield(Member{}, err)
				}
				return
			}
			var m member
			if err := json.Unmarshal(l.Value, &m); err != nil {
				yield(Member{}, err)
				return
			}
			if !yield(Member{l.ID, m.Type, m.Display}, nil) {
				return
			}
		}
	}
}

// All gives all resources of a type, by their ids.
func (d *Directory) All(ctx context.Context, of *Type, members bool) iter.Seq2[*Found, error] {
	return func(yield func(*Found, error) bool) {
		tx := &transaction{ctx: ctx, store: d.Store}
		for l, err := range d.Store.List(ctx, state.Key{Kind: of.key("").Kind}) {
			var k kept
			if err == nil {
				err = json.Unmarshal(l.Value, &k)
			}
			if err != nil {
				yield(nil, err)
				return
			}
			k.Resource = revive(k.Resource).(Resource)
			tx.items = map[state.Key]*entry{}
			f, err := d.found(tx, of, l.Owner, l.Version, &k, members)
			if !yield(f, err) || err != nil {
				return
			}
		}
	}
}

// Named finds the user of a name, or the group, if there is one.
func (d *Directory) Named(ctx context.Context, of *Type, name string, members bool) (*Found, error) {
	tx := &transaction{ctx: ctx, store: d.Store, items: map[state.Key]*entry{}}
	key := groupNameKey(name)
	if of == Users {
		key = userNameKey(name)
	}
	var h nameOwner
	if found, err := tx.get(key, &h); err != nil || !found {
		return nil, err
	}
	return d.Get(ctx, of, h.ID, members)
}

// Known finds the id of a user whom somebody else names: as it is, else by a name that differs in its case alone.
// Found is false for one whom neither rulebook nor provisioning service knows.
func (d *Directory) Known(ctx context.Context, rules *Rules, name string) (id string, found bool, err error) {
	if rules.People[name] != nil {
		return name, true, nil
	}
	tx := &transaction{ctx: ctx, store: d.Store, items: map[state.Key]*entry{}}
	var p Person
	if found, err = tx.get(personKey(name), &p); found || err != nil {
		return name, found, err
	}
	if ids := rules.Folded[directory.Fold(name)]; len(ids) > 0 {
		return ids[0], true, nil
	}
	var h nameOwner
	if found, err = tx.get(userNameKey(name), &h); !found || err != nil {
		return "", false, err
	}
	k, _, err := tx.read(Users, h.ID)
	if err != nil {
		return "", false, err
	}
	return k.User, true, nil
}
