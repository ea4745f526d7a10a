package replay

// What two rulebooks decide differently about logs.

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/go-json-experiment/json"

	"briskwarden.example/briskwarden"
	"briskwarden.example/briskwarden/internal/bridge"
	"briskwarden.example/briskwarden/internal/engine"
	"briskwarden.example/briskwarden/internal/history"
	"briskwarden.example/briskwarden/internal/rulebook"
	"briskwarden.example/briskwarden/signon"
)

// learner is one of two rulebooks that are compared, with a history of its own.
type learner struct {
	engine *engine.Engine
	past   *history.Past
}

func newLearner(rules *briskwarden.Rulebook) learner {
	e, past := bridge.Engine(rules).Learning()
	return learner{e, past}
}

// Comparison is what two rulebooks decide differently about a log.
type Comparison struct {
	Difference            // of sign-ons
	Consents   Difference // of requests for consent, which count nowhere else
	Refused    int        // that one of the two could not decide
	BadLines   int
	Bad        []BadLine
}

// Difference is what changes of sign-ons, or of requests for consent.
type Difference struct {
	Compared int
	From     Table    // by the outcome of the old rulebook, and of the new
	Groups   []*Group // of what changes, the largest first
	People   map[string]*PersonTally
	Changes  Spread // of those that change, by what they come to
	Span

	groups map[string]*Group
}

func newDifference(zone *time.Location) Difference {
	return Difference{People: map[string]*PersonTally{}, Changes: newSpread(zone), groups: map[string]*Group{}}
}

// Group are the sign-ons that change in the same way for the same reason.
type Group struct {
	From, To signon.Outcome
	Because  []string // the cases that make the difference, and what is different about them
	Count    int
	People   map[string]int
	Examples []Example // the first few
}

// Example is one sign-on of a group.
type Example struct {
	ID   string    `json:"id,omitzero"`
	User string    `json:"user"`
	App  string    `json:"app"`
	Time time.Time `json:"time"`
	At   string    `json:"at"` // file:line of the log
}

// mostExamples is how many examples of a group are kept.
const mostExamples = 3

// Compare takes logs through two rulebooks, as [Run] does through one. What the decisions option
// takes are the changes; the other options narrow by the new rulebook.
func Compare(ctx context.Context, before, after *briskwarden.Rulebook, logs []Log, options Options) (*Comparison, error) {
	shared := &comparing{ctx: ctx, learners: [2]learner{newLearner(before), newLearner(after)}}
	older, newer := shared.learners[0].engine.Rulebook(), shared.learners[1].engine.Rulebook()
	if err := options.bind(newer); err != nil {
		return nil, err
	}
	shared.options, shared.difference = options, differences(older, newer)
	workers, all, err := runPipeline(ctx, logs, options, func() *comparer { return newComparer(shared) })
	if err != nil {
		return nil, err
	}
	c := workers[0].counted
	for _, w := range workers[1:] {
		c.add(w.counted)
	}
	c.sort()
	c.Consents.sort()
	c.Bad, c.BadLines = all.orderer.bad, all.orderer.badAll
	return c, nil
}

// sort puts the groups in their order.
func (d *Difference) sort() {
	for _, g := range d.groups {
		d.Groups = append(d.Groups, g)
	}
	slices.SortFunc(d.Groups, func(a, b *Group) int {
		return cmp.Or(b.Count-a.Count, int(a.To)-int(b.To), int(a.From)-int(b.From), slices.Compare(a.Because, b.Because))
	})
}

// comparing is what the workers of a comparison share.
type comparing struct {
	ctx        context.Context
	learners   [2]learner // by the old rulebook and by the new
	options    Options
	difference [2]map[string]string // by case, of the old rulebook and of the new
}

// differences says of every case what is different about it in the other rulebook.
func differences(before, after *rulebook.Rulebook) (d [2]map[string]string) {
	mine, theirs := caseTexts(before), caseTexts(after)
	word := [2][2]string{{"is gone", "with its policy"}, {"is new", "with its policy"}}
	for i, pair := range [2][2]map[string]string{{mine, theirs}, {theirs, mine}} {
		d[i] = map[string]string{}
		for name, text := range pair[0] {
			other, there := pair[1][name]
			policy, _, _ := strings.Cut(name, " ")
			switch otherPolicy, samePolicy := pair[1][policy]; {
			case !samePolicy:
				d[i][name] = word[i][0] + " " + word[i][1]
			case !there:
				d[i][name] = word[i][0]
			case other != text:
				d[i][name] = "is different"
			case otherPolicy != pair[0][policy]:
				d[i][name] = "stands in a policy whose people, apps or stages are different"
			default:
				d[i][name] = "is the same, but other things have changed"
			}
		}
	}
	return d
}

// caseTexts are what decides in every case, by policy and label; under the policy's name
// alone, for whom and what it is.
func caseTexts(rb *rulebook.Rulebook) map[string]string {
	texts := map[string]string{}
	for _, p := range rb.Policies {
		texts[p.Name] = p.CanonicalScope()
		for i := range p.Cases {
			texts[caseName(p, &p.Cases[i])] = p.CanonicalCase(&p.Cases[i])
		}
	}
	return texts
}

