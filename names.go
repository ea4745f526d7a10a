package briskwarden

// What a rulebook knows by name, and how it reads dates.

import (
	"fmt"
	"maps"
	"slices"
	"time"

	"briskwarden.example/briskwarden/internal/schedule"
)

// Zone is the time zone in which the rulebook's times of day are.
func (r *Rulebook) Zone() *time.Location { return r.engine.Rulebook().Zone }

// Instant reads an instant as the language writes it: that of RFC 3339, or one without offset on
// the wall clock of the rulebook's zone, such as 2026-11-23T08:15. A time that comes twice there is
// the earlier one.
func (r *Rulebook) Instant(text string) (time.Time, error) {
	return schedule.ParseInstant(text, r.Zone())
}

// Day reads a date, such as 2026-11-23, as its first instant and that of the day after, in the
// rulebook's zone.
func (r *Rulebook) Day(text string) (start, next time.Time, err error) {
	d, err := schedule.ParseDate(text)
	if err != nil {
		return start, next, err
	}
	return d.Start(r.Zone()), d.Next().Start(r.Zone()), nil
}

// Span reads a date, as [Rulebook.Day] does, or an instant, as [Rulebook.Instant] does, as itself twice.
func (r *Rulebook) Span(text string) (start, end time.Time, err error) {
	return schedule.ParseDayOrInstant(text, r.Zone())
}

// Users are the ids of all users of the rulebook's files, sorted.
func (r *Rulebook) Users() []string { return slices.Sorted(maps.Keys(r.engine.Rulebook().People)) }

// Groups are the names of all groups, sorted.
func (r *Rulebook) Groups() []string {
	return slices.Sorted(slices.Values(r.engine.Rulebook().Groups.Names()))
}

// Apps are the names of all apps, sorted.
func (r *Rulebook) Apps() []string { return slices.Sorted(maps.Keys(r.engine.Rulebook().Apps)) }

// Actions are the names of all actions, sorted.
func (r *Rulebook) Actions() []string { return slices.Sorted(maps.Keys(r.engine.Rulebook().Actions)) }

// Devices are the ids of all devices of the rulebook's inventories, sorted.
func (r *Rulebook) Devices() []string { return slices.Sorted(maps.Keys(r.engine.Rulebook().Devices)) }

// Networks are the names of all named networks, as they are declared.
func (r *Rulebook) Networks() []string { return slices.Clone(r.engine.Rulebook().Networks.Names) }

// Methods are the names of all methods, as they are declared.
func (r *Rulebook) Methods() (names []string) {
	for _, m := range r.engine.Rulebook().Methods.All() {
		names = append(names, m.Name)
	}
	return names
}

// ScopeSet is a declared set of scopes, with those of some scopes that it holds.
type ScopeSet struct {
	Name   string // "unclassified" for those that no set holds
	Weight int
	Scopes []string
}

// String names the set, with its weight.
func (s ScopeSet) String() string {
	name := s.Name
	if name == "unclassified" {
		name = "no set"
	}
	return fmt.Sprintf("%s (weight %d)", name, s.Weight)
}

// Classify tells by which sets scopes are known that a client application asks for.
func (r *Rulebook) Classify(scopes []string) (sets []ScopeSet) {
	for _, c := range r.engine.Rulebook().Classify(scopes) {
		sets = append(sets, ScopeSet{c.Name, c.Weight, c.Scopes})
	}
	return sets
}

// Weigh adds the weights of the sets that scopes touch, up to 100.
func (r *Rulebook) Weigh(scopes []string) int { return r.engine.Rulebook().Weigh(scopes) }

// Band is a band of the risk model: the scores from Low to High.
type Band struct {
	Name      string
	Low, High int
}

// Bands are those of the risk model, the lowest first; none without a model.
func (r *Rulebook) Bands() (bands []Band) {
	if model := r.engine.Rulebook().Risk; model != nil {
		for _, b := range model.Bands {
			bands = append(bands, Band{b.Name, b.Low, b.High})
		}
	}
	return bands
}
