package rulebook

// What a resolved rulebook has.

import (
	"iter"
	"slices"
	"strings"
	"sync"
	"time"

	"briskwarden.example/briskwarden/internal/appurl"
	"briskwarden.example/briskwarden/internal/condition"
	"briskwarden.example/briskwarden/internal/demand"
	"briskwarden.example/briskwarden/internal/diag"
	"briskwarden.example/briskwarden/internal/directory"
	"briskwarden.example/briskwarden/internal/fact"
	"briskwarden.example/briskwarden/internal/history"
	"briskwarden.example/briskwarden/internal/known"
	"briskwarden.example/briskwarden/internal/place"
	"briskwarden.example/briskwarden/internal/posture"
	"briskwarden.example/briskwarden/internal/risk"
	"briskwarden.example/briskwarden/internal/schedule"
	"briskwarden.example/briskwarden/internal/set"
	"briskwarden.example/briskwarden/internal/texts"
	"briskwarden.example/briskwarden/language/ast"
	"briskwarden.example/briskwarden/language/token"
	"briskwarden.example/briskwarden/signon"
)

// Rulebook is a resolved rulebook. Nothing in it changes once it is loaded.
type Rulebook struct {
	Name       string
	Zone       *time.Location
	Unmatched  signon.Outcome
	Floor      *demand.Demand // nil for "floor none"
	BreakGlass *demand.Demand // nil where there are no emergency accounts
	Digest     string         // "sha256:…" over every file that was read

	Facts       *fact.Table
	Methods     *demand.Methods
	Within      []*demand.Demand // what "user has" asks for; a demand's id is its index
	selected    *selection
	Groups      *directory.Groups
	GroupPlaces map[int32]token.Pos // where each group that is declared or listed stands first
	People      map[string]*Person
	Apps        map[string]*App
	Tags        map[string]int
	Actions     map[string]bool
	Networks    Networks
	Countries   map[string][]string // the codes of each declared set
	Atlas       place.Atlas         // where addresses are, in the order in which it is asked
	Devices     posture.Fleet
	Past        *history.Past // nil where no file tells it
	PastLogs    []string      // the files that it begins with
	Logged      *LoggedWords  // of devices, in the same files
	Schedules   []*schedule.Schedule
	Baselines   []*Baseline
	Risk        *risk.Model // nil without a risk model
	ScopeSets   []*ScopeSet
	Policies    []*Policy // by name
	Waivers     []*Waiver // by name
	Expects     []*Expect // as they stand
	Promises    []*Promise
	Callers     []*Caller     // as they stand
	Issuers     []*Issuer     // the same
	Signals     []*Signals    // the same
	Alerts      []*Alert      // the same
	Digests     []*WeekDigest // the same
	Addresses   appurl.Table  // of apps
	Texts       texts.Catalog
	Comparisons []Comparison // of all conditions, each once

	Diagnostics diag.List // sorted by place
	Loaded      []*Loaded // the files that the rulebook points to, as they were read
	Files       []*File   // the rulebook files, by name
	Open        bool      // people also come from a program, so that an unknown user or group is no mistake
}

// CountryCodes are the codes that a country, or a declared set of countries, stands for.
func (rb *Rulebook) CountryCodes(name string) []string {
	if signon.IsCountry(name) {
		return []string{name}
	}
	return rb.Countries[name]
}

// File is one rulebook file that was read.
type File struct {
	Name   string
	Source []byte
	Tree   *ast.File

	once  sync.Once
	lines []string
}

// Line is the line of a rulebook file at a place, without its end; "" where there is none.
func (rb *Rulebook) Line(at token.Pos) string {
	i := slices.IndexFunc(rb.Files, func(f *File) bool { return f.Name == at.File })
	if i < 0 {
		return ""
	}
	f := rb.Files[i]
	f.once.Do(func() { f.lines = slices.Collect(strings.Lines(strings.TrimPrefix(string(f.Source), "\ufeff"))) })
	if at.Line < 1 || int(at.Line) > len(f.lines) {
		return ""
	}
	return strings.TrimRight(f.lines[at.Line-1], "\r\n")
}

