package signon

// Decisions and their explanations.

import (
	"fmt"
	"strings"
)

// Outcome is what is decided on a sign-on. The zero Outcome is Block.
type Outcome uint8

// The outcomes, from the strictest to the loosest.
const (
	Block Outcome = iota
	StepUp
	Review
	Grant
)

var outcomes = [...]string{"block", "step-up", "review", "grant"}

// String gives the outcome's bare word; of what is no outcome, "Outcome(9)".
func (o Outcome) String() string {
	if int(o) < len(outcomes) {
		return outcomes[o]
	}
	return fmt.Sprintf("Outcome(%d)", uint8(o))
}

// StricterThan reports whether o lets less through than other.
func (o Outcome) StricterThan(other Outcome) bool { return o < other }

// ParseOutcome reads the bare word of an outcome.
func ParseOutcome(word string) (Outcome, error) {
	for i, w := range outcomes {
		if w == word {
			return Outcome(i), nil
		}
	}
	return Block, fmt.Errorf("%q is no outcome: grant, review, step-up or block", word)
}

// MarshalText gives the outcome's bare word. It fails for what is no outcome.
func (o Outcome) MarshalText() ([]byte, error) {
	if int(o) >= len(outcomes) {
		return nil, fmt.Errorf("%d is no outcome", uint8(o))
	}
	return []byte(outcomes[o]), nil
}

// UnmarshalText reads the bare word of an outcome.
func (o *Outcome) UnmarshalText(text []byte) (err error) {
	*o, err = ParseOutcome(string(text))
	return err
}

// Decision is what was decided on one sign-on. The zero Decision blocks.
type Decision struct {
	ID      string
	Outcome Outcome
	Error   string // why the sign-on could not be read; the outcome is then Block
	Message string // for the person signing on
	Demands []Demand
	Next    []Step
	Notices []string
	Session SessionLimits
	ACR     string // acr_values of an RFC 9470 challenge, of a step-up; may be empty
	MaxAge  int64  // max_age of an RFC 9470 challenge, in seconds; NoMaxAge where there is none

	// Explanation is nil in a lean decision.
	Explanation *Explanation

	Rulebook string // the digest of the rulebook that decided, "sha256:…"
}

// Reset makes the decision a block on the sign-on of that id, and keeps its slices for use again.
func (d *Decision) Reset(id, rulebook string) {
	*d = Decision{ID: id, Demands: d.Demands[:0], Next: d.Next[:0], Notices: d.Notices[:0], MaxAge: NoMaxAge, Rulebook: rulebook}
}

// Refused is the decision on a sign-on that could not be read or judged: a block that says why.
func Refused(id string, why error) Decision {
	return Decision{ID: strings.ToValidUTF8(id, "\ufffd"), Error: strings.ToValidUTF8(why.Error(), "\ufffd"), MaxAge: NoMaxAge}
}

// NoMaxAge is the MaxAge of a decision that limits no age.
const NoMaxAge = -1

// Demand is something that a policy asked for, and whether it was met.
type Demand struct {
	Policy string `json:"policy"`
	Demand string `json:"demand"`
	Met    bool   `json:"met"`
}

// StepKind is what a person can do next.
type StepKind string

// The kinds of next steps.
const (
	Verify         StepKind = "verify"          // present one of the sets of methods
	Enrol          StepKind = "enrol"           // enrol in one of the sets of methods first
	ChangePassword StepKind = "change-password" // set a new password
	Remedy         StepKind = "remedy"          // mend the device: the checks of the baseline fail
	EnrolElsewhere StepKind = "enrol-elsewhere" // enrol where it is allowed, not at the prompt
	WaitForReview  StepKind = "wait-for-review" // a member of the group decides
)

// Step is one thing that a person can do next.
type Step struct {
	Do       StepKind   `json:"do"`
	AnyOf    [][]string `json:"any_of,omitempty"` // sets of methods, the preferred one first
	Baseline string     `json:"baseline,omitempty"`
	Checks   []string   `json:"checks,omitempty"` // the labels of the checks that are not true
	Group    string     `json:"group,omitempty"`
}

// SessionLimits are how long a granted sign-on lasts, as written in the policy; empty where there is no limit.
type SessionLimits struct {
	Lifetime string `json:"lifetime,omitempty"`
	Idle     string `json:"idle,omitempty"`
}

// Explanation says which policies spoke, which stood by and why.
type Explanation struct {
	Policies []Entry
	Skipped  []Skipped
	Waivers  []string // those in force
	Watch    *Watch   // nil when no policy on watch applied
	Risk     *Risk    // nil without a risk model

	// Deciding are the entries, among Policies, that gave the outcome, and Ground is what
	// gave it beside or instead of them. Lapsed are waivers that are over, and would have lifted
	// what is missing. Known tells where the sign-on is from and what is known of its device. BuiltIn says that the decision's Message is not a policy's own.
	// None of them is part of the JSON.
	Deciding []Entry
	Ground   Ground
	Lapsed   []string
	Known    []string
	BuiltIn  bool
}

// Ground is what gave an outcome where policies alone did not.
type Ground uint8

// The grounds.
const (
	GroundPolicies      Ground = iota // policies alone
	GroundUnknownUser                 // none is named, or known
	GroundDisabledUser                // the user is disabled
	GroundEndedSession                // the session has ended
	GroundUnknownTarget               // no app is named, or it or the action is not known
	GroundBreakGlass                  // the demand of the emergency accounts
	GroundUnmatched                   // no policy surely spoke
	GroundFloor                       // the floor
)

var grounds = [...]string{"policies", "the user is not known", "the user is disabled", "the session has ended", "the app or action is not known", "an emergency account",
	"no policy spoke: unmatched", "the floor"}

// String tells the ground in a few words; of what is no ground, "Ground(9)".
func (g Ground) String() string {
	if int(g) < len(grounds) {
		return grounds[g]
	}
	return fmt.Sprintf("Ground(%d)", uint8(g))
}

// Identity reports whether it was decided by who signs on to what, before any policy was asked.
func (g Ground) Identity() bool { return g >= GroundUnknownUser && g <= GroundUnknownTarget }

// Entry is one case of a policy that applied: one that was unknown, or the one taken.
type Entry struct {
	Policy  string `json:"policy"`
	Stage   string `json:"stage"` // enforce or watch
	Case    string `json:"case"`
	Outcome string `json:"outcome"` // the bare word of the case, abstain included
	Sure    bool   `json:"sure"`    // the case was taken; otherwise its condition was unknown
	Why     string `json:"why"`
	At      string `json:"at"` // file:line
}

// Skipped is a policy that did not apply, and the one reason why.
type Skipped struct {
	Policy string `json:"policy"`
	Why    string `json:"why"`
}

// Watch is what would be decided if the policies on watch were enforced.
type Watch struct {
	Outcome  Outcome `json:"outcome"`
	Policies []Entry `json:"policies"`
}

// Risk is the score of the risk model: a whole number somewhere from Low to High.
type Risk struct {
	Low     int      `json:"low"`
	High    int      `json:"high"`
	Factors []Factor `json:"factors"` // those that are true or unknown
}

// Factor is what one factor contributes to the risk score.
type Factor struct {
	Add   int    `json:"add"`
	When  string `json:"when"`
	Value string `json:"value"` // true or unknown
	Why   string `json:"why"`
}
