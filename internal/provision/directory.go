package provision

// Users and groups as they are kept, and changed.

import (
	"cmp"
	"context"
	"crypto/rand"
	"encoding/hex"
	"slices"
	"strings"
	"time"

	"github.com/go-json-experiment/json/jsontext"

	"briskwarden.example/briskwarden/internal/directory"
	"briskwarden.example/briskwarden/internal/rulebook"
	"briskwarden.example/briskwarden/service/state"
)

// Directory keeps what provisioning services state. It is safe for concurrent use, by several processes too.
type Directory struct {
	Store state.Store
}

// kept is a resource as it is kept; of a group the members stand by themselves.
type kept struct {
	Resource Resource  `json:"resource"`
	Created  time.Time `json:"created"`
	Modified time.Time `json:"modified"`
	User     string    `json:"user,omitempty"` // the id of a user in decisions: its name as it was first written

	Rest jsontext.Value `json:",embed"` // what this version does not know
}

// Found is a resource with what the service knows of it.
type Found struct {
	ID       string
	Version  int64
	Created  time.Time
	Modified time.Time
	Resource Resource
	Groups   []Membership // of a user: those it is directly in
	Members  []Member     // of a group
}

// Member is a member of a group.
type Member struct {
	ID      string
	Type    string // User or Group
	Display string
}

// member is how it is kept.
type member struct {
	Type    string `json:"type"`
	Display string `json:"display"`
}

func (t *Type) key(id string) state.Key {
	if t == Users {
		return state.Key{Kind: state.User, Owner: id}
	}
	return state.Key{Kind: state.Group, Owner: id}
}

func personKey(user string) state.Key { return state.Key{Kind: state.Person, Owner: user} }
func memberKey(group, id string) state.Key {
	return state.Key{Kind: state.Member, Owner: group, ID: id}
}
func userNameKey(name string) state.Key {
	return state.Key{Kind: state.UserName, Owner: directory.Fold(name)}
}
func groupNameKey(name string) state.Key { return state.Key{Kind: state.GroupName, Owner: name} }

// nameOwner says which resource has a name.
type nameOwner struct {
	ID string `json:"id"`
}

// newID is an id that nobody can foresee.
func newID() string {
	var b [16]byte
	_, _ = rand.Read(b[:]) // never fails
	return hex.EncodeToString(b[:])
}

func notFound(t *Type, id string) *Error {
	return &Error{404, "", "there is no " + t.Name + " " + id}
}

// Precondition is the version that a resource must have to be changed; zero is any.
type Precondition int64

func (p Precondition) check(version int64) error {
	if p != 0 && int64(p) != version {
		return &Error{412, "", "the resource has changed meanwhile"}
	}
	return nil
}

// revive makes what was read of JSON resources again.
func revive(v any) any {
	switch v := v.(type) {
	case map[string]any:
		r := make(Resource, len(v))
		for name, value := range v {
			r[name] = revive(value)
		}
		return r
	case Resource:
		return revive(map[string]any(v))
	case []any:
		for i := range v {
			v[i] = revive(v[i])
		}
	}
	return v
}

// read reads a kept resource.
func (t *transaction) read(of *Type, id string) (*kept, int64, error) {
	var k kept
	found, err := t.get(of.key(id), &k)
	switch {
	case err != nil:
		return nil, 0, err
	case !found:
		return nil, 0, notFound(of, id)
	}
	k.Resource = revive(k.Resource).(Resource)
	return &k, t.items[of.key(id)].version, nil
}

// Rules are the rulebook's word on people, beside which provisioning services state theirs.
type Rules struct {
	*rulebook.Rulebook
	Folded map[string][]string // ids of its people by those folded
	Groups map[string]string   // names of its groups by those folded
}

// NewRules prepares the rulebook's word on people.
func NewRules(rb *rulebook.Rulebook) *Rules {
	r := &Rules{rb, make(map[string][]string, len(rb.People)), map[string]string{}}
	for id := range rb.People {
		r.Folded[directory.Fold(id)] = append(r.Folded[directory.Fold(id)], id)
	}
	for _, ids := range r.Folded {
		slices.Sort(ids)
	}
	for _, name := range rb.Groups.Names() {
		r.Groups[directory.Fold(name)] = name
	}
	return r
}

// user is the user's id in decisions: that of the rulebook, if it is the same but for its case, is not taken for another.
func (r *Rules) user(name string) *Error {
	ids := r.Folded[directory.Fold(name)]
	for _, id := range ids {
		if r.People[id].BreakGlass {
			return &Error{403, "", "an emergency account is what the rulebook says, and out of reach of provisioning"}
		}
	}
	if len(ids) > 0 && !slices.Contains(ids, name) {
		return &Error{409, "uniqueness", "userName: the rulebook has the user " + ids[0] + ": names are unique whatever their case, and policies know this one"}
	}
	return nil
}

// group refuses a name that differs in its case alone from a group of the rulebook, which policies know.
func (r *Rules) group(name string) *Error {
	if known, ok := r.Groups[directory.Fold(name)]; ok && known != name {
		if _, exact := r.Rulebook.Groups.Lookup(name); !exact {
			return &Error{409, "uniqueness", "displayName: the rulebook has the group " + known + ": names are unique whatever their case, and policies know this one"}
		}
	}
	return nil
}

// person makes of a resource what decisions need, and checks it beside the rulebook's word.
func (r *Rules) person(id string, k *kept) (*Person, *Error) {
	p, err := personOf(k)
	if err != nil {
		return nil, err
	}
	p.Resource = id
	stated, wrong := r.Stated(p.user(r.Rulebook, k.User))
	if wrong != nil {
		return nil, invalid("invalidValue", "%v", wrong)
	}
	if err := r.methods(p.Methods); err != nil {
		return nil, err
	}
	if own := r.People[k.User]; own != nil {
		stated.Joined = time.Time{}
		if _, differs := r.Join(own, stated, nil); differs != nil {
			return nil, &Error{409, "", "the rulebook says otherwise: " + differs.Error()}
		}
	}
	return p, nil
}

