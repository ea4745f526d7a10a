package signon

// Sign-ons and decisions to JSON and back, by the JSON library; standard.go has the same for encoding/json.

import (
	"fmt"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"
)

// MarshalJSONTo writes the sign-on as a request; what is unknown is left out. One that is not
// valid is an error.
func (s SignOn) MarshalJSONTo(e *jsontext.Encoder) error {
	if err := s.Validate(); err != nil {
		return err
	}
	return json.MarshalEncode(e, s.request(), json.Deterministic(true))
}

// MarshalJSONTo writes the sign-on as a line of a log, with its outcome in context.outcome.
func (l Logged) MarshalJSONTo(e *jsontext.Encoder) error {
	if err := l.Validate(); err != nil {
		return err
	}
	if err := l.NotSupposed(); err != nil {
		return err
	}
	r := l.SignOn.request()
	if l.Recorded {
		word, err := l.Outcome.MarshalText()
		if err != nil {
			return err
		}
		r.Context.Outcome = jsontext.Value(`"` + string(word) + `"`)
	}
	return json.MarshalEncode(e, r, json.Deterministic(true))
}

func (s SignOn) request() request {
	r := request{
		Subject:  subject{Type: "user", ID: s.User, Properties: s.Properties},
		Action:   action{Name: s.Action},
		Resource: resource{Type: "app", ID: s.App},
		Context: context{
			ID: s.ID, Time: instant{s.Time}, IP: address{s.IP}, Country: country(s.Country), Client: s.Client,
			Session: session{s.Session.ID, instant{s.Session.Started}}, Presented: s.Presented, Risk: s.Risk,
			Consent: (*consent)(s.Consent), Suppose: s.Suppose,
		},
	}
	if d := s.Device; d != nil {
		r.Context.Device = &device{d.ID, d.OS, d.Version, d.Form, d.Managed, d.Compliant, d.Registered, d.Encrypted, d.Firewall,
			d.ScreenLock, d.Jailbroken, instant{d.Reported}, d.Attributes}
	}
	for _, v := range s.Evidence {
		r.Context.Evidence = append(r.Context.Evidence, evidence{v.Method, instant{v.Time}, v.Session, v.Device, v.App})
	}
	return r
}

// UnmarshalJSONFrom reads a request as [Decode] does.
func (s *SignOn) UnmarshalJSONFrom(d *jsontext.Decoder) error {
	v, err := d.ReadValue()
	if err != nil {
		return err
	}
	*s, err = Decode(v)
	return err
}

// UnmarshalJSONFrom reads a line of a log as [DecodeLogged] does.
func (l *Logged) UnmarshalJSONFrom(d *jsontext.Decoder) error {
	v, err := d.ReadValue()
	if err != nil {
		return err
	}
	*l, err = DecodeLogged(v)
	return err
}

// MarshalJSONTo writes a truth value; what is unknown is null.
func (y YesNo) MarshalJSONTo(e *jsontext.Encoder) error {
	switch y {
	case Yes:
		return e.WriteToken(jsontext.True)
	case No:
		return e.WriteToken(jsontext.False)
	case Unknown:
		return e.WriteToken(jsontext.Null)
	}
	return fmt.Errorf("%d is none of unknown, no and yes", y)
}

// The JSON of a decision.
type (
	response struct {
		Decision bool          `json:"decision"`
		Context  responseFacts `json:"context"`
	}
	responseFacts struct {
		ID        string        `json:"id,omitzero"`
		Outcome   Outcome       `json:"outcome"`
		Error     string        `json:"error,omitzero"`
		Message   string        `json:"message,omitzero"`
		Demands   []Demand      `json:"demands,omitempty"`
		Next      []Step        `json:"next,omitempty"`
		Notices   []string      `json:"notices,omitempty"`
		Session   SessionLimits `json:"session,omitzero"`
		ACRValues string        `json:"acr_values,omitzero"`
		MaxAge    *int64        `json:"max_age,omitzero"`
		Policies  []Entry       `json:"policies,omitzero"` // empty is written, nil is not
		Skipped   []Skipped     `json:"skipped,omitzero"`
		Waivers   []string      `json:"waivers,omitzero"`
		Watch     *Watch        `json:"watch,omitzero"`
		Risk      *Risk         `json:"risk,omitzero"`
		Rulebook  string        `json:"rulebook,omitzero"`
	}
)

// MarshalJSONTo writes the decision as a response of the AuthZEN API.
func (d Decision) MarshalJSONTo(e *jsontext.Encoder) error {
	r := response{Decision: d.Outcome == Grant && d.Error == "", Context: responseFacts{
		ID: d.ID, Outcome: d.Outcome, Error: d.Error, Message: d.Message, Demands: d.Demands, Next: d.Next,
		Notices: d.Notices, Session: d.Session, ACRValues: d.ACR, Rulebook: d.Rulebook,
	}}
	if d.Outcome == StepUp && d.MaxAge != NoMaxAge {
		r.Context.MaxAge = &d.MaxAge
	}
	if x := d.Explanation; x != nil {
		c := &r.Context
		c.Policies, c.Skipped, c.Waivers = written(x.Policies), written(x.Skipped), written(x.Waivers)
		c.Watch, c.Risk = x.Watch, x.Risk
	}
	return json.MarshalEncode(e, r)
}

// written is a list that is written even when it is empty.
func written[T any](list []T) []T {
	if list == nil {
		return []T{}
	}
	return list
}

// UnmarshalJSONFrom reads a response of the AuthZEN API.
func (d *Decision) UnmarshalJSONFrom(dec *jsontext.Decoder) error {
	var r response
	if err := json.UnmarshalDecode(dec, &r); err != nil {
		return err
	}
	c := r.Context
	if granted := c.Outcome == Grant && c.Error == ""; granted != r.Decision {
		return fmt.Errorf("decision is %t, though the outcome is %s", r.Decision, c.Outcome)
	}
	*d = Decision{ID: c.ID, Outcome: c.Outcome, Error: c.Error, Message: c.Message, Demands: c.Demands, Next: c.Next,
		Notices: c.Notices, Session: c.Session, ACR: c.ACRValues, MaxAge: NoMaxAge, Rulebook: c.Rulebook}
	if c.MaxAge != nil {
		d.MaxAge = *c.MaxAge
	}
	if c.Policies != nil {
		d.Explanation = &Explanation{Policies: c.Policies, Skipped: c.Skipped, Waivers: c.Waivers, Watch: c.Watch, Risk: c.Risk}
	}
	return nil
}
