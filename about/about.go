// Package about tells everything that concerns one person, group, app, network, method, device, country or client
// application, as the command "brisk about" does: what is known of it, what speaks of it, who would feel it if it went, and
// the last sign-ons.
//
//	a, err := about.Find(ctx, rules, about.User, "mira.holt", about.Options{})
//	…
//	fmt.Print(a.Text(80))
package about

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"briskwarden.example/briskwarden"
	"briskwarden.example/briskwarden/consent"
	"briskwarden.example/briskwarden/internal/bridge"
	"briskwarden.example/briskwarden/internal/engine"
	"briskwarden.example/briskwarden/internal/rulebook"
	"briskwarden.example/briskwarden/internal/spell"
	"briskwarden.example/briskwarden/replay"
)

// Kind is a kind of thing that can be asked about.
type Kind string

// The kinds.
const (
	User    Kind = "user"
	Group   Kind = "group"
	App     Kind = "app"
	Network Kind = "network"
	Method  Kind = "method"
	Device  Kind = "device"
	Country Kind = "country"
	Client  Kind = "client" // a client application, which asks for consents
)

// Kinds are all kinds.
var Kinds = []Kind{User, Group, App, Network, Method, Device, Country, Client}

// Options bring what the rulebook does not have.
type Options struct {
	Logs     []replay.Log  // of which the last sign-ons are told
	Last     int           // how many; 0 is 10
	Consents consent.Store // of client applications; nil leaves them out
	Granted  []SignOn      // the last grants that a service remembers, in any order: see [Options.AddGranted]
	Standing []string      // what a service knows of a user's risk, a line each
}

// About is what concerns one thing. Its JSON is that of "brisk about --json".
type About struct {
	Kind    Kind      `json:"kind"`
	Name    string    `json:"name"`
	Known   []Line    `json:"known"`              // what is known of it
	Reach   []Line    `json:"reach,omitempty"`    // what it gets to, or who gets to it, and under which circumstances
	On      string    `json:"on,omitzero"`        // the device that the user has in hand there
	Speaks  []Mention `json:"speaks,omitempty"`   // what speaks of it
	Felt    []Line    `json:"felt,omitempty"`     // who would feel it if it went
	SignOns []SignOn  `json:"sign_ons,omitempty"` // the last ones, the newest first
	All     int       `json:"all_sign_ons"`       // how many the logs have
	Bad     int       `json:"bad_lines,omitzero"` // lines of the logs that cannot be read

	zone *time.Location
}

// Line says one thing.
type Line struct {
	Label string `json:"label"`
	Text  string `json:"text"`
	At    string `json:"at,omitzero"` // file:line
}

// Mention is a declaration that speaks of the thing.
type Mention struct {
	What string `json:"what"` // such as "policy"
	Name string `json:"name"`
	How  string `json:"how"` // by name, by a group, as everybody, in a condition, …
	At   string `json:"at"`  // file:line
}

// SignOn is a past sign-on.
type SignOn struct {
	Time    time.Time `json:"time"`
	User    string    `json:"user"`
	App     string    `json:"app"`
	Outcome string    `json:"outcome,omitzero"` // as it was recorded; empty where it was not
	From    string    `json:"from,omitzero"`    // country, network or address
	Device  string    `json:"device,omitzero"`
	Where   string    `json:"where,omitzero"` // its place in the log
}

// NoneError says that there is no such thing.
type NoneError struct {
	Kind Kind
	Name string
	Like string // what may be meant; may be empty
}

// Error tells what there is not, and what may be meant.
func (e *NoneError) Error() string {
	text := fmt.Sprintf("there is no %s %q", e.Kind, e.Name)
	if e.Kind == Country {
		text = fmt.Sprintf("%q is no country, and no declared set of countries: a country is two letters, such as NO", e.Name)
	}
	if e.Kind == Client {
		text += " in the ledger of consents"
	}
	if e.Like != "" {
		text += ": " + e.Like
	}
	return text
}

// finder finds what concerns one thing.
type finder struct {
	*About
	Options
	ctx   context.Context
	rules *briskwarden.Rulebook
	e     *engine.Engine
	rb    *rulebook.Rulebook

	person *rulebook.Person // of a user
	group  int32            // of a group
	app    *rulebook.App    // of an app
	codes  []string         // of a country, or a set of them
	net    int              // of a network

	bound    map[[2]string]bound
	searched bool            // the logs were gone through
	demands  map[string]bool // the named demands that ask for a method
}

// Find finds what concerns a thing. The error is a [*NoneError] where nothing of that kind has the name; of a client
// application, only a ledger knows.
func Find(ctx context.Context, rules *briskwarden.Rulebook, kind Kind, name string, o Options) (*About, error) {
	e := bridge.Engine(rules)
	f := &finder{About: &About{Kind: kind, Name: name, Known: []Line{}, zone: rules.Zone()}, Options: o, ctx: ctx, rules: rules, e: e, rb: e.Rulebook()}
	f.bind()
	known, ok := map[Kind]func() ([]string, bool, error){User: f.user, Group: f.aGroup, App: f.anApp, Network: f.network, Method: f.method, Device: f.device,
		Country: f.country, Client: f.client}[kind]
	if !ok {
		return nil, fmt.Errorf("%q is nothing that can be asked about: it is one of %s", kind, kindNames())
	}
	names, found, err := known()
	switch {
	case err != nil:
		return nil, err
	case !found:
		return nil, &NoneError{kind, name, spell.Hint(name, names)}
	}
	f.speaking()
	return f.About, f.signOns()
}

func kindNames() string {
	names := make([]string, len(Kinds))
	for i, k := range Kinds {
		names[i] = string(k)
	}
	return strings.Join(names, ", ")
}

func (f *finder) know(label, format string, args ...any) {
	f.Known = append(f.Known, Line{Label: label, Text: fmt.Sprintf(format, args...)})
}

func (f *finder) feel(label, format string, args ...any) {
	f.Felt = append(f.Felt, Line{Label: label, Text: fmt.Sprintf(format, args...)})
}

// few lists the first of some names, in their order.
func few(names []string) string {
	slices.Sort(names)
	return spell.Few(slices.Compact(names), 6)
}
