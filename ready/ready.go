// Package ready finds who is not enrolled, or has no device, for what the policies will ask of them,
// as the command "brisk ready" does.
//
//	report, err := ready.Find(ctx, rules, time.Now().AddDate(0, 1, 0))
package ready

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"briskwarden.example/briskwarden"
	"briskwarden.example/briskwarden/internal/bridge"
	"briskwarden.example/briskwarden/internal/demand"
	"briskwarden.example/briskwarden/internal/engine"
	"briskwarden.example/briskwarden/internal/known"
	"briskwarden.example/briskwarden/internal/rulebook"
)

// Gap is what one person lacks for the demand of one case.
type Gap struct {
	Person   string   // the user's id
	Groups   []string // that the person is in
	Policy   string
	PolicyAt string // file:line
	Case     string
	Asks     string    // the case's demand, as it is written
	Missing  string    // methods to enrol in, or what is wrong with the devices
	Device   bool      // it is the device that is not ready
	Deadline time.Time // from then on the person is stopped; zero is already

	kase *rulebook.Case
}

// Report is who is not ready. Its JSON is that of "brisk ready --json".
type Report struct {
	Now, By time.Time // what people have at the first counts, and what is demanded by the second
	Gaps    []Gap     // by policy, then by person
	All     int       // how many people the rulebook knows

	rb *rulebook.Rulebook
}

// Find looks at every policy that is enforced now, or will be by the instant by, and at everybody whom it is for. What people have now
// counts, and what is demanded then. Whoever is named is stopped for that reason by some possible sign-on: one that takes the case, and
// that no other policy stops. Where people come from a program, or the context is done, that is not looked into.
func Find(ctx context.Context, rules *briskwarden.Rulebook, by time.Time) (*Report, error) {
	e := bridge.Engine(rules)
	f := &finder{engine: e, rb: e.Rulebook(), now: e.Now(), by: by, devices: map[string][]string{}, shared: map[*rulebook.Case][]string{}, waived: map[*rulebook.Policy][][]*rulebook.Waiver{}, seen: map[gapKey]int{}}
	for id, d := range f.rb.Devices {
		f.devices[d.Owner] = append(f.devices[d.Owner], id)
	}
	people := make([]*rulebook.Person, 0, len(f.rb.People))
	for _, p := range f.rb.People {
		if !p.BreakGlass && p.Active != known.False {
			people = append(people, p)
		}
	}
	for _, ids := range f.devices {
		slices.Sort(ids)
	}
	slices.SortFunc(people, func(a, b *rulebook.Person) int { return cmp.Compare(a.ID, b.ID) })
	for _, policy := range f.rb.Policies {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		for _, person := range people {
			if policy.Who.Holds(person) {
				f.look(policy, person)
			}
		}
	}
	gaps, err := f.confirmed(ctx)
	if err != nil {
		return nil, err
	}
	return &Report{f.now, by, gaps, len(f.rb.People), f.rb}, nil
}

type finder struct {
	engine  *engine.Engine
	rb      *rulebook.Rulebook
	now, by time.Time
	devices map[string][]string // by owner; those of nobody, which anybody may use, under ""
	shared  map[*rulebook.Case][]string
	gaps    []Gap
	planner demand.Planner
	waived  map[*rulebook.Policy][][]*rulebook.Waiver
	seen    map[gapKey]int // where it stands in gaps
}

// enforced is when the policy begins to be enforced for the person: now, or a date up to by.
func (f *finder) enforced(p *rulebook.Policy, person *rulebook.Person) (time.Time, bool) {
	times := []time.Time{f.now}
	for _, s := range p.Stages {
		if s.From.After(f.now) && !s.From.After(f.by) {
			times = append(times, s.From)
		}
	}
	slices.SortFunc(times, time.Time.Compare)
	for _, t := range times {
		if p.StageOf(person, t) == rulebook.Enforce {
			return t, true
		}
	}
	return time.Time{}, false
}

func (f *finder) look(p *rulebook.Policy, person *rulebook.Person) {
	start, enforced := f.enforced(p, person)
	if !enforced {
		return
	}
	for _, waivers := range f.waivers(p) {
		for i := range p.Cases {
			if k := &p.Cases[i]; k.Demand != nil {
				f.from(p, k, person, waivers, start)
			}
		}
	}
}

// waivers are those that some app of a policy has, in every combination that some app has.
func (f *finder) waivers(p *rulebook.Policy) (lists [][]*rulebook.Waiver) {
	if known, asked := f.waived[p]; asked {
		return known
	}
	seen := map[string]bool{}
	for _, name := range f.rb.AppNames() {
		app := f.rb.Apps[name]
		if !p.To.Holds(app) {
			continue
		}
		var list []*rulebook.Waiver
		key := ""
		for i, w := range f.rb.Waivers {
			if w.To.Holds(app) {
				list, key = append(list, w), fmt.Sprint(key, " ", i)
			}
		}
		if !seen[key] {
			seen[key] = true
			lists = append(lists, list)
		}
	}
	f.waived[p] = lists
	return lists
}

