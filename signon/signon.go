// Package signon has the sign-ons that policies judge, the decisions on them, and the JSON
// of both: the request and response of the OpenID AuthZEN Authorization API 1.0.
//
//	s := signon.SignOn{User: "mira.holt", App: "crew-roster", Presented: []string{"passkey"}}
//
// What a program states is checked before it counts: [SignOn.Validate] says which field cannot be.
package signon

import (
	"net/netip"
	"time"
)

// YesNo is a yes-no fact that may be unknown, as it is when nothing states it.
type YesNo int8

// The values of a yes-no fact. The zero value is unknown.
const (
	Unknown YesNo = iota
	No
	Yes
)

// IsYes converts a Go truth value.
func IsYes(b bool) YesNo {
	if b {
		return Yes
	}
	return No
}

// Client is the kind of program through which a person signs on. The empty Client is unknown.
type Client string

// The kinds of clients.
const (
	Browser    Client = "browser"
	Native     Client = "native"
	Legacy     Client = "legacy"
	Unattended Client = "unattended"
)

// Clients lists the kinds of clients.
var Clients = []Client{Browser, Native, Legacy, Unattended}

// SignOn is one sign-on as a program asks about it. Every zero field is unknown, except that
// a zero Time stands for the clock and an empty Action for "sign-on".
type SignOn struct {
	ID         string         // the caller's own name for it, given back in the decision
	User       string         // the user's id
	Properties map[string]any // values (string, bool, float64) for user attributes declared "from request"
	Action     string
	App        string
	Time       time.Time  // the instant at which it is decided
	IP         netip.Addr // without zone; an IPv4-mapped IPv6 address counts as IPv4
	Country    string     // ISO 3166-1 alpha-2; overrides what a geo source says
	Client     Client
	Device     *Device
	Session    Session
	Presented  []string   // the methods presented with this very sign-on
	Evidence   []Evidence // what was presented earlier
	Risk       *float64   // a score from elsewhere: the fact reported.risk
	Consent    *Consent

	// Suppose has facts as if they were so, whatever history or directory say, by their names in the
	// language: a string, bool or float64; nil is unknown. A date or an instant is a string. What
	// really happened is not supposed: logs and the consent ledger refuse it.
	Suppose map[string]any
}

// Logged is a sign-on as a log has it, with the outcome that was recorded for it.
type Logged struct {
	SignOn
	Outcome  Outcome
	Recorded bool // whether there is one
	// Address is that of the app on the web, where a request names it by that. Which app it is is not known here.
	Address string
}

// Session is the session that a sign-on belongs to.
type Session struct {
	ID      string
	Started time.Time
}

// Evidence records that a method was presented earlier. Method and Time are needed; what
// names no session, device or app matches none.
type Evidence struct {
	Method  string
	Time    time.Time
	Session string
	Device  string
	App     string
}

// ConsentFor says on whose behalf a consent is asked. The empty value is unknown.
type ConsentFor string

// The beneficiaries of a consent.
const (
	ForSelf     ConsentFor = "self"
	ForGroup    ConsentFor = "group"
	ForEveryone ConsentFor = "everyone"
)

// Consent is what a client application asks for, where the action is "consent".
type Consent struct {
	Client    string // the client application's id
	Name      string
	Publisher string
	Verified  YesNo    // whether the publisher is verified
	Scopes    []string // OAuth 2.0 scopes; nil is unknown, empty is none
	For       ConsentFor
	Group     string
	Owner     YesNo // whether the user owns that group
}