// Declarations are all declarations, in the order of the files and as they stand in them.
func (rb *Rulebook) Declarations() iter.Seq[ast.Decl] {
	return func(yield func(ast.Decl) bool) {
		for _, f := range rb.Files {
			for _, d := range f.Tree.Decls {
				if !yield(d) {
					return
				}
			}
		}
	}
}

// Person is a user with every name bound.
type Person struct {
	ID         string
	Type       string
	Risk       string
	Groups     []int32 // all of them, transitively, in order
	Methods    demand.Set
	Joined     time.Time   // zero is unknown
	JoinedDay  time.Time   // 00:00 of its date
	Active     known.Truth // unknown where nothing states it: the user is active
	BreakGlass bool
	assumed    assumed
	Attributes []fact.Value // by index; may be short
	Origin     Origin       // where the user is declared first
}

// In reports whether the person is in the group.
func (p *Person) In(group int32) bool {
	_, ok := slices.BinarySearch(p.Groups, group)
	return ok
}

// Domain is the mail domain of a user id that is an e-mail address, else "".
func Domain(user string) string {
	at := strings.LastIndexByte(user, '@')
	if at <= 0 {
		return ""
	}
	return user[at+1:]
}

// App is an application.
type App struct {
	Name string
	Tags []int
	Decl *ast.App
}

// Networks are the named networks, and the literal ones that stand in conditions.
type Networks struct {
	Names     []string // of the named ones, by id
	Table     *place.Table
	Trusted   set.Set
	Anonymous set.Set
}

// Baseline is a list of checks of a device.
type Baseline struct {
	Name   string
	Checks []Check
}

// Comparison is a comparison as it is written, and as it is compiled.
type Comparison struct {
	Tree *ast.Compare
	Node condition.Node
}

// Check is one labelled condition of a baseline.
type Check struct {
	Label string
	When  condition.Node
}

// Policy is a policy with every name bound.
type Policy struct {
	Name    string
	Who     Who
	To      To
	Doing   []string // sorted
	Stages  []StageLine
	Cases   []Case
	Session Session
	Decl    *ast.Policy
}

// Session limits how long a sign-on lasts.
type Session struct {
	Lasts, Idle         time.Duration
	LastsText, IdleText string // as written; empty where there is no limit
}

// OutcomeKind is what a case decides, before any demand is asked.
type OutcomeKind uint8

// The kinds of outcomes.
const (
	Abstain OutcomeKind = iota
	Grant
	Review
	StepUp
	Block
)

// Case is one case of a policy.
type Case struct {
	Number  int // among those of all policies, in their order
	Label   string
	When    condition.Node // nil for the otherwise
	Text    string         // the condition as written
	Kind    OutcomeKind
	Word    string         // the outcome's bare word
	Demand  *demand.Demand // of a step-up
	Message string         // of a block
	Group   string         // of a review
	Pos     token.Pos
}

// Waiver takes demands off some people for a while.
type Waiver struct {
	Name  string
	Who   Who
	To    To
	When  condition.Node // nil where it is absent
	Lift  demand.Lift
	Until time.Time // the first instant at which it is over
	Decl  *ast.Waiver
}

// Promise is a statement about every possible sign-on.
type Promise struct {
	Name    string
	Who     Who
	To      To
	Doing   []string
	When    condition.Node
	Form    ast.PromiseForm
	Outcome signon.Outcome // of "always" and "never"
	Without *demand.Demand // of "never grant without"; else nil
	Decl    *ast.Promise
	Asked   bool // it stands in no file: whoever opened the rulebook asked for it
}

// Expect is a sign-on and what must be decided on it.
type Expect struct {
	Name string
	Want Want
	Decl *ast.Expect
}

// Want is what an expectation asks of the decision.
type Want struct {
	Outcome signon.Outcome
	By      string // a policy among those that decided; may be empty
	Case    string // its case; may be empty
	Asking  []string
}
