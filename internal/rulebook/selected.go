package rulebook

// Who and what selectors select, without going through everybody for each of them.

import (
	"cmp"
	"iter"
	"maps"
	"slices"
	"sync"
)

// selection finds people and apps by what selectors name them by.
type selection struct {
	once    sync.Once
	people  []*Person // by id
	groups  map[int32][]int32
	types   map[string][]int32
	domains map[string][]int32
	apps    []*App // by name
	tags    map[int][]*App
}

// With is the rulebook with other people, who are of its own making.
func (rb *Rulebook) With(people map[string]*Person) *Rulebook {
	other := *rb
	other.People, other.selected = people, &selection{}
	return &other
}

func (rb *Rulebook) selection() *selection {
	s := rb.selected
	s.once.Do(func() {
		s.groups, s.types, s.domains, s.tags = map[int32][]int32{}, map[string][]int32{}, map[string][]int32{}, map[int][]*App{}
		s.people = slices.SortedFunc(maps.Values(rb.People), func(a, b *Person) int { return cmp.Compare(a.ID, b.ID) })
		for i, p := range s.people {
			at := int32(i)
			for _, g := range p.Groups {
				s.groups[g] = append(s.groups[g], at)
			}
			s.types[p.Type] = append(s.types[p.Type], at)
			if domain := Domain(p.ID); domain != "" {
				s.domains[domain] = append(s.domains[domain], at)
			}
		}
		s.apps = slices.SortedFunc(maps.Values(rb.Apps), func(a, b *App) int { return cmp.Compare(a.Name, b.Name) })
		for _, a := range s.apps {
			for _, tag := range a.Tags {
				s.tags[tag] = append(s.tags[tag], a)
			}
		}
	})
	return s
}

// Selected gives the people of the rulebook whom selectors select, by id.
func (rb *Rulebook) Selected(w *Who) iter.Seq[*Person] {
	return func(yield func(*Person) bool) {
		s := rb.selection()
		named, all := s.named(rb, w.Items)
		if all {
			for _, p := range s.people {
				if w.Holds(p) && !yield(p) {
					return
				}
			}
			return
		}
		for _, at := range named {
			if p := s.people[at]; !selects(w.Except, p) && !yield(p) {
				return
			}
		}
	}
}

// named are the people whom selectors name one by one or by what they are in; all is that some selector names none.
func (s *selection) named(rb *Rulebook, items []PersonSelector) (list []int32, all bool) {
	for _, item := range items {
		switch item.Kind {
		case InGroup:
			list = append(list, s.groups[item.Group]...)
		case OfType:
			list = append(list, s.types[item.Name]...)
		case OfDomain:
			list = append(list, s.domains[item.Name]...)
		case IsUser:
			if i, there := slices.BinarySearchFunc(s.people, item.Name, func(p *Person, id string) int { return cmp.Compare(p.ID, id) }); there {
				list = append(list, int32(i))
			}
		default:
			return nil, true
		}
	}
	slices.Sort(list)
	return slices.Compact(list), false
}

// IsEverything reports whether all apps are selected, and none excepted.
func (t *To) IsEverything() bool {
	return len(t.Except) == 0 && slices.ContainsFunc(t.Items, func(s AppSelector) bool { return s.Kind == Everything })
}

// AppsOf gives the apps that selectors select; one that several name may come again.
func (rb *Rulebook) AppsOf(t *To) iter.Seq[*App] {
	return func(yield func(*App) bool) {
		s := rb.selection()
		for _, item := range t.Items {
			list := s.apps
			switch item.Kind {
			case IsApp:
				list = nil
				if a := rb.Apps[item.Name]; a != nil {
					list = []*App{a}
				}
			case HasTag:
				list = s.tags[item.Tag]
			}
			for _, a := range list {
				if t.Holds(a) && !yield(a) {
					return
				}
			}
		}
	}
}

// ShareApp reports whether some app is among both.
func (rb *Rulebook) ShareApp(a, b *To) bool {
	if a.IsEverything() {
		a, b = b, a
	}
	for app := range rb.AppsOf(a) {
		if b.Holds(app) {
			return true
		}
	}
	return false
}

// AppNames are the names of all apps, in order.
func (rb *Rulebook) AppNames() []string {
	var list []string
	for _, a := range rb.selection().apps {
		list = append(list, a.Name)
	}
	return list
}

// ActionNames are the names of all actions, in order.
func (rb *Rulebook) ActionNames() []string { return slices.Sorted(maps.Keys(rb.Actions)) }
