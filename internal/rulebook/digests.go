package rulebook

// Digests: when somebody is told how the week went.

import (
	"time"

	"briskwarden.example/briskwarden/internal/schedule"
	"briskwarden.example/briskwarden/language/ast"
)

// WeekDigest says when somebody is told how the week went.
type WeekDigest struct {
	Name string
	schedule.Weekly
	Tell []Receiver // in order
	Decl *ast.Digest
}

func (r *resolver) digests() {
	for _, d := range r.decls.digests.list {
		g := &WeekDigest{Name: d.Name.Text, Decl: d}
		g.Zone = r.rb.Zone
		if d.Zone.Given() {
			g.Zone = r.location(d.Zone)
		}
		for _, n := range d.Days {
			days, err := schedule.ParseDays(n.Text)
			if err != nil {
				r.fail(n, "", "%v", err)
			}
			for i, on := range days {
				if on && g.Days[i] {
					r.fail(n, "leave one of them out", "%s stands twice", time.Weekday(i))
				}
				g.Days[i] = g.Days[i] || on
			}
		}
		var err error
		if g.Minute, err = schedule.ParseClock(d.At.Text); err != nil {
			r.fail(d.At, "", "%v", err)
		}
		for _, t := range d.Tell {
			g.Tell = append(g.Tell, r.receiver(t))
		}
		r.rb.Digests = append(r.rb.Digests, g)
	}
}
