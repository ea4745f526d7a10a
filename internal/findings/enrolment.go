package findings

import (
	"fmt"
	"slices"

	"briskwarden.example/briskwarden/internal/demand"
	"briskwarden.example/briskwarden/internal/diag"
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
	for _, p := range c.rb.Policies {
		for i := range p.Cases {
			if k := &p.Cases[i]; k.Demand != nil && !draft(p) {
				c.stuck(p, i, k.Demand)
			}
		}
	}
}

// draft reports whether the policy is a draft for everybody.
func draft(p *rulebook.Policy) bool {
	return len(p.Stages) > 0 && !slices.ContainsFunc(p.Stages, func(s rulebook.StageLine) bool { return s.Stage != rulebook.Draft })
}

// stuck tells who cannot meet the demand of a case. People who have the same methods and
// waivers fare alike.
func (c *checker) stuck(p *rulebook.Policy, i int, d *demand.Demand) {
	able := map[string]bool{}
	var stuck []string
	for _, person := range c.rb.People {
		if person.BreakGlass || person.Active == known.False || !p.Who.Holds(person) {
			continue
		}
		lifts := c.rb.LiftsFor(p, person, c.now)
		key := fmt.Sprint(person.Methods, lifts)
		can, ok := able[key]
		if !ok {
			can = c.canMeet(d, person.Methods, lifts)
			able[key] = can
		}
		if !can && !c.mayEnrol(p, person) {
			stuck = append(stuck, person.ID)
		}
	}
	if len(stuck) == 0 {
		return
	}
	slices.Sort(stuck)
	c.warn(CannotEnrol, labelOf(p, i), "let them enrol by a policy for the action enrol-method, or except them",
		"%s cannot meet the case %q (%s), and no policy lets them enrol: %s", count(len(stuck)), p.Cases[i].Label, d.Text, diag.Few(stuck, 3))
}

func count(n int) string {
	if n == 1 {
		return "1 user"
	}
	return fmt.Sprintf("%d users", n)
}

// mayEnrol reports whether a policy lets the person enrol at some app that the policy is for.
func (c *checker) mayEnrol(p *rulebook.Policy, person *rulebook.Person) bool {
	return slices.ContainsFunc(c.rb.Policies, func(q *rulebook.Policy) bool {
		return q.Within(rulebook.EnrolMethod) && q.Who.Holds(person) && c.rb.ShareApp(&p.To, &q.To) &&
			slices.ContainsFunc(q.Cases, func(k rulebook.Case) bool { return k.Kind == rulebook.Grant || k.Kind == rulebook.StepUp })
	})
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
