package possible

// What can be stated about one fact.

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"briskwarden.example/briskwarden/internal/condition"
	"briskwarden.example/briskwarden/internal/fact"
	"briskwarden.example/briskwarden/internal/rulebook"
	"briskwarden.example/briskwarden/signon"
)

// axis is what can be stated about one fact, or about a few that come together.
type axis struct {
	name   string
	cells  []cell
	parent *axis                       // what decides what stands where this states nothing; nil for nothing
	class  func(cell int) string       // of the parent's cells: those alike decide the same
	needs  func(parent, cell int) bool // whether it can be stated where the parent's cell is that; nil is always
	reps   []int                       // of each class of the parent's, its first cell
	keys   []string                    // of each class

	ofConsent bool // it is stated of consents alone
}

// cell is a value that stands for all that nothing tells from it. The first cell of an axis states nothing.
type cell struct {
	put     func(*signon.SignOn) // states it
	nothing bool
}

// Where the axes stand that others hang on.
const (
	personAxis  = "user"
	placeAxis   = "ip"
	countryAxis = "country"
	deviceAxis  = "device"
)

// findAxes finds what can be stated about what is asked.
func (w *World) findAxes() {
	person := w.axis(personAxis)
	w.findPlaces()
	w.findDevices()
	w.each(func(l *leaf) {
		if l.axis != nil {
			return
		}
		switch a, slot := l.attribute(), l.Fact.Slot; {
		case slot == fact.Network, slot == fact.NetworkTrusted, slot == fact.NetworkAnonymous, slot == fact.Country && w.geo:
			l.axis = w.byName[placeAxis]
		case slot == fact.Country:
			l.axis = w.countries()
		case a != nil && a.OfDevice && w.stated(l.Fact.Name), slot == fact.DeviceOS, slot == fact.DeviceForm,
			slot == fact.DeviceVersion, slot == fact.DeviceReported, isFlag(slot):
			l.axis = w.field(l, deviceAxis)
		case a != nil && a.OfDevice, slot == fact.DeviceID:
			l.axis = w.byName[deviceAxis]
		case a != nil && w.stated(l.Fact.Name):
			l.axis = w.field(l, personAxis)
		case slot == fact.UserCompromised && w.signalled(rulebook.CredentialCompromise):
			l.axis = w.compromised(l)
		case slot == fact.UserRisk && w.signalled(rulebook.RiskLevelChange):
			l.axis = w.raised(l)
		case a != nil, slot == fact.Group, slot >= fact.UserID && slot <= fact.UserCompromised:
			l.axis = person
		case slot == fact.DeviceOwned:
			w.owned = true
		case slot >= fact.NewCountry && slot <= fact.TravelSpeed:
			l.axis = w.past(l)
		case slot == fact.Client, slot >= fact.ReportedRisk && slot <= fact.ClientAppID, slot == fact.ConsentFor, slot == fact.ConsentOwner:
			l.axis = w.field(l, "")
		}
	})
	w.order()
}

func isFlag(s fact.Slot) bool {
	_, is := s.DeviceFlag()
	return is
}

// stated reports an attribute that some side lets a sign-on state.
func (w *World) stated(name string) bool {
	return slices.ContainsFunc(w.sides, func(s *side) bool {
		a, declared := s.rb.Facts.AttributeNamed(name)
		return declared && a.FromRequest
	})
}

// axis finds an axis, or begins it with a cell that states nothing.
func (w *World) axis(name string) *axis {
	a := w.byName[name]
	if a == nil {
		a = &axis{name: name}
		w.byName[name] = a
		w.axes = append(w.axes, a)
	}
	return a
}

// field is the axis of a fact that a sign-on states as it is.
func (w *World) field(l *leaf, parent string) *axis {
	if a := w.byName[l.Fact.Name]; a != nil {
		return a
	}
	a := w.axis(l.Fact.Name)
	a.add(true, func(*signon.SignOn) {})
	state := statement(l.Fact, l.attribute())
	for _, v := range w.values(l.Fact) {
		if put := func(so *signon.SignOn) { state(so, v) }; w.accepted(put) {
			a.add(false, put)
		}
	}
	a.ofConsent = l.Fact.Slot >= fact.PublisherVerified && l.Fact.Slot <= fact.ConsentOwner
	if parent != "" {
		a.parent = w.byName[parent]
		name := l.Fact.Name
		if parent == deviceAxis {
			a.class = func(cell int) string { return w.listed(cell, name) }
			a.needs = func(parent, cell int) bool {
				return a.cells[cell].nothing || !w.byName[deviceAxis].cells[parent].nothing
			}
		} else {
			a.class = func(kind int) string { return w.Kinds[kind].own(w, name) }
		}
	}
	return a
}

