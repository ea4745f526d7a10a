// Package briskwarden decides who may sign on to what, from where, when, on which device, at
// which risk and with which proof, by conditional sign-on policies that are text files.
//
//	rules, err := briskwarden.Open("rules")
//	…
//	decision, err := rules.Decide(signon.SignOn{User: "mira.holt", App: "crew-roster"})
//
// A [Rulebook] is immutable and safe for concurrent use. Decisions are deterministic, and a
// fact that is missing can only tighten them. Whatever goes wrong, the outcome is a block.
package briskwarden

import (
	"fmt"
	"io/fs"
	"os"
	"time"

	"briskwarden.example/briskwarden/internal/diag"
	"briskwarden.example/briskwarden/internal/directory"
	"briskwarden.example/briskwarden/internal/engine"
	"briskwarden.example/briskwarden/internal/findings"
	"briskwarden.example/briskwarden/internal/rulebook"
	"briskwarden.example/briskwarden/signon"
)

// Rulebook is a rulebook that was read, checked and compiled. It never changes.
type Rulebook struct {
	engine *engine.Engine
}

// Option says how a rulebook is opened.
type Option func(*settings)

type settings struct {
	load    rulebook.Options
	sources engine.Sources
}

// WithPeople adds the users of a program's own directory to those of the rulebook's files.
// A user that the rulebook's files declare is never looked up there. Names of users and
// groups that the rulebook alone does not know are then no errors.
func WithPeople(people People) Option {
	return func(s *settings) {
		s.load.OutsidePeople = true
		s.sources.People = outside{people}
	}
}

// WithClock sets the clock that decides on sign-ons which do not say when they are. The
// default is time.Now.
func WithClock(clock func() time.Time) Option {
	return func(s *settings) { s.sources.Clock = clock }
}

// Open reads the rulebook in a folder, which holds a file rulebook.warden at its top. Files
// outside the folder are never read. A rulebook with errors is a [*CheckError].
func Open(dir string, options ...Option) (*Rulebook, error) {
	root, err := os.OpenRoot(dir)
	if err != nil {
		return nil, fmt.Errorf("the rulebook cannot be opened: %w", err)
	}
	defer root.Close()
	return OpenFS(root.FS(), options...)
}

// OpenFS reads the rulebook in a file system, such as one embedded in a program. A rulebook
// with errors is a [*CheckError].
func OpenFS(fsys fs.FS, options ...Option) (*Rulebook, error) {
	var s settings
	for _, o := range options {
		o(&s)
	}
	rb := rulebook.Load(fsys, s.load)
	if rb.Diagnostics.Count(diag.Error) > 0 {
		return nil, &CheckError{Problems: problemsOf(rb.Diagnostics)}
	}
	return &Rulebook{engine: engine.New(rb, s.sources)}, nil
}

// Name is the name that the rulebook gives itself.
func (r *Rulebook) Name() string { return r.engine.Rulebook().Name }

// Digest names the exact content of the rulebook: "sha256:…" over every file that was read.
func (r *Rulebook) Digest() string { return r.engine.Rulebook().Digest }

// Warnings finds what stops nothing about the rulebook and is hardly meant: the same as the
// command "brisk check" reports, without those that a comment accepts. It looks through all people and policies each time.
func (r *Rulebook) Warnings() []Problem {
	list, _ := findings.Check(r.engine.Rulebook(), r.engine.Now())
	return problemsOf(list)
}

// Decide decides on a sign-on: the outcome, what was demanded and what the person can do
// next, without the explanation. The error says which field of the sign-on cannot be, as
// [signon.SignOn.Validate] does, or that the user cannot be looked up; the decision is then a block.
func (r *Rulebook) Decide(s signon.SignOn) (signon.Decision, error) {
	var d signon.Decision
	err := r.engine.Decide(&s, &d, false)
	return d, err
}

// DecideInto is [Rulebook.Decide] into a decision whose slices are used again, for programs
// that decide often: the usual decision then allocates nothing.
func (r *Rulebook) DecideInto(s *signon.SignOn, d *signon.Decision) error {
	return r.engine.Decide(s, d, false)
}

// Explain decides as [Rulebook.Decide] does, and explains the decision: which policies spoke,
// which stood by and why, the waivers in force, the policies on watch and the risk.
func (r *Rulebook) Explain(s signon.SignOn) (signon.Decision, error) {
	var d signon.Decision
	err := r.engine.Decide(&s, &d, true)
	return d, err
}

// Problem is something that was found about a rulebook.
type Problem struct {
	Code    string // names the kind of problem, and does not change from release to release
	Error   bool   // it is an error; otherwise a warning
	File    string // relative to the rulebook's folder
	Line    int    // from 1; 0 where the whole file is meant
	Column  int    // in characters, from 1
	Message string
	Help    string // what to do about it; may be empty
}

// String gives "file:line:column: message".
func (p Problem) String() string {
	if p.Line == 0 {
		return fmt.Sprintf("%s: %s", p.File, p.Message)
	}
	return fmt.Sprintf("%s:%d:%d: %s", p.File, p.Line, p.Column, p.Message)
}

func problemsOf(list diag.List) []Problem {
	var problems []Problem
	for _, d := range list {
		problems = append(problems, Problem{string(d.Code), d.Severity == diag.Error, d.Pos.File, int(d.Pos.Line), int(d.Pos.Column),
			d.Message, d.Help})
	}
	return problems
}

// CheckError says that a rulebook has errors, and is not fit to decide.
type CheckError struct {
	Problems []Problem // errors and warnings, by place
}

// Error gives the first error and how many more there are.
func (e *CheckError) Error() string {
	first, more := "", -1
	for _, p := range e.Problems {
		if p.Error {
			if more++; more == 0 {
				first = p.String()
			}
		}
	}
	if more > 0 {
		return fmt.Sprintf("the rulebook has errors: %s (and %d more)", first, more)
	}
	return "the rulebook has an error: " + first
}

// People looks up the users of a program's own directory. It is called from many goroutines at once.
type People interface {
	// Person finds a user by id, which compares exactly, case included: to find "bob" for
	// "BOB" would take him past what names him. An error blocks the sign-on at hand, and is
	// given back.
	Person(id string) (person Person, found bool, err error)
}

// Person is what a program's own directory knows of a user.
type Person struct {
	ID         string   // as the directory has it: one that is not the id asked for is an error; empty is that id
	Type       string   // employee, guest or service; empty is employee
	Groups     []string // direct ones; what the rulebook nests them in is added
	Methods    []string // those that the user is enrolled in
	Joined     time.Time
	Risk       string // none, low, medium or high; empty is none
	Disabled   bool
	Attributes map[string]any // by name without "user."; a string, bool or float64; a date is a string
}

type outside struct{ people People }

func (o outside) Person(id string) (directory.Person, bool, error) {
	p, found, err := o.people.Person(id)
	if err == nil && found && p.ID != "" && p.ID != id {
		return directory.Person{}, false, fmt.Errorf("the directory gave %q instead", p.ID)
	}
	p.ID = id
	return directory.Person(p), found, err
}
