// Package secevent reads security event tokens (SETs, RFC 8417) with the events of CAEP 1.0 and RISC 1.0 and subjects
// of RFC 9493. What a known event has to say and does not, or says in a way that is not understood, is an error.
package secevent

import (
	"errors"
	"fmt"
	"maps"
	"slices"
	"time"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"

	"briskwarden.example/briskwarden/internal/jwt"
	"briskwarden.example/briskwarden/internal/rulebook"
)

// Type is the type of the tokens.
const Type = "secevent+jwt"

// Verification is the event by which a sender tries whether it is heard (OpenID Shared Signals 1.0, 8.1.4).
const Verification = "https://schemas.openid.net/secevent/ssf/event-type/verification"

// Event is one event of a token.
type Event struct {
	Address string
	Kind    rulebook.Event // 0 is one that is not understood, of which nothing else was read
	At      time.Time      // when it happened
	Subject Subject

	Credential string // the type of one that changed
	Created    bool   // it is new
	Updated    bool   // it is another now, by its holder's doing
	Compliant  bool   // of a device
	Level      string // of risk: low, medium or high
	Increase   bool   // the assurance level rose
	NotOfUser  bool   // the risk is not that of a user
}

// mostEvents is how many events one token may have.
const mostEvents = 16

// Read reads the events of a token, in the order of their addresses.
func Read(c *jwt.Claims) ([]Event, error) {
	switch {
	case c.ID == "":
		return nil, errors.New(`it has no "jti"`)
	case len(c.ID) > 512:
		return nil, errors.New(`its "jti" is longer than 512 bytes`)
	case c.IssuedAt == nil:
		return nil, errors.New(`it has no "iat"`)
	case c.Subject != nil:
		return nil, errors.New(`it has "sub": a signal says whom it is about by "sub_id"`)
	case c.Expires != nil:
		return nil, errors.New(`it has "exp", which no signal has`)
	}
	var events map[string]jsontext.Value
	if err := json.Unmarshal(orNull(c.Events), &events); err != nil || len(events) == 0 {
		return nil, errors.New(`it has no "events"`)
	}
	if len(events) > mostEvents {
		return nil, fmt.Errorf("it has more than %d events", mostEvents)
	}
	var list []Event
	for _, address := range slices.Sorted(maps.Keys(events)) {
		e, err := read(c, address, events[address])
		if err != nil {
			return nil, fmt.Errorf("the event %s: %w", address, err)
		}
		list = append(list, *e)
	}
	return list, nil
}

func orNull(v jsontext.Value) jsontext.Value {
	if v == nil {
		return jsontext.Value("null")
	}
	return v
}

// payload is what events say, by the names of their members.
type payload struct {
	Timestamp jsontext.Value `json:"event_timestamp"`
	Subject   jsontext.Value `json:"subject"` // where the token has none

	CredentialType  string `json:"credential_type"`
	ChangeType      string `json:"change_type"`
	CurrentStatus   string `json:"current_status"`
	ChangeDirection string `json:"change_direction"`
	CurrentLevel    string `json:"current_level"`
	Principal       string `json:"principal"`
}

func read(c *jwt.Claims, address string, data jsontext.Value) (*Event, error) {
	e := &Event{Address: address, Kind: rulebook.EventOf(address)}
	if data.Kind() != '{' {
		return nil, errors.New("what it says is no object")
	}
	if e.Kind == 0 {
		return e, nil
	}
	kind := e.Kind
	var p payload
	if kind != rulebook.AssuranceLevelChange { // whose levels are of any kind
		if err := json.Unmarshal(data, &p); err != nil {
			return nil, err
		}
	} else if err := json.Unmarshal(data, &struct {
		Timestamp       *jsontext.Value `json:"event_timestamp"`
		Subject         *jsontext.Value `json:"subject"`
		ChangeDirection *string         `json:"change_direction"`
	}{&p.Timestamp, &p.Subject, &p.ChangeDirection}); err != nil {
		return nil, err
	}
	var err error
	if e.At, err = happened(c, p.Timestamp); err != nil {
		return nil, err
	}
	if e.Subject, err = subjectOf(c.SubjectID, p.Subject, kind == rulebook.DeviceComplianceChange); err != nil {
		return nil, err
	}
	return e, e.say(&p)
}

// happened is when an event happened: as it says, else as the token does.
func happened(c *jwt.Claims, stamp jsontext.Value) (time.Time, error) {
	switch {
	case stamp != nil:
		return jwt.ParseTime(stamp)
	case c.Happened != nil:
		return c.Happened.Time, nil
	}
	return c.IssuedAt.Time, nil
}

// The levels of risk of CAEP 1.0, section 3.8, and ours.
var levels = map[string]string{"LOW": "low", "MEDIUM": "medium", "HIGH": "high"}

// say reads what the event says.
func (e *Event) say(p *payload) error {
	none := func(member, value string, known ...string) error {
		if slices.Contains(known, value) {
			return nil
		}
		return fmt.Errorf("%q is %q, and not one of %q", member, value, known)
	}
	switch e.Kind {
	case rulebook.CredentialCompromise:
		e.Credential = p.CredentialType // a type that is not known is any
	case rulebook.CredentialChange:
		e.Credential, e.Created, e.Updated = p.CredentialType, p.ChangeType == "create", p.ChangeType == "update"
		if p.CredentialType == "" {
			return errors.New(`it has no "credential_type"`)
		}
		return none("change_type", p.ChangeType, "create", "revoke", "update", "delete")
	case rulebook.DeviceComplianceChange:
		e.Compliant = p.CurrentStatus == "compliant"
		return none("current_status", p.CurrentStatus, "compliant", "not-compliant")
	case rulebook.AssuranceLevelChange:
		e.Increase = p.ChangeDirection == "increase"
		return none("change_direction", p.ChangeDirection, "", "increase", "decrease")
	case rulebook.RiskLevelChange:
		e.Level, e.NotOfUser = levels[p.CurrentLevel], p.Principal != "USER"
		if err := none("current_level", p.CurrentLevel, "LOW", "MEDIUM", "HIGH"); err != nil {
			return err
		}
		return none("principal", p.Principal, "USER", "DEVICE", "SESSION", "TENANT", "ORG_UNIT", "GROUP")
	}
	return nil
}

// Nothing reports an event that asks for nothing: a credential that was made, an assurance level that rose, the risk of
// something that is no user.
func (e *Event) Nothing() bool { return e.Created || e.Increase || e.NotOfUser }