// accepted reports whether no side refuses a value.
func (w *World) accepted(put func(*signon.SignOn)) bool {
	return !slices.ContainsFunc(w.sides, func(s *side) bool {
		so := signon.SignOn{Time: w.From, Device: &signon.Device{}}
		put(&so)
		return w.probe(s, &so, func(condition.Facts) {}) != nil
	})
}

func (a *axis) add(nothing bool, put func(*signon.SignOn)) {
	a.cells = append(a.cells, cell{put, nothing})
}

// statement is how a sign-on states a fact.
func statement(f *fact.Fact, a *fact.Attribute) func(so *signon.SignOn, v any) {
	_, name, _ := strings.Cut(f.Name, ".")
	consent := func(so *signon.SignOn) *signon.Consent {
		if so.Consent == nil {
			so.Consent = &signon.Consent{}
		}
		return so.Consent
	}
	switch {
	case a != nil && a.OfDevice:
		return func(so *signon.SignOn, v any) {
			if so.Device.Attributes == nil {
				so.Device.Attributes = map[string]any{}
			}
			so.Device.Attributes[name] = dated(so, v)
		}
	case a != nil:
		return func(so *signon.SignOn, v any) {
			if so.Properties == nil {
				so.Properties = map[string]any{}
			}
			so.Properties[name] = dated(so, v)
		}
	}
	if i, is := f.Slot.DeviceFlag(); is {
		return func(so *signon.SignOn, v any) { *signon.DeviceFlags[i].Of(so.Device) = signon.IsYes(v.(bool)) }
	}
	switch f.Slot {
	case fact.DeviceOS:
		return func(so *signon.SignOn, v any) { so.Device.OS = v.(string) }
	case fact.DeviceForm:
		return func(so *signon.SignOn, v any) { so.Device.Form = v.(string) }
	case fact.DeviceVersion:
		return func(so *signon.SignOn, v any) { so.Device.Version = v.(string) }
	case fact.DeviceReported:
		return func(so *signon.SignOn, v any) { so.Device.Reported = so.Time.Add(-v.(time.Duration)) }
	case fact.Country:
		return func(so *signon.SignOn, v any) { so.Country = v.(string) }
	case fact.Client:
		return func(so *signon.SignOn, v any) { so.Client = signon.Client(v.(string)) }
	case fact.ReportedRisk:
		return func(so *signon.SignOn, v any) { x := v.(float64); so.Risk = &x }
	case fact.PublisherVerified:
		return func(so *signon.SignOn, v any) { consent(so).Verified = signon.IsYes(v.(bool)) }
	case fact.PublisherName:
		return func(so *signon.SignOn, v any) { consent(so).Publisher = v.(string) }
	case fact.ClientAppID:
		return func(so *signon.SignOn, v any) { consent(so).Client = v.(string) }
	case fact.ConsentFor:
		return func(so *signon.SignOn, v any) { consent(so).For = signon.ConsentFor(v.(string)) }
	case fact.ConsentOwner:
		return func(so *signon.SignOn, v any) { consent(so).Owner = signon.IsYes(v.(bool)) }
	}
	panic(fmt.Sprintf("possible: no sign-on states %s", f.Name))
}

// past is the axis of a fact of what was before, which is supposed.
func (w *World) past(l *leaf) *axis {
	if a := w.byName[l.Fact.Name]; a != nil {
		return a
	}
	a := w.axis(l.Fact.Name)
	suppose := func(v any) func(*signon.SignOn) { return supposing(l.Fact.Name, v) }
	if !slices.ContainsFunc(w.sides, func(s *side) bool { return s.engine.HasHistory() }) {
		a.add(true, func(*signon.SignOn) {})
		return a
	}
	a.add(true, suppose(nil))
	for _, v := range w.values(l.Fact) {
		if x, is := v.(float64); is && x < 0 {
			v = 0.0
		}
		a.add(false, suppose(v))
	}
	switch l.Fact.Slot {
	case fact.NewDevice:
		a.parent = w.byName[deviceAxis]
		a.class = w.identified
	case fact.NewCountry:
		a.parent = w.byName[placeAxis]
		if !w.geo {
			a.parent = w.countries()
		}
		a.class = w.inCountry
	case fact.TravelSpeed:
		a.parent = w.byName[placeAxis]
		a.class = w.positioned
	}
	if a.class != nil {
		a.needs = func(parent, cell int) bool { return a.cells[cell].nothing || a.class(parent) == told }
	}
	return a
}

