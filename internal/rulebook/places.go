package rulebook

// Networks, countries and the sources of places.

import (
	"io"
	"strings"

	"briskwarden.example/briskwarden/internal/directory"
	"briskwarden.example/briskwarden/internal/lines"
	"briskwarden.example/briskwarden/internal/place"
	"briskwarden.example/briskwarden/internal/schedule"
	"briskwarden.example/briskwarden/language/ast"
	"briskwarden.example/briskwarden/signon"
)

func (r *resolver) networks() {
	for _, d := range r.decls.networks.list {
		if _, err := place.ParseItem(d.Name.Text); err == nil {
			r.fail(d.Name, "choose another name", "%q reads as an address, prefix or range", d.Name.Text)
		}
		own := place.List{File: d.Name.Pos.File}
		for _, item := range d.Items {
			p, err := place.ParseItem(item.Text)
			if err != nil {
				r.fail(item, "", "%v", err)
				continue
			}
			own.Add(int(item.Pos.Line), p)
		}
		r.once(d.Items)
		lists := []place.List{own}
		for _, from := range d.From {
			r.each(from, func(file string, in io.Reader) error {
				listed, wrong := place.ReadList(in, file)
				lists = append(lists, listed)
				r.wrongLines(file, wrong)
				r.loading(file).add(len(listed.Entries), "prefix")
				return nil
			})
		}
		id := r.addNetwork(lists...)
		r.rb.Networks.Names = append(r.rb.Networks.Names, d.Name.Text)
		r.names.networks[d.Name.Text] = id
		if d.Trusted.IsValid() {
			r.rb.Networks.Trusted = r.rb.Networks.Trusted.With(id)
		}
		if d.Anonymous.IsValid() {
			r.rb.Networks.Anonymous = r.rb.Networks.Anonymous.With(id)
		}
	}
}

// geo reads the sources of where addresses are.
func (r *resolver) geo(files []ast.Name) {
	for _, f := range files {
		r.each(f, func(file string, in io.Reader) error {
			if lines.Format(file) == ".mmdb" {
				db, err := place.ReadDatabase(in, file)
				if err != nil {
					return err
				}
				r.rb.Atlas = append(r.rb.Atlas, db)
				loaded := r.loading(file)
				loaded.add(db.Len(), "located prefix")
				loaded.aside(db.Strange(), "in a country that is none")
				return nil
			}
			feed, wrong := place.ReadGeofeed(in, file)
			r.wrongLines(file, wrong)
			r.rb.Atlas = append(r.rb.Atlas, feed)
			r.loading(file).add(feed.Len(), "located prefix")
			return nil
		})
	}
}

func (r *resolver) countries() {
	known := keysOf(r.decls.countries.byName)
	for _, d := range r.decls.countries.list {
		if t := d.Name.Text; len(t) == 2 && strings.ToUpper(t) == t && strings.ToLower(t) != t {
			r.fail(d.Name, "choose a longer name", "a set of countries cannot be named like a country, %q", t)
		}
		for _, item := range d.Items {
			if r.decls.countries.byName[item.Text] == nil && !signon.IsCountry(item.Text) {
				if len(item.Text) == 2 {
					r.fail(item, countryHelp(item.Text), "there is no country %q", item.Text)
				} else {
					r.unknown(item, "countries", known)
				}
			}
		}
		r.once(d.Items)
	}
	r.rb.Countries = map[string][]string{}
	for _, d := range r.decls.countries.list {
		r.rb.Countries[d.Name.Text] = r.flatten(d.Name.Text)
	}
	if circle := r.countryCircle(); circle != nil {
		at := r.decls.countries.byName[circle[0]].Name
		r.fail(at, "take one of them out", "sets of countries form a circle: %s", strings.Join(circle, " → "))
	}
}

// countryCircle finds sets of countries that name each other, as groups that contain each other are found.
func (r *resolver) countryCircle() []string {
	sets := directory.NewGroups()
	for _, d := range r.decls.countries.list {
		for _, item := range d.Items {
			if r.decls.countries.byName[item.Text] != nil {
				sets.Nest(sets.Add(item.Text), sets.Add(d.Name.Text))
			}
		}
	}
	return sets.Circle()
}

func (r *resolver) schedules() {
	for i, d := range r.decls.schedules.list {
		zone := r.rb.Zone
		if d.Zone.Given() {
			zone = r.location(d.Zone)
		}
		s := &schedule.Schedule{Name: d.Name.Text, Wall: schedule.NewWall(zone)}
		for _, w := range d.Windows {
			s.Windows = append(s.Windows, r.window(w))
		}
		s.Except, s.During = r.spans(d.Except), r.spans(d.During)
		for _, c := range d.Calendars {
			r.each(c, func(file string, in io.Reader) error {
				calendar, err := schedule.ReadCalendar(in, zone)
				if err != nil {
					return err
				}
				s.Calendars = append(s.Calendars, schedule.Exceptions{File: file, Calendar: calendar})
				loaded := r.loading(file)
				loaded.add(calendar.Events, "event")
				loaded.aside(calendar.Idle, "cancelled or without length")
				loaded.aside(calendar.Others, "neither event nor zone")
				return nil
			})
		}
		if len(d.Windows) == 0 && len(d.During) == 0 && len(d.Clauses) == len(d.Except)+len(d.Calendars) {
			r.fail(d.Name, "add a window such as \"mon-fri 06:00-20:00\", or \"during\"", "the schedule %s is never open", d.Name)
		}
		r.rb.Schedules = append(r.rb.Schedules, s)
		r.names.schedules[d.Name.Text] = i
	}
}

func (r *resolver) window(w ast.Window) (window schedule.Window) {
	var err error
	if window.Days, err = schedule.ParseDays(w.Days.Text); err != nil {
		r.fail(w.Days, "", "%v", err)
	}
	if window.Start, window.End, err = schedule.ParseHours(w.Hours.Text); err != nil {
		r.fail(w.Hours, "", "%v", err)
	}
	return window
}

func (r *resolver) spans(list []ast.Name) (spans []schedule.Span) {
	for _, n := range list {
		span, err := schedule.ParseSpan(n.Text)
		if err != nil {
			r.fail(n, "", "%v", err)
			continue
		}
		spans = append(spans, span)
	}
	r.once(list)
	return spans
}
