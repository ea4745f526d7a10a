package provision

// Groups and who is in them.

import (
	"context"
	"slices"
	"time"

	"github.com/go-json-experiment/json/jsontext"

	"briskwarden.example/briskwarden/service/state"
)

// CreateGroup keeps a new group with its members.
func (d *Directory) CreateGroup(ctx context.Context, rules *Rules, r Resource, now time.Time) (*Found, error) {
	name := r["displayName"].(string)
	if err := checkName("displayName", name); err != nil {
		return nil, err
	}
	if err := rules.group(name); err != nil {
		return nil, err
	}
	id, members := newID(), membersOf(r)
	err := update(ctx, d.Store, func(tx *transaction) error {
		if err := tx.unused(groupNameKey(name), "displayName: there is a Group "+name+" already"); err != nil {
			return err
		}
		k := &kept{Resource: withoutMembers(r), Created: now, Modified: now}
		if err := tx.putAll(map[state.Key]any{Groups.key(id): k, groupNameKey(name): nameOwner{id}}); err != nil {
			return err
		}
		return tx.join(Membership{id, name}, members)
	})
	if err != nil {
		return nil, err
	}
	return d.Get(ctx, Groups, id, true)
}

// membersOf are the ids of the members that a resource states, each once.
func membersOf(r Resource) (ids []string) {
	list, _ := r["members"].([]any)
	seen := make(map[string]bool, len(list))
	for _, v := range list {
		if id, is := v.(Resource)["value"].(string); is && !seen[id] {
			seen[id] = true
			ids = append(ids, id)
		}
	}
	return ids
}

func withoutMembers(r Resource) Resource {
	kept := make(Resource, len(r))
	for name, value := range r {
		if name != "members" {
			kept[name] = value
		}
	}
	return kept
}

// join puts members into a group: users by what decisions know of them, groups by the nesting of all groups.
func (t *transaction) join(group Membership, ids []string) error {
	return t.each(group, ids, func(id string, k *kept, isGroup bool) error {
		if isGroup {
			name := k.Resource["displayName"].(string)
			if err := t.nest(group.Name, name, true); err != nil {
				return err
			}
			// Written once more, so that who deletes it meanwhile is told.
			return t.putAll(map[state.Key]any{memberKey(group.ID, id): member{"Group", name}, Groups.key(id): k})
		}
		if err := t.change(k.User, func(p *Person) {
			if !slices.Contains(p.Groups, group) {
				p.Groups = append(p.Groups, group)
			}
		}); err != nil {
			return err
		}
		return t.put(memberKey(group.ID, id), member{"User", k.User})
	})
}

// leave takes members out of a group; those that are not in it stay as they are.
func (t *transaction) leave(group Membership, ids []string) error {
	return t.each(group, ids, func(id string, k *kept, isGroup bool) error {
		if isGroup {
			if err := t.nest(group.Name, k.Resource["displayName"].(string), false); err != nil {
				return err
			}
		} else if err := t.change(k.User, func(p *Person) {
			p.Groups = slices.DeleteFunc(p.Groups, func(m Membership) bool { return m.ID == group.ID })
		}); err != nil {
			return err
		}
		return t.put(memberKey(group.ID, id), nil)
	})
}

// each finds the resources of members, all by one reading of each kind of item.
func (t *transaction) each(group Membership, ids []string, do func(id string, k *kept, isGroup bool) error) error {
	var keys []state.Key
	for _, id := range ids {
		keys = append(keys, Users.key(id), Groups.key(id), memberKey(group.ID, id))
	}
	if err := t.load(keys...); err != nil {
		return err
	}
	found := make([]*kept, len(ids))
	isGroup := make([]bool, len(ids))
	keys = keys[:0]
	for i, id := range ids {
		var user, inner kept
		isUser, err := t.get(Users.key(id), &user)
		if err == nil && !isUser {
			isGroup[i], err = t.get(Groups.key(id), &inner)
		}
		switch {
		case err != nil:
			return err
		case isUser:
			found[i] = &user
			keys = append(keys, personKey(user.User))
		case isGroup[i] && id == group.ID:
			return invalid("invalidValue", "members: a group is no member of itself")
		case isGroup[i]:
			inner.Resource = revive(inner.Resource).(Resource)
			found[i] = &inner
		default:
			return invalid("invalidValue", "members: there is no User or Group %s", id)
		}
	}
	if err := t.load(keys...); err != nil {
		return err
	}
	for i, id := range ids {
		if err := do(id, found[i], isGroup[i]); err != nil {
			return err
		}
	}
	return nil
}

// change changes what decisions know of a user.
func (t *transaction) change(user string, change func(*Person)) error {
	var p Person
	if _, err := t.get(personKey(user), &p); err != nil {
		return err
	}
	change(&p)
	return t.put(personKey(user), &p)
}

// Everybody is what concerns all users.
type Everybody struct {
	Voided  time.Time `json:"voided,omitzero"`    // sessions begun and proofs given by then are void
	VoidedN int64     `json:"voided_n,omitempty"` // the same, in the order of the state; 0 is unknown
	Nesting Nesting   `json:"nesting,omitempty"`

	Rest jsontext.Value `json:",embed"` // what this version does not know
}

