// Package prove tells whether promises hold for every possible sign-on, as the command "brisk prove" does.
// What does not hold is shown by sign-ons that the rulebook itself has decided.
//
//	report, err := prove.Promises(ctx, rules, prove.Span{})
//	…
//	if !report.Holds() { t.Error(report) }
//
// Promises stand in the rulebook, or are given as it is opened, with [briskwarden.WithPromises].
package prove

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"
	"unicode/utf8"

	"briskwarden.example/briskwarden"
	"briskwarden.example/briskwarden/internal/bridge"
	"briskwarden.example/briskwarden/internal/engine"
	"briskwarden.example/briskwarden/internal/possible"
	"briskwarden.example/briskwarden/internal/rulebook"
	"briskwarden.example/briskwarden/internal/search"
	"briskwarden.example/briskwarden/signon"
)

// Span is which sign-ons count.
type Span struct {
	From       time.Time // the first instant; zero is what the rulebook's clock says
	Until      time.Time // the first instant after it; zero is 366 days after From
	AsEnforced bool      // policies on watch count as if they were enforced
}

// Default is how long a span is that does not say until when.
const Default = possible.DefaultSpan

// ErrSpan is the error of a span that ends before it begins, or is too long.
var ErrSpan = possible.ErrSpan

// Of is the span with what it leaves out, by what a clock says.
func (s Span) Of(now time.Time) (Span, error) {
	var err error
	s.From, s.Until, err = possible.Span(s.From, s.Until, now)
	return s, err
}

// Answer is what a proof comes to.
type Answer string

// The answers.
const (
	Holds     Answer = "holds"
	Broken    Answer = "broken"
	Undecided Answer = "undecided" // the time ran out
)

// Report is what was proved. Its JSON is that of "brisk prove --json".
type Report struct {
	Rulebook   string    `json:"rulebook"`
	Digest     string    `json:"digest"`
	From       time.Time `json:"from"`
	Until      time.Time `json:"until"`
	AsEnforced bool      `json:"as_enforced"`
	Promises   []Proof   `json:"promises"`
	Past       []Dated   `json:"dates_past"` // dates of the rulebook that lie past the span
}

// Proof is what came of one promise.
type Proof struct {
	Promise string `json:"promise"`
	At      string `json:"at"` // file:line; empty for one that stands in no file
	Answer  Answer `json:"answer"`
	Empty   bool   `json:"empty,omitzero"` // it says nothing: nothing can occur in its scope
	Broken  []Way  `json:"broken,omitempty"`
	Hard    string `json:"hard,omitzero"` // what made it hard, of one that is undecided

	file               string
	line, column, span int
}

// Way is how a promise is broken: by each of the people, at each of the apps, doing each of the actions.
type Way struct {
	People  []string       `json:"people"`
	Apps    []string       `json:"apps"`
	Actions []string       `json:"actions"`
	Outcome signon.Outcome `json:"outcome"`
	When    *string        `json:"when,omitempty"` // what all breaking sign-ons of them share; nil where that was not worked out
	By      []By           `json:"by"`
	Witness *signon.SignOn `json:"witness"`
	Decide  string         `json:"decide"` // the clauses of "brisk decide" for it; empty where they cannot say it

	brief string
}

// Brief is When without what goes without saying of the way's apps and actions.
func (w *Way) Brief() string { return w.brief }

// By is a case that decided, or what decided in place of policies: floor, unmatched or break-glass.
type By struct {
	Policy string `json:"policy"`
	Case   string `json:"case,omitzero"`
	At     string `json:"at,omitzero"` // file:line
}

// Holds reports whether all promises hold.
func (r *Report) Holds() bool {
	return !slices.ContainsFunc(r.Promises, func(p Proof) bool { return p.Answer != Holds })
}

// Promises proves the promises of a rulebook: those named, or where none is, all. It stops when the context
// is done; what is not decided by then says so.
func Promises(ctx context.Context, rules *briskwarden.Rulebook, span Span, names ...string) (*Report, error) {
	e := bridge.Engine(rules)
	span, err := span.Of(e.Now())
	if err != nil {
		return nil, err
	}
	rb := e.Rulebook()
	chosen, err := named(rb, names)
	if err != nil {
		return nil, err
	}
	p := &prover{ctx: ctx, engine: e, rb: rb, span: span}
	report := &Report{Rulebook: rb.Name, Digest: rb.Digest, From: span.From.In(rb.Zone), Until: span.Until.In(rb.Zone), AsEnforced: span.AsEnforced,
		Promises: []Proof{}, Past: datesPast(rb, span.Until)}
	if err := p.prepare(); err != nil {
		return givenUp(report, p, chosen, err)
	}
	quests := make([]search.Quest, len(chosen))
	for i, c := range chosen {
		quests[i] = &broken{p, c}
	}
	found, err := search.All(ctx, p.world, p.targets(chosen), quests)
	if err != nil {
		return givenUp(report, p, chosen, err)
	}
	ways, err := p.ways(found, p.targets(chosen))
	if err != nil {
		return nil, err
	}
	for i := range found {
		report.Promises = append(report.Promises, *p.proof(chosen[i], &found[i], ways[i]))
	}
	return report, nil
}

