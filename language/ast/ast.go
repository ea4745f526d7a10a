// Package ast declares the tree of a rulebook file: plain data with positions. It says
// what was written, not what it means: names are not bound and values not checked.
package ast

import (
	"time"

	"briskwarden.example/briskwarden/language/token"
)

// File is one source file of a rulebook.
type File struct {
	Name   string
	Decls  []Decl
	Tokens []token.Token // everything that was scanned, comments included, up to EOF
}

// Name is a name or a value, bare or as a string.
type Name struct {
	Pos    token.Pos
	Text   string
	Quoted bool
}

// Given reports whether the name stands in the source at all.
func (n Name) Given() bool { return n.Pos.IsValid() }

// Duration is a whole number of minutes, hours, days or weeks.
type Duration struct {
	Pos   token.Pos
	Count int64
	Unit  byte // m, h, d or w
}

// Given reports whether the duration stands in the source at all.
func (d Duration) Given() bool { return d.Pos.IsValid() }

// Elapsed is the elapsed time that is meant: a day is 24 hours.
func (d Duration) Elapsed() time.Duration {
	unit := map[byte]time.Duration{'m': time.Minute, 'h': time.Hour, 'd': 24 * time.Hour, 'w': 7 * 24 * time.Hour}[d.Unit]
	return time.Duration(d.Count) * unit
}

// Decl is a declaration.
type Decl interface {
	Head() *Block
}

// Block is what all declarations have: the keyword, the name, and where the block and its clauses stand.
type Block struct {
	Keyword token.Token
	Name    Name
	Open    token.Pos   // the block's "{"; invalid where there is none
	Close   token.Pos   // its "}"
	Clauses []token.Pos // where each clause of the block begins
	End     token.Pos   // the last token
}

// Head returns the block itself; with it every declaration is a [Decl].
func (b *Block) Head() *Block { return b }

