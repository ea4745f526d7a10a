package rulebook

// People of whom a source beside the rulebook's files states something, such as a provisioning service.

import (
	"cmp"
	"fmt"
	"slices"
	"time"

	"briskwarden.example/briskwarden/internal/directory"
	"briskwarden.example/briskwarden/internal/fact"
	"briskwarden.example/briskwarden/internal/known"
)

// Disagreement is a field of which two sources state different values.
type Disagreement struct {
	Field       string
	Here, There string // what the source that is told states, and what the rulebook's files do
	At          Origin // of the user, in the files
}

func (d *Disagreement) Error() string {
	return fmt.Sprintf("%s is %s here, and %s at %s", d.Field, d.Here, d.There, d.At)
}

// assumed are the fields of a person that nothing stated.
type assumed struct{ typ, risk bool }

// disagreement is the first field of which both state a value, and not the same.
func (rb *Rulebook) disagreement(stated, p *Person) *Disagreement {
	differ := func(what, here, there string) *Disagreement { return &Disagreement{what, here, there, p.Origin} }
	switch {
	case stated.Type != "" && p.Type != "" && !p.assumed.typ && stated.Type != p.Type:
		return differ("type", stated.Type, p.Type)
	case stated.Risk != "" && p.Risk != "" && !p.assumed.risk && stated.Risk != p.Risk:
		return differ("risk", stated.Risk, p.Risk)
	case !stated.Joined.IsZero() && !p.Joined.IsZero() && !stated.Joined.Equal(p.Joined):
		return differ("joined", stated.Joined.Format(time.RFC3339), p.Joined.Format(time.RFC3339))
	}
	for _, a := range rb.Facts.Attributes() {
		if a.OfDevice {
			continue
		}
		if v, w := attributeOf(p, a), attributeOf(stated, a); v.Known && w.Known && !v.Equal(w, a.Type) {
			return differ(a.Name, quoted(w, a.Type), quoted(v, a.Type))
		}
	}
	return nil
}

// add adds what is stated of a person, where nothing was.
func (rb *Rulebook) add(p, stated *Person) {
	for _, a := range rb.Facts.Attributes() {
		if w := attributeOf(stated, a); !a.OfDevice && w.Known && !attributeOf(p, a).Known {
			p.Attributes = append([]fact.Value(nil), p.Attributes...) // others may share them
			p.Attributes = append(p.Attributes, make([]fact.Value, rb.Facts.Users()-len(p.Attributes))...)
			p.Attributes[a.Index] = w
		}
	}
	if p.Joined.IsZero() {
		p.Joined = stated.Joined
	}
	p.Methods |= stated.Methods
}

// Stated binds what a source states of a user; groups are left to [Rulebook.Join]. The error names the field that
// cannot be: a type, a risk, a method or the value of a declared attribute.
func (rb *Rulebook) Stated(u *directory.User) (*Person, error) {
	p := &Person{ID: u.ID, Type: u.Type, Risk: u.Risk, Active: u.Active, Joined: u.Joined}
	switch {
	case p.Type != "" && !slices.Contains(fact.UserTypes, p.Type):
		return nil, fmt.Errorf("type: %q is none of employee, guest and service", p.Type)
	case p.Risk != "" && !slices.Contains(fact.Levels, p.Risk):
		return nil, fmt.Errorf("risk: %q is none of none, low, medium and high", p.Risk)
	}
	for _, name := range u.Methods {
		m, ok := rb.Methods.Lookup(name)
		if !ok {
			return nil, fmt.Errorf("methods: there is no method %q%s", name, hinted(name, rb.Methods.Names()))
		}
		p.Methods.Add(m.ID)
	}
	for _, s := range u.Attributes {
		if err := rb.bindAttribute(p, s.Name, s.Value); err != nil {
			return nil, fmt.Errorf("%s: %w", s.Name, err)
		}
	}
	return p, nil
}

// Join makes one person of what the rulebook's files have of a user, nil for one whom they do not know, and what
// another source states: groups, by name, and methods are united, and who is inactive by either is. Where they
// disagree the files are right, and the first disagreement is told. Emergency accounts are what the files say.
func (rb *Rulebook) Join(p, stated *Person, groups []string) (*Person, *Disagreement) {
	if p != nil && p.BreakGlass {
		return p, nil
	}
	joined := Person{ID: stated.ID}
	var differs *Disagreement
	if p != nil {
		joined, differs = *p, rb.disagreement(stated, p)
	}
	if joined.Type == "" || joined.assumed.typ {
		joined.Type = cmp.Or(stated.Type, fact.UserTypes[0])
	}
	if joined.Risk == "" || joined.assumed.risk {
		joined.Risk = cmp.Or(stated.Risk, fact.Levels[0])
	}
	if stated.Active == known.False {
		joined.Active = known.False
	}
	rb.add(&joined, stated)
	joined.setJoinedDay(rb.Zone)
	all := slices.Concat(joined.Groups, rb.closureOf(groups))
	slices.Sort(all)
	joined.Groups = slices.Compact(all)
	return &joined, differs
}
