package findings

// People who cannot meet a demand, and cannot enrol.

import (
	"fmt"
	"slices"
	"strings"

	"briskwarden.example/briskwarden/internal/demand"
	"briskwarden.example/briskwarden/internal/known"
	"briskwarden.example/briskwarden/internal/rulebook"
	"briskwarden.example/briskwarden/language/ast"
	"briskwarden.example/briskwarden/signon"
)

// ideal is a sign-on at which all that can be proved without enrolling is proved.
type ideal struct{}

// Meets says that the device is as it should be.
func (ideal) Meets(int) bool { return true }

// MayEnrol says that nobody enrols.
func (ideal) MayEnrol() bool { return false }

func (c *checker) canMeet(d *demand.Demand, enrolled demand.Set, lifts []*demand.Lift) bool {
	proof := demand.Proof{Methods: c.rb.Methods, Enrolled: enrolled, Now: c.now, Posture: ideal{}, Enrolment: ideal{}}
	return d.CanBeMet(&proof, &demand.Terms{Lifts: lifts})
}

// enrolment finds people who cannot meet a demand that is made of them, and whom no policy lets enrol.
func (c *checker) enrolment() {
	if c.rb.Unmatched == signon.Grant {
		return
	}
	c.alike = map[string]people{}
	for _, p := range c.rb.Policies {
		if p.Within(rulebook.EnrolMethod) && slices.ContainsFunc(p.Cases, func(k rulebook.Case) bool { return k.Kind == rulebook.Grant || k.Kind == rulebook.StepUp }) {
			c.enrols = append(c.enrols, p)
		}
	}
	for _, w := range c.rb.Waivers {
		if c.now.Before(w.Until) {
			c.waiving = append(c.waiving, w)
		}
	}
	for _, p := range c.rb.Policies {
		if !draft(p) {
			c.stuck(p)
		}
	}
}

// people are those whom selectors select and who sign on, by the methods that they are enrolled in.
type people map[demand.Set][]*rulebook.Person

// selected finds the people of a policy.
func (c *checker) selected(who *rulebook.Who) people {
	key := whoKey(who)
	found, done := c.alike[key]
	if !done {
		found = people{}
		for p := range c.rb.Selected(who) {
			if !p.BreakGlass && p.Active != known.False {
				found[p.Methods] = append(found[p.Methods], p)
			}
		}
		c.alike[key] = found
	}
	return found
}

// draft reports whether the policy is a draft for everybody.
func draft(p *rulebook.Policy) bool {
	return len(p.Stages) > 0 && !slices.ContainsFunc(p.Stages, func(s rulebook.StageLine) bool { return s.Stage != rulebook.Draft })
}

// stuck tells who cannot meet the demands of a policy's cases. People who have the same methods
// fare alike, unless a waiver or a policy for enrolling makes a difference.
func (c *checker) stuck(p *rulebook.Policy) {
	enrols := sharing(c, p, c.enrols, func(q *rulebook.Policy) *rulebook.To { return &q.To })
	waiving := sharing(c, p, c.waiving, func(w *rulebook.Waiver) *rulebook.To { return &w.To })
	for i := range p.Cases {
		d := p.Cases[i].Demand
		if d == nil {
			continue
		}
		n, first := 0, []string(nil)
		const most = 3
		for methods, list := range c.selected(&p.Who) {
			if c.canMeet(d, methods, nil) {
				continue
			}
			if len(enrols)+len(waiving) > 0 {
				list = slices.DeleteFunc(slices.Clone(list), func(person *rulebook.Person) bool {
					return lifted(c, d, person, waiving) || slices.ContainsFunc(enrols, func(q *rulebook.Policy) bool { return q.Who.Holds(person) })
				})
			}
			n += len(list)
			for _, person := range list[:min(len(list), most)] {
				first = append(first, person.ID)
			}
		}
		if n == 0 {
			continue
		}
		slices.Sort(first)
		names := strings.Join(first[:min(n, most)], ", ")
		if n > most {
			names += fmt.Sprintf(" and %d more", n-most)
		}
		c.warn(CannotEnrol, labelOf(p, i), "let them enrol by a policy for the action enrol-method, or except them",
			"%s cannot meet the case %q (%s), and no policy lets them enrol: %s", count(n), p.Cases[i].Label, d.Text, names)
	}
}

// sharing are those of some policies or waivers that are for an app that the policy is for.
func sharing[T any](c *checker, p *rulebook.Policy, list []T, to func(T) *rulebook.To) (sharing []T) {
	for _, x := range list {
		if c.rb.ShareApp(&p.To, to(x)) {
			sharing = append(sharing, x)
		}
	}
	return sharing
}

// lifted reports whether waivers take off what a person cannot meet.
func lifted(c *checker, d *demand.Demand, person *rulebook.Person, waiving []*rulebook.Waiver) bool {
	var lifts []*demand.Lift
	for _, w := range waiving {
		if w.Who.Holds(person) {
			lifts = append(lifts, &w.Lift)
		}
	}
	return len(lifts) > 0 && c.canMeet(d, person.Methods, lifts)
}

func count(n int) string {
	if n == 1 {
		return "1 user"
	}
	return fmt.Sprintf("%d users", n)
}

// breakGlass finds emergency accounts that their demand would keep out.
func (c *checker) breakGlass() {
	for d := range c.rb.Declarations() {
		top, ok := d.(*ast.Rulebook)
		if !ok || top.BreakGlass == nil {
			continue
		}
		for _, u := range top.BreakGlass.Users {
			if p := c.rb.People[u.Text]; p != nil && !c.canMeet(c.rb.BreakGlass, p.Methods, nil) {
				c.warn(BreakGlassUnready, u, "enrol it, and say so in its user block: methods …", "the emergency account %s is not enrolled in what is asked of it: %s",
					u.Text, c.rb.BreakGlass.Text)
			}
		}
	}
}
