// Package review tells what a change to a rulebook does, for whoever looks at it before it counts, as the command "brisk review"
// does: what check finds newly, expectations and promises that changed their answer, every way in which some possible sign-on
// comes out differently, what a log would have felt, and who is no longer ready; the worst first.
//
//	r, err := review.Change(ctx, before, after, review.Options{})
//	…
//	if r.Loosens() { fmt.Println(r.Sentence()) }
package review

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"briskwarden.example/briskwarden"
	"briskwarden.example/briskwarden/expect"
	"briskwarden.example/briskwarden/findings"
	"briskwarden.example/briskwarden/internal/bridge"
	"briskwarden.example/briskwarden/internal/spell"
	"briskwarden.example/briskwarden/prove"
	"briskwarden.example/briskwarden/ready"
	"briskwarden.example/briskwarden/replay"
	"briskwarden.example/briskwarden/signon"
)

// Options say how a change is looked at.
type Options struct {
	Span     prove.Span    // of the possible sign-ons; the zero Span is a year from what the new rulebook's clock says
	Within   time.Duration // that what is proved may take, each of promises and differences; 0 is any
	Ready    time.Duration // who is not ready by then; 0 is 30 days
	Logs     []replay.Log
	Progress func(signOns int) // of the logs, as in [replay.Options]
}

// limited is a context for what is proved.
func (o *Options) limited(ctx context.Context) (context.Context, context.CancelFunc) {
	if o.Within <= 0 {
		return ctx, func() {}
	}
	return context.WithTimeout(ctx, o.Within)
}

// Review is what a change does.
type Review struct {
	Declarations []Declared         `json:"declarations"` // that are new, gone or different
	New          []findings.Finding `json:"findings"`
	Gone         []findings.Finding `json:"findings_gone"`
	Expectations []Changed          `json:"expectations"`
	Promises     []Changed          `json:"promises"`
	Differences  *prove.Comparison  `json:"differences"`
	Outside      []Declared         `json:"outside"` // declarations by which somebody else is believed, may ask, reviews or is not noticed, or an address is another app
	Log          *replay.Comparison `json:"log,omitempty"`
	Unready      []Unready          `json:"unready"`
}

// Declared is a declaration that is new, gone or different.
type Declared struct {
	What   string   `json:"what"`          // such as "policy roster-away"
	Change string   `json:"change"`        // [New], [Gone] or [Different]
	At     string   `json:"at"`            // file:line, of the old rulebook where it is gone; empty where its words are as they were
	Why    []string `json:"why,omitempty"` // what it does that it did not; of [Review.Outside]
}

// What became of a declaration.
const (
	New       = "new"
	Gone      = "gone"
	Different = "different"
	Reaches   = "reaches" // its words are as they were, and not what they stand for
)

// Changed is an expectation or a promise that changed its answer.
type Changed struct {
	Name   string `json:"name"`
	At     string `json:"at"`
	Before string `json:"before"` // holds, fails, broken, undecided; empty is that there was none
	After  string `json:"after"`
	Why    string `json:"why,omitzero"`
}

// Worse reports an answer that is not what it should be, and was, or was not asked.
func (c *Changed) Worse() bool { return c.After != holds && c.After != "" }

const holds = "holds"

// Unready is somebody who would be stopped by then, and was not before.
type Unready struct {
	User     string    `json:"user"`
	From     time.Time `json:"from,omitzero"` // zero is already
	Policies []string  `json:"policies"`
}

// Change looks at what changed from one rulebook to another.
func Change(ctx context.Context, before, after *briskwarden.Rulebook, o Options) (*Review, error) {
	span, err := o.Span.Of(bridge.Engine(after).Now())
	if err != nil {
		return nil, err
	}
	o.Span = span
	r := &Review{Declarations: declarations(before, after)}
	r.Outside = outside(before, after, r.Declarations)
	for _, look := range []func(context.Context, *briskwarden.Rulebook, *briskwarden.Rulebook, Options) error{r.findings, r.expectations, r.promises, r.differences, r.readiness} {
		if err := look(ctx, before, after, o); err != nil {
			return nil, err
		}
	}
	if len(o.Logs) > 0 {
		if r.Log, err = replay.Compare(ctx, before, after, o.Logs, replay.Options{Progress: o.Progress}); err != nil {
			return nil, err
		}
	}
	return r, nil
}