// givenUp is a report that decides nothing, where the error says that time or memory did not reach.
func givenUp(r *Report, p *prover, chosen []*rulebook.Promise, err error) (*Report, error) {
	var why *possible.GivenUp
	if !errors.As(err, &why) {
		return nil, err
	}
	for _, c := range chosen {
		proof := p.proof(c, &search.Found{}, nil)
		proof.Answer, proof.Hard = Undecided, why.Why
		r.Promises = append(r.Promises, *proof)
	}
	return r, nil
}

// prover proves promises of one rulebook.
type prover struct {
	ctx    context.Context
	engine *engine.Engine
	rb     *rulebook.Rulebook
	span   Span
	world  *possible.World
}

func (p *prover) prepare() (err error) {
	p.world, err = possible.New(p.ctx, []*engine.Engine{p.engine}, p.span.From, p.span.Until, [][]possible.Asked{asked(p.rb)})
	return err
}

// targets are the apps and actions that some promise is about.
func (p *prover) targets(promises []*rulebook.Promise) (list []search.Target) {
	actions := map[string]bool{}
	for _, x := range promises {
		for _, a := range x.Doing {
			actions[a] = true
		}
	}
	for _, app := range p.rb.AppNames() {
		for _, action := range p.rb.ActionNames() {
			if actions[action] {
				list = append(list, search.Target{App: app, Action: action})
			}
		}
	}
	return list
}

// proof is what came of a promise.
func (p *prover) proof(x *rulebook.Promise, f *search.Found, ways []Way) *Proof {
	proof := &Proof{Promise: x.Name, Answer: Holds, Empty: f.Empty && len(f.Hard) == 0, Broken: ways}
	if at := x.Decl.Name.Pos; !x.Asked {
		proof.At = at.InFile()
		proof.file, proof.line, proof.column, proof.span = at.File, int(at.Line), int(at.Column), utf8.RuneCountInString(x.Decl.Name.String())
	}
	if len(f.Hard) > 0 {
		proof.Answer, proof.Hard = Undecided, hard(f.Hard)
	}
	if len(ways) > 0 {
		proof.Answer = Broken
	}
	return proof
}

// ways are how each promise is broken, by what was found.
func (p *prover) ways(found []search.Found, targets []search.Target) ([][]Way, error) {
	batches, err := search.Gather(p.ctx, found)
	if err != nil {
		return nil, err
	}
	first := slices.Clone(batches)
	for i := range first {
		first[i].Entries = first[i].Entries[:min(len(first[i].Entries), mostShared)]
	}
	shared := search.Shared(p.ctx, p.world, first, traits(0, p.rb), targets)
	ways := make([][]Way, len(batches))
	for i := range batches {
		for k := range batches[i].Entries {
			way, err := p.way(&batches[i].Entries[k])
			if err != nil {
				return nil, err
			}
			if k < len(shared[i]) && shared[i][k] != nil {
				when, brief := told(shared[i][k])
				way.When, way.brief = &when, brief
			}
			ways[i] = append(ways[i], *way)
		}
	}
	return ways, nil
}

// mostShared is of how many entries it is worked out what their sign-ons have in common.
const mostShared = 10

// hard tells which questions could not be answered in time.
func hard(list []search.Hardship) string {
	h := list[0]
	if h.Variables == 0 {
		return fmt.Sprintf("%s (%s) and others were not come to in time; allow more time", h.App, h.Action)
	}
	text := fmt.Sprintf("%s (%s), where %d kinds of people matter: a formula of %d variables, given up after %d conflicts; allow more time", h.App, h.Action, h.Kinds, h.Variables, h.Conflicts)
	if more := len(list) - 1; more > 0 {
		text += fmt.Sprintf("; and %d more", more)
	}
	return text
}

// way tells an entry.
func (p *prover) way(e *search.Entry) (*Way, error) {
	w := &Way{People: e.People, Apps: e.Apps, Actions: e.Actions, Outcome: signon.Outcome(e.Way), Witness: &e.Witness}
	var err error
	if w.By, err = p.by(&e.Witness, w.Outcome); err != nil {
		return nil, err
	}
	inZone(&e.Witness, p.rb.Zone)
	if clauses, ok := rulebook.Clauses(&e.Witness); ok && p.gives(clauses, w.Outcome) {
		w.Decide = clauses
	}
	return w, nil
}

// gives reports whether the clauses tell a sign-on of that outcome.
func (p *prover) gives(clauses string, outcome signon.Outcome) bool {
	so, err := p.rb.TellClauses(clauses, p.span.From)
	if err != nil {
		return false
	}
	v, err := p.engine.Judge(p.ctx, &so, &engine.Question{Watched: p.span.AsEnforced})
	return err == nil && v.Outcome == outcome
}
