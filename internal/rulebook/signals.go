package rulebook

// Who sends signals about people and devices (OpenID Shared Signals: CAEP 1.0 and RISC 1.0).

import (
	"fmt"
	"strings"

	"briskwarden.example/briskwarden/internal/spell"
	"briskwarden.example/briskwarden/language/ast"
)

// Event is a kind of signal.
type Event uint16

// The events that are understood.
const (
	SessionRevoked Event = 1 << iota
	CredentialChange
	DeviceComplianceChange
	AssuranceLevelChange
	RiskLevelChange
	AccountDisabled
	AccountEnabled
	AccountPurged
	CredentialCompromise
)

// The addresses that events are named by.
const (
	caep = "https://schemas.openid.net/secevent/caep/event-type/"
	risc = "https://schemas.openid.net/secevent/risc/event-type/"
)

// events are the events by their words, in the order of their bits.
var events = []struct{ word, profile string }{{"session-revoked", caep}, {"credential-change", caep}, {"device-compliance-change", caep},
	{"assurance-level-change", caep}, {"risk-level-change", caep}, {"account-disabled", risc}, {"account-enabled", risc},
	{"account-purged", risc}, {"credential-compromise", risc}}

// EventOf is the event of an address; 0 is one that is not understood.
func EventOf(address string) Event {
	for i, e := range events {
		if e.profile+e.word == address {
			return 1 << i
		}
	}
	return 0
}

// String lists the words for the events.
func (e Event) String() string {
	var words []string
	for i := range events {
		if e&(1<<i) != 0 {
			words = append(words, events[i].word)
		}
	}
	return strings.Join(words, ", ")
}

// Signals is who sends signals.
type Signals struct {
	Name     string
	From     string // their "iss"
	Keys     Keys
	Audience string // their "aud"
	Accept   Event
	Poll     string // where they are asked for (RFC 8936); empty: they are pushed (RFC 8935)
	TokenIn  string // of Poll: the variable of the environment that holds the token to ask with
	Decl     *ast.Signals
}

// Accepts reports whether a source of signals is to be believed that some event came.
func (rb *Rulebook) Accepts(e Event) bool {
	for _, s := range rb.Signals {
		if s.Accept&e != 0 {
			return true
		}
	}
	return false
}

// SignalsOf is a source of signals; nil is that there is none of the name.
func (rb *Rulebook) SignalsOf(name string) *Signals {
	for _, s := range rb.Signals {
		if s.Name == name {
			return s
		}
	}
	return nil
}

func (r *resolver) signals() {
	for _, d := range r.decls.signals.list {
		s := &Signals{Name: d.Name.Text, From: r.https(d.From), Keys: r.keys(d.Keys), Audience: r.notEmpty(d.Audience), TokenIn: d.TokenIn.Text, Decl: d}
		for _, n := range d.Accept {
			s.Accept |= r.event(n)
		}
		r.once(d.Accept)
		if d.Poll.Given() {
			s.Poll = r.https(d.Poll)
			if !isToken(s.TokenIn) || strings.ContainsAny(s.TokenIn, "-.") {
				r.fail(d.TokenIn, "a variable of the environment, such as FLEET_TOKEN", "%q cannot be a variable's name; the token itself stands in no rulebook", s.TokenIn)
			}
		}
		r.rb.Signals = append(r.rb.Signals, s)
	}
}

func (r *resolver) event(n ast.Name) Event {
	var words []string
	for i := range events {
		if events[i].word == n.Text {
			return 1 << i
		}
		words = append(words, events[i].word)
	}
	help := spell.Hint(n.Text, words)
	if help == "" {
		help = fmt.Sprintf("the events are: %s", strings.Join(words, ", "))
	}
	r.fail(n, help, "%q is no event that is understood", n.Text)
	return 0
}