// findings are told apart by what they say, and not by where: lines move.
func (r *Review) findings(ctx context.Context, before, after *briskwarden.Rulebook, _ Options) error {
	was, err := findings.Of(ctx, before, findings.Options{})
	if err != nil {
		return err
	}
	is, err := findings.Of(ctx, after, findings.Options{})
	if err != nil {
		return err
	}
	r.New, r.Gone = without(is.Findings, was.Findings), without(was.Findings, is.Findings)
	return nil
}

func without(list, others []findings.Finding) []findings.Finding {
	said := func(f *findings.Finding) string { return f.Code + "\x00" + f.File + "\x00" + f.Message }
	known := map[string]int{}
	for i := range others {
		known[said(&others[i])]++
	}
	rest := []findings.Finding{}
	for i := range list {
		if key := said(&list[i]); known[key] > 0 {
			known[key]--
			continue
		}
		rest = append(rest, list[i])
	}
	return rest
}

func (r *Review) expectations(ctx context.Context, before, after *briskwarden.Rulebook, _ Options) error {
	was, err := expect.Run(ctx, before)
	if err != nil {
		return err
	}
	is, err := expect.Run(ctx, after)
	if err != nil {
		return err
	}
	answer := func(e *expect.Result) Changed {
		if e.Passed {
			return Changed{Name: e.Name, At: e.At, After: holds}
		}
		return Changed{Name: e.Name, At: e.At, After: "fails", Why: strings.Join(e.Failed, "; ")}
	}
	r.Expectations = changed(was.Expectations, is.Expectations, answer)
	return nil
}

func (r *Review) promises(ctx context.Context, before, after *briskwarden.Rulebook, o Options) error {
	ctx, cancel := o.limited(ctx)
	defer cancel()
	was, err := prove.Promises(ctx, before, o.Span)
	if err != nil {
		return err
	}
	is, err := prove.Promises(ctx, after, o.Span)
	if err != nil {
		return err
	}
	answer := func(p *prove.Proof) Changed {
		c := Changed{Name: p.Promise, At: p.At, After: string(p.Answer), Why: p.Hard}
		if people, apps := p.Reach(); len(people) > 0 {
			c.Why = fmt.Sprintf("by %s at %s", spell.Few(people, 4), spell.Few(apps, 4))
		}
		return c
	}
	r.Promises = changed(was.Promises, is.Promises, answer)
	return nil
}

// changed are the answers that differ, the worse ones first.
func changed[T any](was, is []T, answer func(*T) Changed) []Changed {
	before := map[string]Changed{}
	for i := range was {
		c := answer(&was[i])
		before[c.Name] = c
	}
	list := []Changed{}
	for i := range is {
		c := answer(&is[i])
		old, there := before[c.Name]
		delete(before, c.Name)
		if c.Before = old.After; !there && c.Worse() || there && old.After != c.After {
			list = append(list, c)
		}
	}
	for i := range was { // in their order
		if old, gone := before[answer(&was[i]).Name]; gone {
			list = append(list, Changed{Name: old.Name, At: old.At, Before: old.After})
		}
	}
	slices.SortStableFunc(list, func(a, b Changed) int { return cmp.Compare(rank(&a), rank(&b)) })
	return list
}

func rank(c *Changed) int {
	switch {
	case c.Worse():
		return 0
	case c.After == "":
		return 1
	}
	return 2
}

func (r *Review) differences(ctx context.Context, before, after *briskwarden.Rulebook, o Options) (err error) {
	ctx, cancel := o.limited(ctx)
	defer cancel()
	r.Differences, err = prove.Compare(ctx, before, after, o.Span, prove.Scope{})
	return err
}

// month is until when people must be ready.
const month = 30 * 24 * time.Hour

func (r *Review) readiness(ctx context.Context, before, after *briskwarden.Rulebook, o Options) error {
	by := o.Span.From.Add(cmp.Or(o.Ready, month))
	was, err := ready.Find(ctx, before, by)
	if err != nil {
		return err
	}
	is, err := ready.Find(ctx, after, by)
	if err != nil {
		return err
	}
	stopped := map[string]bool{}
	for _, p := range was.People() {
		stopped[p.ID] = true
	}
	r.Unready = []Unready{}
	for _, p := range is.People() {
		if !stopped[p.ID] {
			r.Unready = append(r.Unready, Unready{p.ID, p.Deadline, p.Policies()})
		}
	}
	return nil
}

