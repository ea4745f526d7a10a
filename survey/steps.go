package survey

// What to do next.

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"

	"briskwarden.example/briskwarden/internal/demand"
	"briskwarden.example/briskwarden/internal/fact"
	"briskwarden.example/briskwarden/internal/known"
	"briskwarden.example/briskwarden/internal/logic"
	"briskwarden.example/briskwarden/internal/possible"
	"briskwarden.example/briskwarden/internal/rulebook"
	"briskwarden.example/briskwarden/language"
	"briskwarden.example/briskwarden/language/scanner"
	"briskwarden.example/briskwarden/signon"
)

// mostSteps is how many steps are told.
const mostSteps = 10

// measure is a kind of step.
type measure struct {
	lacks      string // what people get in without
	suffix     string // of the policy's name
	about      string // behind the app
	promise    string
	body       string                      // the policy's cases
	waivers    bool                        // a waiver can take it off
	blocksOnly bool                        // the policy has no say but to block
	ready      func(*rulebook.Person) bool // has what is then asked
}

// measures are the kinds of steps, the most urgent first.
func (s *surveyor) measures() []measure {
	reaches := func(p *rulebook.Person) bool { return s.rb.Methods.Reach(2, p.Methods) }
	list := []measure{{lacks: "aal2", suffix: "two-factors", about: "two factors", promise: "never grant without aal2", body: "otherwise => step-up aal2", waivers: true, ready: reaches}}
	owns := map[string]bool{}
	for _, d := range s.rb.Devices {
		if d.Managed == signon.Yes {
			owns[d.Owner] = true
		}
	}
	list = append(list, measure{lacks: managed, suffix: "managed", about: "a managed device", promise: "when not surely device.managed never grant",
		body: "case \"managed\" when surely device.managed => abstain\notherwise => block \"Please use a device of ours.\"", blocksOnly: true, ready: func(p *rulebook.Person) bool { return owns[p.ID] }})
	if methods := s.resistantMethods(); len(methods) > 0 {
		var set demand.Set
		for i, name := range methods {
			m, _ := s.rb.Methods.Lookup(name)
			set.Add(m.ID)
			methods[i] = scanner.Quote(name)
		}
		any := strings.Join(methods, " or ")
		list = append(list, measure{lacks: resistant, suffix: "phishing-resistant", about: "a phishing-resistant method", promise: "never grant without " + any,
			body: "otherwise => step-up " + any, waivers: true, ready: func(p *rulebook.Person) bool { return p.Methods&set != 0 }})
	}
	return list
}

// steps are what closes most ways in, by urgency.
func (s *surveyor) steps() []Step {
	steps := []Step{}
	for _, m := range s.measures() {
		var same []closing
		for _, c := range s.apps {
			if x := s.closes(c, &m); len(x.people) > 0 {
				same = append(same, x)
			}
		}
		slices.SortStableFunc(same, func(a, b closing) int { return cmp.Compare(len(b.people), len(a.people)) })
		for _, x := range same {
			if len(steps) == mostSteps {
				return steps
			}
			if step, ok := s.step(&x); ok {
				steps = append(steps, step)
			}
		}
	}
	return steps
}

// closing is a measure at one app, for those who get in without.
type closing struct {
	*coverage
	*measure
	people   map[string]bool
	notReady []string
}

func (s *surveyor) closes(c *coverage, m *measure) closing {
	x := closing{c, m, map[string]bool{}, []string{}}
	for _, k := range s.world.Kinds {
		if p := k.Person(0); !c.lacks[m.lacks][k] || p.BreakGlass || m.waivers && c.waived[m.lacks][k] {
			continue
		}
		for _, id := range k.People {
			x.people[id] = true
			if !m.ready(s.rb.People[id]) {
				x.notReady = append(x.notReady, id)
			}
		}
	}
	slices.Sort(x.notReady)
	return x
}

// step is a policy for a measure, and the promise that it makes true; not ok where it would let somebody in who is blocked today.
func (s *surveyor) step(x *closing) (step Step, ok bool) {
	c, m := x.coverage, x.measure
	step = Step{What: fmt.Sprintf("%s: ask for %s", c.app, m.about), Closes: len(x.people), NotReady: x.notReady}
	who, ok := s.covering(x)
	if !ok {
		return step, false
	}
	app, name := scanner.Quote(c.app), c.app+"-"+m.suffix
	for slices.ContainsFunc(s.rb.Policies, func(p *rulebook.Policy) bool { return p.Name == name }) {
		name += "-2"
	}
	policy, err := language.Format("policy", fmt.Appendf(nil, "policy %s {\nabout %q\nwho %s\nto app %s\n%s\n}\n", scanner.Quote(name), fmt.Sprintf("Signing on to %s takes %s", c.app, m.about), who, app, m.body))
	if err != nil {
		return step, false
	}
	promise, err := language.Format("promise", fmt.Appendf(nil, "promise %q {\nwho %s%s\nto app %s\n%s\n}\n", fmt.Sprintf("%s takes %s", c.app, m.about), who,
		s.exceptEmergency(who, c.lacks[m.lacks]), app, m.promise))
	if err != nil {
		return step, false
	}
	step.Policy, step.Promise = string(policy), string(promise)
	return step, true
}

