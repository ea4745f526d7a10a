package briskwarden

// How a rulebook is opened.

import (
	"log/slog"
	"time"

	"briskwarden.example/briskwarden/internal/engine"
	"briskwarden.example/briskwarden/internal/rulebook"
)

// Option says how a rulebook is opened.
type Option func(*settings)

type settings struct {
	load     rulebook.Options
	sources  engine.Sources
	history  *History
	logger   *slog.Logger
	reloaded func(*Rulebook, error)
}

func newSettings(options []Option) settings {
	s := settings{logger: slog.New(slog.DiscardHandler), reloaded: func(*Rulebook, error) {}}
	for _, o := range options {
		o(&s)
	}
	return s
}

// WithPeople adds the users of a program's own directory to those of the rulebook's files.
// A user that the rulebook's files declare is never looked up there. Names of users and
// groups that the rulebook alone does not know are then no errors.
func WithPeople(people People) Option {
	return func(s *settings) {
		s.load.OutsidePeople = true
		s.sources.People = peopleSource{people}
	}
}

// WithPromises adds promises to those of the rulebook's files, for them to be proved: each is a statement
// such as "who group admins to everything never grant without strong", and named by it.
func WithPromises(statements ...string) Option {
	return func(s *settings) { s.load.Promises = append(s.load.Promises, statements...) }
}

// WithPlaces has a program of its own tell where addresses are, instead of the rulebook's files.
func WithPlaces(places Places) Option {
	return func(s *settings) { s.sources.Places = placeSource{places} }
}

// WithInventory has a program of its own look devices up, instead of the rulebook's files.
func WithInventory(inventory Inventory) Option {
	return func(s *settings) { s.sources.Inventory = deviceSource{inventory} }
}

// WithHistory decides by a history that the program teaches with [Rulebook.Learn].
func WithHistory(h *History) Option {
	return func(s *settings) { s.history = h }
}

// WithClock sets the clock that decides on sign-ons which do not say when they are. The
// default is time.Now.
func WithClock(clock func() time.Time) Option {
	return func(s *settings) { s.sources.Clock = clock }
}

// WithLogger logs what somebody should look at: sign-ons that were refused because they, or a
// source, could not be read, at level WARN; what a [Live] loads at INFO, and refuses to load at
// ERROR. The default is not to log.
func WithLogger(logger *slog.Logger) Option {
	return func(s *settings) { s.logger = logger }
}

// WithReloads calls told each time that a [Live] loaded its rulebook, the first time included, or
// refused to: then it says why, and the rulebook is the one that stays, nil where there is none yet.
func WithReloads(told func(r *Rulebook, err error)) Option {
	return func(s *settings) { s.reloaded = told }
}
