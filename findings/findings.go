// Package findings has what the command "brisk check" tells: what is wrong with a rulebook, and
// what is no error and yet hardly meant.
//
//	report, err := findings.Read(ctx, os.DirFS("rules"), findings.Options{})
//	…
//	if report.Errors > 0 { … }
package findings

import (
	"context"
	"fmt"
	"io/fs"
	"time"

	"briskwarden.example/briskwarden"
	"briskwarden.example/briskwarden/internal/bridge"
	"briskwarden.example/briskwarden/internal/diag"
	"briskwarden.example/briskwarden/internal/engine"
	"briskwarden.example/briskwarden/internal/rulebook"
	"briskwarden.example/briskwarden/internal/schedule"
	"briskwarden.example/briskwarden/internal/spell"
)

// Options say how a rulebook is looked at.
type Options struct {
	At    string // the instant as of which, as the language writes it, in the rulebook's time zone; empty is now
	Exact bool   // go through every possible sign-on too
	Span  Span   // that Exact goes through
}

// Report is what was found about a rulebook. Its JSON is that of "brisk check --json".
type Report struct {
	Rulebook string    `json:"rulebook"` // the name that it gives itself
	Digest   string    `json:"digest"`   // "sha256:…" over every file that was read
	Errors   int       `json:"errors"`   // a rulebook with any never decides
	Warnings int       `json:"warnings"`
	Loaded   []Loaded  `json:"loaded"`   // the files that it points to
	Findings []Finding `json:"findings"` // by place
	Accepted []Finding `json:"accepted"` // warnings that a comment accepts, by place

	From      time.Time `json:"from,omitzero"`      // of every possible sign-on, where that was gone through
	Until     time.Time `json:"until,omitzero"`     // and before which
	Undecided string    `json:"undecided,omitzero"` // what of every possible sign-on was not worked out in time

	// Read tells what was read of the rulebook itself: "7 rulebook files", "12 policies" and so on.
	// It is not part of the JSON, and empty where there are errors.
	Read []string `json:"-"`
}

// Finding is one thing that was found.
type Finding struct {
	briskwarden.Problem `json:",embed"`
	Because             string `json:"because,omitzero"` // the reason of the comment that accepts it
}

// Loaded tells what was read of one file that the rulebook points to.
type Loaded struct {
	File  string  `json:"file"`
	Items []Tally `json:"items"`
	Aside []Tally `json:"aside,omitempty"` // what was in it and is not used
}

// Tally counts things of a kind.
type Tally struct {
	What  string `json:"what"` // one of them, such as "person"; of what was left aside, why, such as "not granted"
	Count int    `json:"count"`
}

// Read reads the rulebook in a file system, and finds what is wrong with it and what is hardly
// meant; the latter only where nothing is wrong. The error says that the options cannot be.
func Read(ctx context.Context, fsys fs.FS, o Options) (*Report, error) {
	rb := rulebook.Load(fsys, rulebook.Options{})
	return of(ctx, rb, fsys, func() *engine.Engine { return engine.New(rb, engine.Sources{}) }, time.Now, o)
}

// Of finds what is hardly meant about a rulebook that is open, by its clock. Its files are not read again, so that of its
// alerts it is not told how often they would have been sent.
func Of(ctx context.Context, rules *briskwarden.Rulebook, o Options) (*Report, error) {
	e := bridge.Engine(rules)
	return of(ctx, e.Rulebook(), nil, func() *engine.Engine { return e }, e.Now, o)
}

func of(ctx context.Context, rb *rulebook.Rulebook, files fs.FS, compiled func() *engine.Engine, clock func() time.Time, o Options) (*Report, error) {
	list, taken, span, undecided := rb.Diagnostics, []accepted(nil), [2]time.Time{}, ""
	if list.Count(diag.Error) == 0 {
		now := clock()
		if o.At != "" {
			var err error
			if now, err = schedule.ParseInstant(o.At, rb.Zone); err != nil {
				return nil, fmt.Errorf("--at: %w", err)
			}
		}
		var err error
		if list, taken, span, undecided, err = check(ctx, rb, compiled, files, now, o); err != nil {
			return nil, err
		}
	}
	if err := ctx.Err(); err != nil {
		return nil, err
	}
	r := &Report{Rulebook: rb.Name, Digest: rb.Digest, Errors: list.Count(diag.Error), Warnings: list.Count(diag.Warning),
		Loaded: []Loaded{}, Findings: []Finding{}, Accepted: []Finding{}, From: span[0], Until: span[1], Undecided: undecided}
	if r.Errors == 0 {
		r.Read = readOf(rb)
	}
	for _, l := range rb.Loaded {
		r.Loaded = append(r.Loaded, Loaded{l.File, talliesOf(l.Items), talliesOf(l.Aside)})
	}
	for _, d := range list {
		r.Findings = append(r.Findings, findingOf(rb, d, ""))
	}
	for _, a := range taken {
		r.Accepted = append(r.Accepted, findingOf(rb, a.Diagnostic, a.because))
	}
	return r, nil
}

func findingOf(rb *rulebook.Rulebook, d diag.Diagnostic, because string) Finding {
	return Finding{bridge.Problem(rb, d).(briskwarden.Problem), because}
}

func talliesOf(list []rulebook.Tally) []Tally {
	tallies := []Tally{}
	for _, t := range list {
		tallies = append(tallies, Tally{t.What, t.N})
	}
	return tallies
}

// readOf counts what a rulebook has.
func readOf(rb *rulebook.Rulebook) (list []string) {
	for _, x := range []struct {
		n    int
		what string
	}{{len(rb.Files), "rulebook file"}, {len(rb.Policies), "policy"}, {len(rb.Waivers), "waiver"}, {len(rb.Apps), "app"}, {len(rb.People), "person"},
		{len(rb.Groups.Names()), "group"}, {len(rb.Expects), "expectation"}} {
		list = append(list, spell.Plural(x.n, x.what))
	}
	return list
}
