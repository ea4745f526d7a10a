// Package briskwarden decides who may sign on to what, from where, when, on which device, at
// which risk and with which proof, by conditional sign-on policies that are text files.
//
//	rules, err := briskwarden.Open("rules")
//	…
//	decision, err := rules.Decide(ctx, signon.SignOn{User: "mira.holt", App: "crew-roster"})
//
// A [Rulebook] is immutable and safe for concurrent use. Decisions are deterministic, and a
// fact that is missing can only tighten them. Whatever goes wrong, the outcome is a block.
package briskwarden

import (
	"context"
	"fmt"
	"io/fs"
	"log/slog"
	"os"

	"briskwarden.example/briskwarden/internal/bridge"
	"briskwarden.example/briskwarden/internal/diag"
	"briskwarden.example/briskwarden/internal/engine"
	"briskwarden.example/briskwarden/internal/history"
	"briskwarden.example/briskwarden/internal/rulebook"
	"briskwarden.example/briskwarden/signon"
)

// TopFile is the file at the top of a rulebook's folder.
const TopFile = "rulebook.warden"

// Rulebook is a rulebook that was read, checked and compiled. It never changes.
type Rulebook struct {
	engine  *engine.Engine
	history *history.Past // that is taught; nil for none
	logger  *slog.Logger
}

func init() {
	bridge.Engine = func(rules any) *engine.Engine { return rules.(*Rulebook).engine }
	bridge.Open = func(rb *rulebook.Rulebook) any {
		s := newSettings(nil)
		return &Rulebook{logger: s.logger, engine: engine.New(rb, s.sources)}
	}
	bridge.With = func(rules any, people map[string]*rulebook.Person) any {
		r := *rules.(*Rulebook)
		r.engine = r.engine.With(people)
		return &r
	}
	bridge.Beside = func(rules any, recalled *engine.Recalled) any {
		r := *rules.(*Rulebook)
		r.engine = r.engine.Beside(recalled)
		return &r
	}
}

// Rulebook is r itself, so that a Rulebook serves where a [Live] does.
func (r *Rulebook) Rulebook() *Rulebook { return r }

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
	s := newSettings(options)
	rb := rulebook.Load(fsys, s.load)
	if rb.Diagnostics.Count(diag.Error) > 0 {
		return nil, newCheckError(rb)
	}
	r := &Rulebook{logger: s.logger}
	if s.history != nil {
		r.history = s.history.begin(rb)
		s.sources.History = r.history
	}
	r.engine = engine.New(rb, s.sources)
	return r, nil
}

// Name is the name that the rulebook gives itself.
func (r *Rulebook) Name() string { return r.engine.Rulebook().Name }

// Digest names the exact content of the rulebook: "sha256:…" over every file that was read.
func (r *Rulebook) Digest() string { return r.engine.Rulebook().Digest }

// Decide decides on a sign-on: the outcome, what was demanded and what the person can do
// next, without the explanation. The error says which field of the sign-on cannot be, as
// [signon.SignOn.Validate] does, or which source could not be asked; the decision is then a block.
// The context is that of the sources given as options; without any, nothing waits.
func (r *Rulebook) Decide(ctx context.Context, s signon.SignOn) (signon.Decision, error) {
	var d signon.Decision
	err := r.DecideInto(ctx, &s, &d)
	return d, err
}

// DecideInto is [Rulebook.Decide] into a decision whose slices are used again, for programs
// that decide often: the usual decision then allocates nothing.
func (r *Rulebook) DecideInto(ctx context.Context, s *signon.SignOn, d *signon.Decision) error {
	return r.refused(ctx, s, r.engine.Decide(ctx, s, d, false))
}

// Explain decides as [Rulebook.Decide] does, and explains the decision: which policies spoke,
// which stood by and why, the waivers in force, the policies on watch and the risk.
func (r *Rulebook) Explain(ctx context.Context, s signon.SignOn) (signon.Decision, error) {
	var d signon.Decision
	err := r.refused(ctx, &s, r.engine.Decide(ctx, &s, &d, true))
	return d, err
}

// refused logs that a sign-on was refused, if it was.
func (r *Rulebook) refused(ctx context.Context, s *signon.SignOn, err error) error {
	if err != nil {
		r.logger.LogAttrs(ctx, slog.LevelWarn, "sign-on refused", slog.String("id", s.ID), slog.String("user", s.User), slog.Any("error", err))
	}
	return err
}

// SignOn reads a sign-on that is told in the clauses of the command "brisk decide", such as
// "user mira.holt app crew-roster presenting passkey". Relative times are reckoned from the clock.
func (r *Rulebook) SignOn(clauses string) (signon.SignOn, error) {
	return r.engine.Rulebook().TellClauses(clauses, r.engine.Now())
}