// Loosens reports whether some possible sign-on gets further than before, or nobody worked out in time whether one does; whether a
// promise that held holds no longer, or is gone; whether a session may last longer; or whether somebody else is believed, or an address is another app.
func (r *Review) Loosens() bool {
	return len(r.ways().looser)+len(r.ways().longer) > 0 || r.Differences.Undecided != "" || len(r.Outside) > 0 ||
		slices.ContainsFunc(r.Promises, func(c Changed) bool { return c.Before == holds })
}

// ways are the differences that loosen, those that let the furthest first, and those that tighten; those of sessions apart.
type ways struct{ looser, stricter, longer, shorter []*prove.Difference }

func (r *Review) ways() (w ways) {
	for i := range r.Differences.Differences {
		switch d := &r.Differences.Differences[i]; {
		case d.Session != nil && d.Looser():
			w.longer = append(w.longer, d)
		case d.Session != nil:
			w.shorter = append(w.shorter, d)
		case d.Looser():
			w.looser = append(w.looser, d)
		default:
			w.stricter = append(w.stricter, d)
		}
	}
	slices.SortStableFunc(w.looser, func(a, b *prove.Difference) int {
		return cmp.Or(strictness(a.To)-strictness(b.To), strictness(b.From)-strictness(a.From), len(b.People)-len(a.People))
	})
	return w
}

// strictness counts the outcomes that are looser than one.
func strictness(o signon.Outcome) (n int) {
	for _, other := range []signon.Outcome{signon.Grant, signon.Review, signon.StepUp} {
		if o.StricterThan(other) {
			n++
		}
	}
	return n
}

// Spans says for which sign-ons the review speaks.
func (r *Review) Spans() string {
	const layout = "2006-01-02 15:04"
	d := r.Differences
	text := fmt.Sprintf("It speaks of sign-ons from %s to %s.", d.From.Format(layout), d.Until.Format(layout))
	if n := len(d.Past); n > 0 {
		text += fmt.Sprintf(" What begins or ends on %s after that is not looked at.", spell.Plural(n, "date"))
	}
	return text
}

// Sentence says what the change does, in one.
func (r *Review) Sentence() string {
	var parts []string
	add := func(before string, n int, one, after string) {
		if n > 0 {
			parts = append(parts, before+spell.Plural(n, one)+after)
		}
	}
	w := r.ways()
	add("loosens in ", len(w.looser), "way", reach(w.looser))
	add("tightens in ", len(w.stricter), "way", reach(w.stricter))
	add("lets sessions last longer in ", len(w.longer), "way", reach(w.longer))
	add("ends sessions sooner in ", len(w.shorter), "way", reach(w.shorter))
	add("", worse(r.Promises), "promise", " not kept")
	add("", gone(r.Promises), "promise", " gone")
	add("", len(r.Outside), "declaration", " of what comes from outside changed")
	add("", worse(r.Expectations), "expectation", " not met")
	add("", len(r.New), "new finding", "")
	add("", len(r.Unready), "person", " no longer ready")
	if r.Differences.Undecided != "" {
		parts = append(parts, "not all of it worked out in time")
	}
	switch {
	case len(parts) > 0 && len(r.Differences.Differences) > 0:
		return "It " + strings.Join(parts, "; ") + "."
	case len(parts) > 0:
		return "No possible sign-on is known to come out differently; but: " + strings.Join(parts, "; ") + "."
	case len(r.Declarations) == 0:
		return "No declaration changes, and no possible sign-on comes out differently."
	}
	return fmt.Sprintf("The words change (%s), and no possible sign-on comes out differently.", spell.Plural(len(r.Declarations), "declaration"))
}

// reach says for how many people and at how many apps something comes out differently.
func reach(list []*prove.Difference) string {
	people, apps := map[string]bool{}, map[string]bool{}
	for _, d := range list {
		for _, p := range d.People {
			people[p] = true
		}
		for _, a := range d.Apps {
			apps[a] = true
		}
	}
	return fmt.Sprintf(" (%s, %s)", spell.Plural(len(people), "person"), spell.Plural(len(apps), "app"))
}

// gone counts those that were kept, and are asked no more.
func gone(list []Changed) (n int) {
	for i := range list {
		if list[i].After == "" && list[i].Before == holds {
			n++
		}
	}
	return n
}

func worse(list []Changed) (n int) {
	for i := range list {
		if list[i].Worse() {
			n++
		}
	}
	return n
}
