package possible

// Who signs on.

import (
	"fmt"
	"strings"

	"briskwarden.example/briskwarden/internal/fact"
	"briskwarden.example/briskwarden/internal/known"
	"briskwarden.example/briskwarden/internal/rulebook"
	"briskwarden.example/briskwarden/signon"
)

// Kind are people whom nothing that the rulebooks ask tells apart.
type Kind struct {
	People []string // in order; the first stands for all

	persons []*rulebook.Person // by side; nil where the person is not known, or disabled
}

// Person is who stands for the kind in a rulebook, by its number; nil where the person is not known or disabled.
func (k *Kind) Person(side int) *rulebook.Person { return k.persons[side] }

// asking is what one rulebook asks about people.
type asking struct {
	groups  map[int32]bool
	users   map[string]bool
	domains map[string]bool
	facts   []*leaf
	joined  bool
	owners  map[string]bool // of devices, where it matters
}

func (w *World) asking(s *side, questions []Asked) *asking {
	a := &asking{map[int32]bool{}, map[string]bool{}, map[string]bool{}, nil, false, map[string]bool{}}
	for _, p := range s.rb.Policies {
		a.who(&p.Who)
		for i := range p.Stages {
			if p.Stages[i].For != nil {
				a.who(p.Stages[i].For)
			}
		}
		for i := range p.Cases {
			d := p.Cases[i].Demand
			a.joined = a.joined || d != nil && d.HasGrace()
		}
	}
	for _, v := range s.rb.Waivers {
		a.who(&v.Who)
	}
	for _, p := range s.rb.Promises {
		a.who(&p.Who)
		a.joined = a.joined || p.Without != nil && p.Without.HasGrace()
	}
	for _, q := range questions {
		a.who(q.Who)
	}
	for _, l := range s.order {
		switch {
		case l.Fact.Slot == fact.Group:
			for _, id := range l.Sets {
				a.groups[int32(id)] = true
			}
		case l.Fact.Slot == fact.UserID:
			for _, id := range l.Words {
				a.users[id] = true
			}
		case strings.HasPrefix(l.Fact.Name, "user."):
			a.facts = append(a.facts, l)
		}
	}
	if w.owned {
		for _, r := range s.rb.Devices {
			a.owners[r.Owner] = true
		}
	}
	return a
}

func (a *asking) who(w *rulebook.Who) {
	for _, list := range [][]rulebook.PersonSelector{w.Items, w.Except} {
		for _, item := range list {
			switch item.Kind {
			case rulebook.InGroup:
				a.groups[item.Group] = true
			case rulebook.IsUser:
				a.users[item.Name] = true
			case rulebook.OfDomain:
				a.domains[item.Name] = true
			}
		}
	}
}

// key is the same for people of one kind.
func (a *asking) key(b *strings.Builder, p *rulebook.Person) {
	if p == nil {
		b.WriteString("-|")
		return
	}
	if a.users[p.ID] || a.owners[p.ID] {
		fmt.Fprintf(b, "%q", p.ID)
	}
	if d := rulebook.Domain(p.ID); a.domains[d] {
		fmt.Fprintf(b, "@%q", d)
	}
	for _, g := range p.Groups {
		if a.groups[g] {
			fmt.Fprintf(b, ",%d", g)
		}
	}
	fmt.Fprintf(b, ";%s;%x;%t", p.Type, p.Methods, p.BreakGlass)
	if a.joined {
		fmt.Fprintf(b, ";%d", p.JoinedDay.Unix())
	}
	for _, l := range a.facts {
		switch l.Fact.Slot {
		case fact.UserRisk:
			b.WriteString(";" + p.Risk)
		case fact.UserJoined:
			fmt.Fprintf(b, ";%d", p.Joined.UnixNano())
		case fact.UserType, fact.UserCompromised:
		default:
			if v := ownValue(p, l.attribute()); v.Known {
				fmt.Fprintf(b, ";%q %v %v", v.Word, v.Number, v.YesNo)
			} else {
				b.WriteString(";?")
			}
		}
	}
	b.WriteByte('|')
}

// ownValue is what the directory says of an attribute of a person.
func ownValue(p *rulebook.Person, a *fact.Attribute) fact.Value {
	if a != nil && a.Index < len(p.Attributes) {
		return p.Attributes[a.Index]
	}
	return fact.Value{}
}

// own tells what the directories say of an attribute of the kind.
func (k *Kind) own(w *World, name string) string {
	key := ""
	for i, s := range w.sides {
		if a, declared := s.rb.Facts.AttributeNamed(name); declared && k.persons[i] != nil {
			v := ownValue(k.persons[i], a)
			key += fmt.Sprintf(";%t %q %v %v", v.Known, v.Word, v.Number, v.YesNo)
		}
	}
	return key
}

// findKinds parts all active people into kinds.
func (w *World) findKinds(questions [][]Asked) {
	var asks []*asking
	ids := map[string]bool{}
	for i, s := range w.sides {
		asks = append(asks, w.asking(s, questions[i]))
		for id, p := range s.rb.People {
			if p.Active != known.False {
				ids[id] = true
			}
		}
	}
	kinds := map[string]*Kind{}
	var b strings.Builder
	for _, id := range sorted(ids) {
		b.Reset()
		persons := make([]*rulebook.Person, len(w.sides))
		for i, s := range w.sides {
			if p := s.rb.People[id]; p != nil && p.Active != known.False {
				persons[i] = p
			}
			asks[i].key(&b, persons[i])
		}
		k := kinds[b.String()]
		if k == nil {
			k = &Kind{persons: persons}
			kinds[b.String()] = k
			w.Kinds = append(w.Kinds, k)
		}
		k.People = append(k.People, id)
	}
	a := w.axis(personAxis)
	for _, k := range w.Kinds {
		id := k.People[0]
		a.add(false, func(so *signon.SignOn) { so.User = id })
	}
}