// from finds from when on a person is stopped: once the policy is enforced, or a waiver ends.
func (f *finder) from(p *rulebook.Policy, k *rulebook.Case, person *rulebook.Person, waivers []*rulebook.Waiver, start time.Time) {
	instants := []time.Time{start}
	for _, w := range waivers {
		if w.Until.After(start) && !w.Until.After(f.by) {
			instants = append(instants, w.Until)
		}
	}
	slices.SortFunc(instants, time.Time.Compare)
	methods, device := false, false
	for _, at := range instants {
		terms := &demand.Terms{Enforced: p.EnforcedFrom(person), Lifts: f.engine.LiftsFor(waivers, person, at)}
		methods = methods || f.methods(p, k, person, terms, at)
		device = device || f.device(p, k, person, terms, at)
	}
}

// posture stands in for the device at hand.
type posture bool

// Meets says the same of every baseline.
func (p posture) Meets(int) bool { return bool(p) }

// nobody may enrol while it is asked what is enrolled.
type nobody struct{}

// MayEnrol is false.
func (nobody) MayEnrol() bool { return false }

func (f *finder) proof(person *rulebook.Person, at time.Time, device bool) *demand.Proof {
	return &demand.Proof{Methods: f.rb.Methods, Enrolled: person.Methods, Now: at, Joined: person.JoinedDay, Posture: posture(device), Enrolment: nobody{}}
}

// methods finds what the person is not enrolled in: already, or once a grace has ended.
func (f *finder) methods(p *rulebook.Policy, k *rulebook.Case, person *rulebook.Person, terms *demand.Terms, start time.Time) (found bool) {
	proof := f.proof(person, start, true)
	if !k.Demand.CanBeMet(proof, terms) {
		plan := f.planner.Together(proof, []demand.Asked{{Demand: k.Demand, Terms: terms}})
		f.add(p, k, person, Gap{Missing: f.names(plan.Enrol), Deadline: start})
		return true
	}
	for _, g := range k.Demand.Graces(proof, terms) {
		f.add(p, k, person, Gap{Missing: g.Method.Name, Deadline: g.Deadline})
		found = true
	}
	return found
}

// names tells alternatives: "passkey, or password and app-code".
func (f *finder) names(sets []demand.Set) string {
	var alternatives []string
	for _, set := range sets {
		var names []string
		set.Each(func(id int) { names = append(names, f.rb.Methods.All()[id].Name) })
		alternatives = append(alternatives, strings.Join(names, " and "))
	}
	return strings.Join(alternatives, alternatively)
}

// alternatively stands between what each would do alone.
const alternatively = ", or "

// device finds people of whose devices none meets what the demand cannot do without.
func (f *finder) device(p *rulebook.Policy, k *rulebook.Case, person *rulebook.Person, terms *demand.Terms, start time.Time) (found bool) {
	if !k.Demand.CanBeMet(f.proof(person, start, true), terms) || k.Demand.CanBeMet(f.proof(person, start, false), terms) {
		return false
	}
	var wrong []string
	ids := f.devices[person.ID]
	for _, id := range ids {
		failed, asked := f.engine.FailedChecks(person, f.rb.Devices[id], k, k.Demand.Baselines(), f.now)
		if !asked {
			continue
		}
		if len(failed) == 0 {
			return false
		}
		wrong = append(wrong, id+": "+strings.Join(failed, ", "))
	}
	if f.mayShare(k, person) {
		return false
	}
	if len(wrong) == 0 && len(ids) > 0 {
		return false // the case is not about the devices that they have
	}
	if len(wrong) == 0 {
		wrong = []string{"no device in the inventory"}
	}
	f.add(p, k, person, Gap{Missing: strings.Join(wrong, "; "), Device: true, Deadline: start})
	return true
}

// mostShared is how many devices of nobody are looked at for each person.
const mostShared = 100

// mayShare reports whether one of the devices that nobody owns would do, of the first that meet
// what the case asks.
func (f *finder) mayShare(k *rulebook.Case, person *rulebook.Person) bool {
	fit, looked := f.shared[k]
	if !looked {
		for _, id := range f.devices[""] {
			if failed, _ := f.engine.FailedChecks(person, f.rb.Devices[id], nil, k.Demand.Baselines(), f.now); len(failed) == 0 && len(fit) < mostShared {
				fit = append(fit, id)
			}
		}
		f.shared[k] = fit
	}
	return slices.ContainsFunc(fit, func(id string) bool {
		failed, asked := f.engine.FailedChecks(person, f.rb.Devices[id], k, k.Demand.Baselines(), f.now)
		return asked && len(failed) == 0
	})
}

func (f *finder) add(p *rulebook.Policy, k *rulebook.Case, person *rulebook.Person, g Gap) {
	if !g.Deadline.After(f.now) {
		g.Deadline = time.Time{}
	}
	at := p.Decl.Name.Pos
	g.Person, g.Policy, g.PolicyAt, g.Case, g.Asks, g.kase = person.ID, p.Name, at.InFile(), k.Label, k.Demand.Text, k
	for _, id := range person.Groups {
		g.Groups = append(g.Groups, f.rb.Groups.Name(id))
	}
	same := gapKey{p, k, g.Person, g.Missing, g.Device}
	if i, there := f.seen[same]; there { // at another app, where other waivers are in force
		if first := &f.gaps[i]; g.Deadline.IsZero() || !first.Deadline.IsZero() && g.Deadline.Before(first.Deadline) {
			first.Deadline = g.Deadline
		}
		return
	}
	f.seen[same] = len(f.gaps)
	f.gaps = append(f.gaps, g)
}

// gapKey tells gaps apart but for when they begin.
type gapKey struct {
	policy          *rulebook.Policy
	kase            *rulebook.Case
	person, missing string
	device          bool
}