func (r *Rules) methods(names []string) *Error {
	for _, name := range names {
		if _, ok := r.Methods.Lookup(name); !ok {
			return invalid("invalidValue", "%s:methods: there is no method %q%s", SignOnSchema, name, hintOf(name, r.Methods.Names()))
		}
	}
	return nil
}

// CreateUser keeps a new user.
func (d *Directory) CreateUser(ctx context.Context, rules *Rules, r Resource, now time.Time) (*Found, error) {
	name := r["userName"].(string)
	if err := checkName("userName", name); err != nil {
		return nil, err
	}
	if err := rules.user(name); err != nil {
		return nil, err
	}
	id := newID()
	k := &kept{Resource: r, Created: now, Modified: now, User: name}
	p, wrong := rules.person(id, k)
	if wrong != nil {
		return nil, wrong
	}
	err := update(ctx, d.Store, func(tx *transaction) error {
		if err := tx.unused(userNameKey(name), "userName: there is a User "+name+" already, whatever the case"); err != nil {
			return err
		}
		return tx.putAll(map[state.Key]any{Users.key(id): k, userNameKey(name): nameOwner{id}, personKey(name): p})
	})
	if err != nil {
		return nil, err
	}
	return d.Get(ctx, Users, id, false)
}

// unused refuses a name that a resource has already.
func (t *transaction) unused(name state.Key, taken string) error {
	var h nameOwner
	switch held, err := t.get(name, &h); {
	case err != nil:
		return err
	case held:
		return &Error{409, "uniqueness", taken}
	}
	return nil
}

func (t *transaction) putAll(items map[state.Key]any) error {
	for key, value := range items {
		if err := t.put(key, value); err != nil {
			return err
		}
	}
	return nil
}

// mostName is how long a name may be that decisions know, in bytes.
const mostName = 512

// checkName reports a name that cannot be one.
func checkName(what, name string) *Error {
	switch {
	case len(name) > mostName:
		return invalid("invalidValue", "%s is longer than %d bytes", what, mostName)
	case strings.TrimSpace(name) != name:
		return invalid("invalidValue", "%s: %q has blanks at its ends", what, name)
	}
	return nil
}

// ChangeUser changes a user by what change makes of it.
func (d *Directory) ChangeUser(ctx context.Context, rules *Rules, id string, match Precondition, now time.Time, change func(Resource) (Resource, *Error)) (*Found, error) {
	err := update(ctx, d.Store, func(tx *transaction) error {
		k, version, err := tx.read(Users, id)
		if err != nil {
			return err
		}
		if err := cmp.Or(match.check(version), asError(rules.user(k.User))); err != nil {
			return err
		}
		changed, wrong := change(k.Resource)
		if wrong != nil {
			return wrong
		}
		if name := changed["userName"].(string); !strings.EqualFold(name, k.User) {
			return invalid("mutability", "userName: %s stays what it is, since policies and sessions know it: delete the user, and make another", k.User)
		}
		changed["userName"] = k.User
		k.Resource, k.Modified = changed, now
		p, wrong := rules.person(id, k)
		if wrong != nil {
			return wrong
		}
		var before Person
		if _, err := tx.get(personKey(k.User), &before); err != nil {
			return err
		}
		p.Groups, p.Rest = before.Groups, before.Rest
		return tx.putAll(map[state.Key]any{Users.key(id): k, personKey(k.User): p})
	})
	if err != nil {
		return nil, err
	}
	return d.Get(ctx, Users, id, false)
}

// asError is an error, or none.
func asError(err *Error) error {
	if err == nil {
		return nil
	}
	return err
}

// DeletableUser is the id in decisions of a user who may be deleted.
func (d *Directory) DeletableUser(ctx context.Context, rules *Rules, id string, match Precondition) (string, error) {
	k, err := deletable(&transaction{ctx: ctx, store: d.Store, items: map[state.Key]*entry{}}, rules, id, match)
	if err != nil {
		return "", err
	}
	return k.User, nil
}

func deletable(tx *transaction, rules *Rules, id string, match Precondition) (*kept, error) {
	k, version, err := tx.read(Users, id)
	if err != nil {
		return nil, err
	}
	return k, cmp.Or(match.check(version), asError(rules.user(k.User)))
}

// DeleteUser deletes a user. One of the rulebook's stays there, and is inactive.
func (d *Directory) DeleteUser(ctx context.Context, rules *Rules, id string, match Precondition, now time.Time) error {
	return update(ctx, d.Store, func(tx *transaction) error {
		k, err := deletable(tx, rules, id, match)
		if err != nil {
			return err
		}
		user := k.User
		var p Person
		if _, err := tx.get(personKey(user), &p); err != nil {
			return err
		}
		for _, g := range p.Groups {
			if err := tx.touch(g.ID, now); err != nil {
				return err
			}
			if err := tx.put(memberKey(g.ID, id), nil); err != nil {
				return err
			}
		}
		var left any
		if rules.People[user] != nil {
			inactive := false
			left = &Person{Active: &inactive}
		}
		if err := tx.remember(user); err != nil {
			return err
		}
		return tx.putAll(map[state.Key]any{Users.key(id): nil, userNameKey(user): nil, personKey(user): left})
	})
}

// touch notes that a group changed, so that its version does.
func (t *transaction) touch(group string, now time.Time) error {
	k, _, err := t.read(Groups, group)
	if err != nil {
		return err
	}
	k.Modified = now
	return t.put(Groups.key(group), k)
}