// supposing supposes a fact.
func supposing(name string, v any) func(*signon.SignOn) {
	return func(so *signon.SignOn) {
		if so.Suppose == nil {
			so.Suppose = map[string]any{}
		}
		so.Suppose[name] = v
	}
}

// signalled reports whether some side accepts a signal.
func (w *World) signalled(e rulebook.Event) bool {
	return slices.ContainsFunc(w.sides, func(s *side) bool { return s.rb.Accepts(e) })
}

// compromised is the axis of what signals say of a user's credentials.
func (w *World) compromised(l *leaf) *axis {
	if a := w.byName[l.Fact.Name]; a != nil {
		return a
	}
	a := w.axis(l.Fact.Name)
	a.add(true, supposing(l.Fact.Name, nil))
	a.add(false, supposing(l.Fact.Name, true))
	a.add(false, supposing(l.Fact.Name, false))
	return a
}

// raised is the axis of a user's risk where signals may raise it: it is never less than the directories say.
func (w *World) raised(l *leaf) *axis {
	if a := w.byName[l.Fact.Name]; a != nil {
		return a
	}
	a := w.axis(l.Fact.Name)
	a.add(true, func(*signon.SignOn) {})
	for _, level := range fact.Levels {
		a.add(false, supposing(l.Fact.Name, level))
	}
	a.parent = w.byName[personAxis]
	a.class = func(kind int) string { return fmt.Sprint(w.Kinds[kind].risk()) }
	a.needs = func(kind, cell int) bool { return cell == 0 || cell > w.Kinds[kind].risk() }
	return a
}

// CanBe reports whether a sign-on that is possible of others is of the kind, too: nobody's risk is less than the
// directories say.
func (k *Kind) CanBe(so *signon.SignOn) bool {
	level, supposed := so.Suppose["user.risk"].(string)
	return !supposed || 1+slices.Index(fact.Levels, level) > k.risk()
}

// risk is the highest that a directory says of the kind, counted from 1.
func (k *Kind) risk() (level int) {
	for _, p := range k.persons {
		if p != nil {
			level = max(level, 1+slices.Index(fact.Levels, p.Risk))
		}
	}
	return level
}

// told is the class of a parent's cells where what was before can be told.
const told = "told"

// order has every axis stated after what it hangs on.
func (w *World) order() {
	rank := func(a *axis) int {
		n := 0
		for ; a.parent != nil; a = a.parent {
			n++
		}
		return n
	}
	slices.SortStableFunc(w.axes, func(a, b *axis) int { return cmp.Compare(rank(a), rank(b)) })
}

// classes finds which cells of the parent's decide the same.
func (a *axis) classes() {
	if a.keys != nil {
		return
	}
	if a.class == nil {
		a.keys, a.reps = []string{""}, []int{-1}
		return
	}
	seen := map[string]bool{}
	for i := range a.parent.cells {
		if key := a.class(i); !seen[key] {
			seen[key] = true
			a.keys, a.reps = append(a.keys, key), append(a.reps, i)
		}
	}
}

// timelinesOf are the answers to a comparison, by class of the parent's and then by cell.
func (w *World) timelinesOf(l *leaf, class int) []timeline {
	a := l.axis
	key := a.keys[class]
	w.once.Lock()
	defer w.once.Unlock()
	list, asked := l.timelines[key]
	if !asked {
		list = make([]timeline, len(a.cells))
		for i := range a.cells {
			if !a.allowed(class, i) {
				continue
			}
			list[i] = w.timelineOf(l, func(so *signon.SignOn) {
				if a.reps[class] >= 0 {
					a.parent.cells[a.reps[class]].put(so)
				}
				a.cells[i].put(so)
			})
		}
		l.timelines[key] = list
	}
	return list
}

// allowed reports whether a cell can be where the parent is in a class.
func (a *axis) allowed(class, cell int) bool {
	return a.needs == nil || a.needs(a.reps[class], cell)
}