func caseName(p *rulebook.Policy, k *rulebook.Case) string {
	return fmt.Sprintf("%s %q", p.Name, k.Label)
}

// comparer compares sign-ons, those of one user in their order.
type comparer struct {
	*comparing
	counted    *Comparison
	prefetcher prefetcher
	sides      [2]side
}

// side is what one rulebook made of the sign-on at hand.
type side struct {
	engine.Trace
	deciding []string
}

func newComparer(shared *comparing) *comparer {
	zone := shared.learners[1].engine.Rulebook().Zone
	return &comparer{comparing: shared, counted: &Comparison{Difference: newDifference(zone), Consents: newDifference(zone)}}
}

// decides notes what decided.
func (s *side) decides() {
	s.deciding = s.deciding[:0]
	for i := range s.Cases {
		if step := &s.Cases[i]; step.Decides {
			s.deciding = append(s.deciding, caseName(step.Policy, step.Case))
		}
	}
	if s.Ground != signon.GroundPolicies {
		s.deciding = append(s.deciding, s.Ground.String())
	}
}

func (c *comparer) process(partition []*entry) error {
	for entries := range slices.Chunk(partition, batchSize) {
		c.prefetcher.touch(entries)
		for _, t := range entries {
			if err := c.compare(t); err != nil {
				return err
			}
		}
	}
	return nil
}

func (c *comparer) compare(t *entry) error {
	for i := range c.learners {
		if err := c.learners[i].engine.Trace(c.ctx, &t.SignOn, &c.sides[i].Trace); err != nil {
			c.counted.Refused++
			return nil
		}
	}
	before, after := &c.sides[0], &c.sides[1]
	if c.options.asks(&t.SignOn, after.Person, after.Outcome) {
		if err := c.count(t, before.Outcome, after.Outcome); err != nil {
			return err
		}
	}
	for i := range c.learners {
		if s := &c.sides[i]; c.options.teaches(t, s.Outcome) {
			c.learners[i].past.Learn(&s.Past)
		}
	}
	return nil
}

func (c *comparer) count(t *entry, from, to signon.Outcome) error {
	n := &c.counted.Difference
	if t.Action == rulebook.Consent {
		n = &c.counted.Consents
	}
	n.Compared++
	n.From[from][to]++
	n.cover(Span{t.Time, t.Time})
	if from == to {
		return nil
	}
	for i := range c.sides {
		c.sides[i].decides()
	}
	because := c.because(to.StricterThan(from))
	key := fmt.Sprint(from, to, because)
	g, ok := n.groups[key]
	if !ok {
		g = &Group{From: from, To: to, Because: because, People: map[string]int{}}
		n.groups[key] = g
	}
	g.Count++
	g.People[t.User]++
	e := Example{t.ID, t.User, t.App, t.Time, t.Place()}
	g.keep(e)
	n.Changes.count(&t.SignOn, to)
	person := at(n.People, t.User)
	person.Outcomes[to]++
	if to.StricterThan(from) {
		person.Stricter++
	} else {
		person.Looser++
	}
	if c.options.Decisions == nil {
		return nil
	}
	var err error
	t.decision, err = json.Marshal(struct {
		Example
		From    signon.Outcome `json:"from"`
		To      signon.Outcome `json:"to"`
		Because []string       `json:"because"`
	}{e, from, to, because})
	return err
}

// because tells what makes the difference: what decides now that did not before, or, where
// the new outcome is looser, what no longer does.
func (c *comparer) because(stricter bool) (list []string) {
	side, other := 1, 0
	if !stricter {
		side, other = 0, 1
	}
	for _, name := range c.sides[side].deciding {
		if difference, isCase := c.difference[side][name]; isCase {
			name += " " + difference
		} else if slices.Contains(c.sides[other].deciding, name) {
			continue
		}
		list = append(list, name)
	}
	if len(list) == 0 {
		list = []string{"what is known of the sign-on has changed"}
	}
	return list
}

// keep keeps the first examples by time.
func (g *Group) keep(e Example) {
	i, _ := slices.BinarySearchFunc(g.Examples, e, func(a, b Example) int {
		return cmp.Or(a.Time.Compare(b.Time), cmp.Compare(a.At, b.At))
	})
	if i < mostExamples {
		g.Examples = slices.Insert(g.Examples, i, e)
		g.Examples = g.Examples[:min(len(g.Examples), mostExamples)]
	}
}

func (c *Comparison) add(o *Comparison) {
	c.Refused += o.Refused
	c.Difference.add(&o.Difference)
	c.Consents.add(&o.Consents)
}

func (d *Difference) add(o *Difference) {
	d.Compared += o.Compared
	d.cover(o.Span)
	d.Changes.add(&o.Changes)
	d.From.add(&o.From)
	addPeople(d.People, o.People)
	for key, theirs := range o.groups {
		g, ok := d.groups[key]
		if !ok {
			d.groups[key] = theirs
			continue
		}
		g.Count += theirs.Count
		for u, k := range theirs.People {
			g.People[u] += k
		}
		for _, e := range theirs.Examples {
			g.keep(e)
		}
	}
}