var everybodyKey = state.Key{Kind: state.Service}

// everybody reads what concerns all users.
func (t *transaction) everybody() (*Everybody, error) {
	var all Everybody
	_, err := t.get(everybodyKey, &all)
	return &all, err
}

// nest puts a group into another, or takes it out.
func (t *transaction) nest(outer, inner string, in bool) error {
	all, err := t.everybody()
	if err != nil {
		return err
	}
	if all.Nesting == nil {
		all.Nesting = Nesting{}
	}
	list := slices.DeleteFunc(all.Nesting[inner], func(name string) bool { return name == outer })
	if in {
		list = append(list, outer)
	}
	all.Nesting[inner] = list
	if len(list) == 0 {
		delete(all.Nesting, inner)
	}
	return t.put(everybodyKey, all)
}

// ChangeGroup changes a group by what change makes of it, its members included.
func (d *Directory) ChangeGroup(ctx context.Context, rules *Rules, id string, match Precondition, now time.Time, change func(Resource) (Resource, *Error)) (*Found, error) {
	err := update(ctx, d.Store, func(tx *transaction) error {
		k, version, err := tx.read(Groups, id)
		if err != nil {
			return err
		}
		if err := match.check(version); err != nil {
			return err
		}
		var before []string
		whole := clone(k.Resource).(Resource)
		var list []any
		for m, err := range d.members(ctx, id) {
			if err != nil {
				return err
			}
			before = append(before, m.ID)
			list = append(list, Resource{"value": m.ID, "type": m.Type})
		}
		if len(list) > 0 {
			whole["members"] = list
		}
		changed, wrong := change(whole)
		if wrong != nil {
			return wrong
		}
		return tx.regroup(rules, id, k, changed, before, now)
	})
	if err != nil {
		return nil, err
	}
	return d.Get(ctx, Groups, id, true)
}

// regroup keeps a changed group, and changes whom it concerns.
func (t *transaction) regroup(rules *Rules, id string, k *kept, changed Resource, before []string, now time.Time) error {
	name, old := changed["displayName"].(string), k.Resource["displayName"].(string)
	if err := checkName("displayName", name); err != nil {
		return err
	}
	after := membersOf(changed)
	gone, come := missing(before, after), missing(after, before)
	if name != old {
		if err := rules.group(name); err != nil {
			return err
		}
		gone, come = before, after
		if err := t.unused(groupNameKey(name), "displayName: there is a Group "+name+" already"); err != nil {
			return err
		}
		if err := t.putAll(map[state.Key]any{groupNameKey(old): nil, groupNameKey(name): nameOwner{id}}); err != nil {
			return err
		}
		if err := t.rename(old, name); err != nil {
			return err
		}
	}
	if err := t.leave(Membership{id, old}, gone); err != nil {
		return err
	}
	if err := t.join(Membership{id, name}, come); err != nil {
		return err
	}
	k.Resource, k.Modified = withoutMembers(changed), now
	return t.put(Groups.key(id), k)
}

// missing are those of a list that another does not have.
func missing(list, from []string) (rest []string) {
	there := make(map[string]bool, len(from))
	for _, id := range from {
		there[id] = true
	}
	for _, id := range list {
		if !there[id] {
			rest = append(rest, id)
		}
	}
	return rest
}

// rename keeps a renamed group in the groups that it is nested in.
func (t *transaction) rename(old, name string) error {
	all, err := t.everybody()
	if err != nil || all.Nesting[old] == nil {
		return err
	}
	all.Nesting[name] = all.Nesting[old]
	delete(all.Nesting, old)
	return t.put(everybodyKey, all)
}

// DeleteGroup deletes a group; nobody is in it any more.
func (d *Directory) DeleteGroup(ctx context.Context, id string, match Precondition) error {
	return update(ctx, d.Store, func(tx *transaction) error {
		k, version, err := tx.read(Groups, id)
		if err != nil {
			return err
		}
		if err := match.check(version); err != nil {
			return err
		}
		var ids []string
		for m, err := range d.members(ctx, id) {
			if err != nil {
				return err
			}
			ids = append(ids, m.ID)
		}
		name := k.Resource["displayName"].(string)
		if err := tx.leave(Membership{id, name}, ids); err != nil {
			return err
		}
		if err := tx.unnest(id, name); err != nil {
			return err
		}
		return tx.putAll(map[state.Key]any{Groups.key(id): nil, groupNameKey(name): nil})
	})
}

// unnest takes a group out of those that it is in.
func (t *transaction) unnest(id, name string) error {
	all, err := t.everybody()
	if err != nil {
		return err
	}
	for _, outer := range all.Nesting[name] {
		var h nameOwner
		if found, err := t.get(groupNameKey(outer), &h); err != nil || !found {
			return err
		}
		if err := t.put(memberKey(h.ID, id), nil); err != nil {
			return err
		}
	}
	if all.Nesting[name] == nil {
		return nil
	}
	delete(all.Nesting, name)
	return t.put(everybodyKey, all)
}
