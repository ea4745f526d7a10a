package about

// The last sign-ons that concern a thing, and how it fares.

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"briskwarden.example/briskwarden/internal/engine"
	"briskwarden.example/briskwarden/reach"
	"briskwarden.example/briskwarden/replay"
	"briskwarden.example/briskwarden/signon"
)

// signOns finds the last sign-ons that concern the thing, in logs and in what a service remembers.
func (f *finder) signOns() error {
	if f.searched {
		return nil
	}
	f.searched = true
	list := slices.Clone(f.Granted)
	for _, l := range f.Logs {
		err := replay.Each(l.In, l.Name, func(line *replay.Line) error {
			if err := f.ctx.Err(); err != nil {
				return err
			}
			from, concerns, err := f.concerns(line)
			if err != nil || !concerns {
				return err
			}
			f.All++
			so := &line.SignOn
			s := SignOn{Time: so.Time, User: strings.Clone(so.User), App: strings.Clone(so.App), From: from, Where: line.Place()}
			if line.Recorded {
				s.Outcome = line.Outcome.String()
			}
			if so.Device != nil {
				s.Device = strings.Clone(so.Device.ID)
			}
			if list = append(list, s); len(list) > manyMore*f.last() {
				list = f.latest(list)
			}
			return nil
		}, func(replay.BadLine) { f.Bad++ })
		if err != nil {
			return fmt.Errorf("%s: %w", l.Name, err)
		}
	}
	f.SignOns = f.latest(list)
	return nil
}

// AddGranted adds a grant that a service remembers; of many the last are kept.
func (o *Options) AddGranted(s SignOn) {
	if o.Granted = append(o.Granted, s); len(o.Granted) > manyMore*o.last() {
		o.Granted = o.latest(o.Granted)
	}
}

// manyMore is how many times as many sign-ons as are told are gathered before the last of them are sorted out.
const manyMore = 20

func (o *Options) last() int { return cmp.Or(o.Last, 10) }

// latest are the last of some sign-ons, the newest first.
func (o *Options) latest(list []SignOn) []SignOn {
	slices.SortStableFunc(list, func(a, b SignOn) int { return b.Time.Compare(a.Time) })
	return list[:min(len(list), o.last())]
}

// concerns reports whether a sign-on concerns the thing, and from where it comes.
func (f *finder) concerns(line *replay.Line) (from string, concerns bool, err error) {
	so := &line.SignOn
	switch f.Kind {
	case User:
		concerns = so.User == f.Name
	case App:
		concerns = so.App == f.Name
	case Group:
		p := f.rb.People[so.User]
		concerns = p != nil && p.In(f.group)
	case Method:
		concerns = slices.Contains(so.Presented, f.Name)
	case Device:
		concerns = so.Device != nil && so.Device.ID == f.Name
	case Client:
		concerns = so.Consent != nil && so.Consent.Client == f.Name
	}
	if !concerns && f.Kind != Network && f.Kind != Country {
		return "", false, nil
	}
	var t engine.Trace
	if err := f.e.Trace(f.ctx, so, &t); err != nil { // a sign-on that cannot be decided concerns nothing
		return "", concerns, nil
	}
	switch f.Kind {
	case Network:
		concerns = t.Networks.Has(f.net)
	case Country:
		concerns = slices.Contains(f.codes, t.Country)
	}
	var parts []string
	for i := range t.Networks.All() {
		parts = append(parts, f.rb.Networks.Names[i])
	}
	if t.Country != "" {
		parts = append(parts, t.Country)
	}
	if len(parts) == 0 && so.IP.IsValid() {
		parts = append(parts, so.IP.String())
	}
	return strings.Join(parts, ", "), concerns, nil
}

// circumstances are those under which it is told how a user or an app fares: from each of the first trusted networks, on a device of
// hers if the user has one, and from where nothing is known of.
func (f *finder) circumstances() (list []reach.Circumstance) {
	const most = 2
	so := signon.SignOn{Time: f.e.Now()}
	if owned := f.owned(); len(owned) > 0 {
		so.Device, f.On = &signon.Device{ID: owned[0]}, owned[0]
	}
	for i, name := range f.rb.Networks.Names {
		if a, ok := f.rb.Networks.Table.Sample(i); ok && f.rb.Networks.Trusted.Has(i) && len(list) < most {
			within := so
			within.IP = a
			list = append(list, reach.Circumstance{Name: "from " + name, SignOn: within})
		}
	}
	return append(list, reach.Circumstance{Name: "from elsewhere", SignOn: signon.SignOn{Time: f.e.Now()}})
}

// reachOfUser tells what a user gets to, apps that fare alike together.
func (f *finder) reachOfUser() error {
	list := f.circumstances()
	of, err := reach.User(f.ctx, f.rules, f.Name, list)
	if err != nil {
		return err
	}
	for i, c := range list {
		var g grouped
		for _, row := range of.Apps {
			g.add(&row.Fares[i], row.App)
		}
		f.addReach(c.Name, g.lines(func(names []string) string { return few(names) }))
	}
	return nil
}

// reachOfApp tells who gets to an app, people who fare alike together.
func (f *finder) reachOfApp() error {
	list := f.circumstances()
	of, err := reach.App(f.ctx, f.rules, f.Name, list)
	if err != nil {
		return err
	}
	for i, c := range list {
		var g grouped
		for _, alike := range of.Alike {
			g.add(&alike.Fares[i], alike.People...)
		}
		f.addReach(c.Name, g.lines(func(names []string) string { return fmt.Sprintf("%d, %s", len(names), few(names)) }))
	}
	return nil
}

// grouped are names that fare alike, in the order in which their fares came.
type grouped struct {
	order []string
	names map[string][]string
}

func (g *grouped) add(r *reach.Fare, names ...string) {
	key := r.Outcome.String()
	if r.Asked != "" {
		key += ", " + r.Asked
	}
	if g.names == nil {
		g.names = map[string][]string{}
	}
	if g.names[key] == nil {
		g.order = append(g.order, key)
	}
	g.names[key] = append(g.names[key], names...)
}

func (g *grouped) lines(told func([]string) string) (list []string) {
	for _, key := range g.order {
		list = append(list, key+": "+told(g.names[key]))
	}
	return list
}

// addReach adds how it goes under a circumstance; where it goes as under the one before, their names stand together.
func (f *finder) addReach(name string, lines []string) {
	last := len(f.Reach) - len(lines)
	if last >= 0 && slices.EqualFunc(f.Reach[last:], lines, func(l Line, text string) bool { return l.Text == text }) {
		for i := last; i < len(f.Reach); i++ {
			f.Reach[i].Label += ", " + strings.TrimPrefix(name, "from ")
		}
		return
	}
	for _, text := range lines {
		f.Reach = append(f.Reach, Line{Label: name, Text: text})
	}
}