// covering selects some people who get into an app, and perhaps others of whom the same holds already, or who never get in; nobody
// whom a waiver lets by. A policy has a say, and so lets somebody further who is blocked since none has: not ok where it would.
func (s *surveyor) covering(x *closing) (who string, ok bool) {
	may := map[string]bool{}
	for k := range x.in {
		for _, id := range k.People {
			may[id] = x.people[id] || !x.coverage.lacks[x.measure.lacks][k] || k.Person(0).BreakGlass
		}
	}
	for _, strangers := range []bool{true, false} {
		who = s.selectors(x.people, func(id string) (allowed bool) {
			is, in := may[id]
			return is || !in && strangers
		})
		if x.blocksOnly || !s.opens(x.app, who) {
			return who, true
		}
	}
	return "", false
}

// opens reports whether some sign-on of people to an app is blocked for the only reason that no policy has a say, or nobody worked out
// in time whether one is.
func (s *surveyor) opens(app, who string) bool {
	selected, _, err := s.rb.Scoped(who, "")
	if err != nil {
		return true
	}
	sp := s.world.NewSpace(app, rulebook.SignOn)
	some := sp.OfKind("selected by "+who, func(k *possible.Kind) bool {
		return slices.ContainsFunc(k.People, func(id string) bool { return s.rb.People[id] != nil && selected.Holds(s.rb.People[id]) })
	})
	unspoken := sp.And(sp.Unspoken(0), some)
	sp.Bind()
	return unspoken != logic.No && sp.Solve(s.ctx, unspoken) != logic.Impossible
}

// mostExcepted is how many people selectors leave out by name.
const mostExcepted = 6

// selectors select some people, and others only if they are allowed: by one selector, perhaps less a few
// people, if there is one, else one by one.
func (s *surveyor) selectors(people map[string]bool, allowed func(id string) bool) string {
	best, excepted := "", mostExcepted+1
	for _, x := range s.bases() {
		var extra []string
		fits := true
		for _, id := range s.ids() {
			switch selected := x.selects(s.rb.People[id]); {
			case people[id] && !selected:
				fits = false
			case selected && !people[id] && !allowed(id):
				extra = append(extra, "user "+scanner.Quote(id))
			}
			if !fits || len(extra) >= excepted {
				fits = false
				break
			}
		}
		if fits {
			best, excepted = x.text, len(extra)
			if len(extra) > 0 {
				best += " except " + strings.Join(extra, ", ")
			}
		}
	}
	if best != "" {
		return best
	}
	var list []string
	for _, id := range slices.Sorted(maps.Keys(people)) {
		list = append(list, "user "+scanner.Quote(id))
	}
	return strings.Join(list, ", ")
}

// base is one selector of people.
type base struct {
	text    string
	selects func(*rulebook.Person) bool
}

func (s *surveyor) bases() []base {
	list := []base{{"everyone", func(*rulebook.Person) bool { return true }}, {"people", func(p *rulebook.Person) bool { return p.Type != "service" }}}
	for _, t := range fact.UserTypes {
		list = append(list, base{"type " + t, func(p *rulebook.Person) bool { return p.Type == t }})
	}
	for id, name := range s.rb.Groups.Names() {
		list = append(list, base{"group " + scanner.Quote(name), func(p *rulebook.Person) bool { return p.In(int32(id)) }})
	}
	return list
}

// ids are the ids of all active people, in order.
func (s *surveyor) ids() []string {
	if s.people == nil {
		for id, p := range s.rb.People {
			if p.Active != known.False {
				s.people = append(s.people, id)
			}
		}
		slices.Sort(s.people)
	}
	return s.people
}

// exceptEmergency leaves out the emergency accounts that selectors select and that get in without: no policy
// is asked of them.
func (s *surveyor) exceptEmergency(who string, without map[*possible.Kind]bool) string {
	selected, _, err := s.rb.Scoped(who, "")
	if err != nil {
		return ""
	}
	var list []string
	for k := range without {
		if k.Person(0).BreakGlass {
			for _, id := range k.People {
				if selected.Holds(s.rb.People[id]) {
					list = append(list, "user "+scanner.Quote(id))
				}
			}
		}
	}
	if len(list) == 0 {
		return ""
	}
	slices.Sort(list)
	if strings.Contains(who, " except ") {
		return ", " + strings.Join(list, ", ")
	}
	return " except " + strings.Join(list, ", ")
}