// The declarations.
type (
	// Rulebook is the block that holds what is true of the whole.
	Rulebook struct {
		Block
		Timezone   Name
		Unmatched  Name
		Floor      Demand // nil where it is not stated
		FloorNone  token.Pos
		BreakGlass *BreakGlass
		Directory  []Name
		Devices    []Name
		Geo        []Name
		History    []Name
		Texts      []Name
	}
	// BreakGlass names the emergency accounts and what they prove.
	BreakGlass struct {
		Pos    token.Pos
		Users  []Name
		Demand Demand
	}
	// Attribute declares a further fact of users or devices.
	Attribute struct {
		Block
		Type        Name // word, yes-no, number or date
		Default     Name
		FromRequest token.Pos
	}
	// User is a person, a guest or a service account.
	User struct {
		Block
		Type    Name
		Groups  []Name
		Methods []Name
		Joined  Name
		Risk    Name
		Active  Name
		Attrs   []Attr
	}
	// Attr is the value of one attribute of a user.
	Attr struct {
		Name  Name
		Value Name
	}
	// Group adds members to a group.
	Group struct {
		Block
		Members []Selector
	}
	// App is an application that people sign on to.
	App struct {
		Block
		About Name
		Tags  []Name
		URL   Name
	}
	// Action is something people do in an application, beside the built-in ones.
	Action struct {
		Block
		About Name
	}
	// Network is a named set of addresses.
	Network struct {
		Block
		Trusted   token.Pos
		Anonymous token.Pos
		Items     []Name // addresses, prefixes, ranges
		From      []Name // or files that list them
	}
	// Countries is a named set of countries and of other such sets.
	Countries struct {
		Block
		Items []Name
	}
	// Schedule is a set of hours of the week with its exceptions.
	Schedule struct {
		Block
		Zone      Name
		Windows   []Window
		Except    []Name // dates and date ranges
		Calendars []Name
		During    []Name
	}
	// Window is a span of the clock on some days of the week.
	Window struct {
		Days  Name // mon, mon-fri
		Hours Name // 06:00-20:00
	}
	// Method declares, or replaces, a way of proving who one is.
	Method struct {
		Block
		KindName Name
		AMR      []Name
		Flags    []Name // hardware, phishing-resistant, verifies-user
	}
	// NamedDemand gives a demand a name.
	NamedDemand struct {
		Block
		Demand Demand
	}
	// Baseline is a list of checks that a device passes or fails.
	Baseline struct {
		Block
		Checks []Check
	}
	// Check is one labelled condition of a baseline.
	Check struct {
		Label Name
		Cond  Cond
	}
	// Risk is the risk model.
	Risk struct {
		Block
		Factors []Factor
		Bands   []Band
	}
	// Factor adds to the risk score when its condition holds.
	Factor struct {
		Pos  token.Pos
		Add  Name
		Cond Cond
	}
	// Band names the scores up to and including one.
	Band struct {
		Name Name
		To   Name
	}
	// Policy is a conditional sign-on policy.
	Policy struct {
		Block
		About   Name
		Owner   Name
		Scope   Scope
		Stages  []Stage
		Cases   []Case // the last is the otherwise
		Session *Session
	}
	// Scope says for whom and for what a policy, waiver or promise is.
	Scope struct {
		Who   Selection
		To    Selection
		Doing []Name
	}
	// Selection is a list of selectors and of those that it excepts.
	Selection struct {
		Pos    token.Pos
		Items  []Selector
		Except []Selector
	}
	// Selector picks people or apps: "group G", "everyone".
	Selector struct {
		Kind Name // everyone, people, group, user, type, domain; everything, app, tag
		Name Name // not given for everyone, people and everything
	}
	// Stage is one line of a policy's life: draft, watch or enforce.
	Stage struct {
		Pos   token.Pos
		Stage Name
		For   Selection
		From  Name
	}
	// Case is a condition and its outcome; the otherwise has no condition.
	Case struct {
		Pos       token.Pos
		Label     Name
		Otherwise bool
		Cond      Cond
		Outcome   Outcome
	}
	// Session limits how long a sign-on lasts.
	Session struct {
		Pos   token.Pos
		Lasts Duration
		Idle  Duration
	}
	// Waiver takes demands off some people for a while.
	Waiver struct {
		Block
		Because Name
		Owner   Name
		Scope   Scope
		When    Cond // nil where it is absent
		Lifts   []Lift
		Until   Name
	}
	// Lift is one thing that a waiver lifts.
	Lift struct {
		Pos  token.Pos
		Kind LiftKind
		Name Name
	}
	// Scopes is a named set of OAuth 2.0 scopes.
	Scopes struct {
		Block
		Weight Name
		Items  []Name
	}
	// Expect is a sign-on and what must be decided on it.
	Expect struct {
		Block
		SignOn  SignOn
		Arrow   token.Pos
		Outcome Name
		By      Name
		Case    Name
		Asking  []Name
	}
	// Promise is a statement about every possible sign-on.
	Promise struct {
		Block
		Scope   Scope
		When    Cond // nil where it is absent
		Pos     token.Pos
		Form    PromiseForm
		Outcome Name   // grant where the form is "never grant without"; empty where it is "never locked out"
		Without Demand // of "never grant without"; else nil
	}
)

// PromiseForm says what a promise promises.
type PromiseForm uint8

// The forms of promises.
const (
	PromiseAlways         PromiseForm = iota // always OUTCOME
	PromiseNever                             // never OUTCOME
	PromiseNeverWithout                      // never grant without DEMAND
	PromiseNeverLockedOut                    // never locked out
)

// LiftKind is the kind of thing that a waiver lifts.
type LiftKind uint8

// The kinds of lifts.
const (
	LiftName       LiftKind = iota // a method, aalN, named demand or change-password
	LiftDevice                     // device meets B
	LiftEverything                 // everything
)

// SignOn is a sign-on told in clauses. What is not given is unknown.
type SignOn struct {
	Pos       token.Pos
	User      Name
	App       Name
	Doing     Name
	IP        Name
	Country   Name
	At        Name
	Client    Name
	Device    *Device
	Session   Name
	Started   Name
	Presented []Name
	Having    []Having
	Risk      Name
	ClientApp Name
	Publisher Name
	Verified  bool // the publisher is said to be verified
	Scopes    []Name
	For       Name   // self, everyone or group
	Group     Name   // of For
	Owner     bool   // the user is said to own the group
	Suppose   []Attr // facts as if they were so
}

// Device is the device of a sign-on told in clauses.
type Device struct {
	Pos    token.Pos
	ID     Name // may be missing
	Open   token.Pos
	Fields []Attr
}

// Having is evidence from an earlier sign-on.
type Having struct {
	Pos     token.Pos
	Method  Name
	Age     Duration
	Session Name
	Device  Name
	App     Name
}
