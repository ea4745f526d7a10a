package provision

// Members of groups changed one by one, without reading the others.

import (
	"cmp"
	"context"
	"time"

	scim "github.com/scim2/filter-parser/v2"

	"briskwarden.example/briskwarden/service/state"
)

// Quick changes the members of a group by operations that name them one by one, without reading the others; false is
// that the operations need all of it.
func (d *Directory) Quick(ctx context.Context, id string, match Precondition, now time.Time, operations []Operation) (done bool, err error) {
	var changes []func(*transaction, Membership) error
	for i := range operations {
		change, simple, wrong := simpleChange(&operations[i])
		if wrong != nil || !simple {
			return false, asError(wrong)
		}
		changes = append(changes, change)
	}
	return true, update(ctx, d.Store, func(tx *transaction) error {
		k, version, err := tx.read(Groups, id)
		if err != nil {
			return err
		}
		if err := match.check(version); err != nil {
			return err
		}
		for _, change := range changes {
			if err := change(tx, Membership{id, k.Resource["displayName"].(string)}); err != nil {
				return err
			}
		}
		return tx.touch(id, now)
	})
}

// simpleChange is the change of an operation that adds members, or takes one out.
func simpleChange(op *Operation) (change func(*transaction, Membership) error, simple bool, err *Error) {
	if op.Path == nil || op.Path.SubAttribute != nil || named(Groups.attributes(), op.Path.AttributePath.String()) == nil ||
		named(Groups.attributes(), op.Path.AttributePath.String()).Name != "members" {
		return nil, false, nil
	}
	a := named(groupSchema.Attributes, "members")
	switch e := op.Path.ValueExpression.(type) {
	case nil:
		if op.Op == "replace" || op.Value == nil {
			return nil, false, nil
		}
		stated := op.Value
		if _, isList := stated.([]any); !isList {
			stated = []any{stated}
		}
		v, err := a.value(stated, "members")
		if err != nil {
			return nil, false, err
		}
		ids := membersOf(Resource{"members": v})
		if op.Op == "add" {
			return func(t *transaction, g Membership) error { return t.join(g, ids) }, true, nil
		}
		return func(t *transaction, g Membership) error { return t.leaveIn(g, ids) }, true, nil
	case *scim.AttributeExpression:
		f := &Filter{e, a.Subs, ""}
		if id, is := f.Lookup("value"); is && op.Op == "remove" {
			return func(t *transaction, g Membership) error {
				var m member
				if there, err := t.get(memberKey(g.ID, id), &m); err != nil || !there {
					return cmp.Or(err, error(invalid("noTarget", "%s is no member of the group", id)))
				}
				return t.leave(g, []string{id})
			}, true, nil
		}
	}
	return nil, false, nil
}

// leaveIn takes out those of some members that are in a group.
func (t *transaction) leaveIn(g Membership, ids []string) error {
	keys := make([]state.Key, len(ids))
	for i, id := range ids {
		keys[i] = memberKey(g.ID, id)
	}
	if err := t.load(keys...); err != nil {
		return err
	}
	var in []string
	for _, id := range ids {
		var m member
		there, err := t.get(memberKey(g.ID, id), &m)
		if err != nil {
			return err
		}
		if there {
			in = append(in, id)
		}
	}
	return t.leave(g, in)
}
