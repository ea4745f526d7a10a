// Package provision has people and groups as a provisioning service states them, by SCIM 2.0 (RFC 7643, RFC 7644):
// resources, filters, patches, and what decisions need of it.
package provision

import (
	"slices"
	"time"

	"github.com/go-json-experiment/json/jsontext"

	"briskwarden.example/briskwarden/internal/directory"
	"briskwarden.example/briskwarden/internal/known"
	"briskwarden.example/briskwarden/internal/rulebook"
)

// Person is what is provisioned of a user, as decisions need it.
type Person struct {
	Resource   string         `json:"resource,omitempty"` // the id of the resource; empty where it was deleted
	Type       string         `json:"type,omitempty"`
	Risk       string         `json:"risk,omitempty"`
	Active     *bool          `json:"active,omitempty"`
	Joined     time.Time      `json:"joined,omitzero"`
	Methods    []string       `json:"methods,omitempty"`
	Attributes map[string]any `json:"attributes,omitempty"`
	Groups     []Membership   `json:"groups,omitempty"` // that the user is directly in

	Rest jsontext.Value `json:",embed"` // what this version does not know
}

// Membership is a group that somebody is in.
type Membership struct {
	ID   string `json:"id"`
	Name string `json:"name"`
}

// Provisioned reports whether there is such a resource, or a user of the rulebook was deleted.
func (p *Person) Provisioned() bool { return p.Resource != "" || p.Active != nil }

// user is the person as a directory states it. What the rulebook does not know any more is left aside.
func (p *Person) user(rb *rulebook.Rulebook, id string) *directory.User {
	u := &directory.User{ID: id, Type: p.Type, Risk: p.Risk, Joined: p.Joined}
	if p.Active != nil {
		u.Active = known.Of(*p.Active)
	}
	for _, m := range p.Methods {
		if _, ok := rb.Methods.Lookup(m); ok {
			u.Methods = append(u.Methods, m)
		}
	}
	for name, value := range p.Attributes {
		if a, ok := rb.Facts.AttributeNamed("user." + name); ok {
			if _, err := rulebook.StatedValue(a, value, rb.Zone); err == nil {
				u.Attributes = append(u.Attributes, directory.Attribute{Name: name, Value: value})
			}
		}
	}
	return u
}

// Join makes one person of what a rulebook's files have of a user, and of what is provisioned; nil is somebody whom
// neither knows. The disagreement, if there is one, is told: the files are right then.
func (p *Person) Join(rb *rulebook.Rulebook, id string, nesting Nesting) (*rulebook.Person, *rulebook.Disagreement) {
	own := rb.People[id]
	if !p.Provisioned() || p.Resource == "" && own == nil {
		return own, nil
	}
	stated, err := rb.Stated(p.user(rb, id))
	if err != nil { // which its own values cannot be
		return own, nil
	}
	if own != nil && !own.Joined.IsZero() { // the day of provisioning says no other
		stated.Joined = time.Time{}
	}
	names := make([]string, len(p.Groups))
	for i, g := range p.Groups {
		names[i] = g.Name
	}
	return rb.Join(own, stated, nesting.Above(names))
}

// Nesting has, of provisioned groups that are members of others, the groups that they are directly in.
type Nesting map[string][]string

// Above are groups and all that they are nested in, each once. Circles do no harm.
func (n Nesting) Above(groups []string) []string {
	all := slices.Clone(groups)
	seen := make(map[string]bool, len(groups))
	for _, g := range groups {
		seen[g] = true
	}
	for i := 0; i < len(all); i++ {
		for _, outer := range n[all[i]] {
			if !seen[outer] {
				seen[outer] = true
				all = append(all, outer)
			}
		}
	}
	return all
}
