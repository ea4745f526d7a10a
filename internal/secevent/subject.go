package secevent

// Whom an event is about.

import (
	"errors"
	"fmt"
	"strings"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"
)

// Subject is whom an event is about: a user, of whose sessions perhaps one, or a device.
type Subject struct {
	User, Device []Identifier // all of them name the same
	Session      string       // of a user; empty is all of them
}

// Identifier names a user or a device.
type Identifier struct {
	Issuer string // who knows it by that name; empty: by the name that this program knows it by
	Name   string
}

// member is a subject identifier of RFC 9493, or the complex one of OpenID Shared Signals 1.0, section 3.
type member struct {
	Format string `json:"format"`

	ID      string           `json:"id"`
	Issuer  string           `json:"iss"`
	Subject string           `json:"sub"`
	Email   string           `json:"email"`
	URI     string           `json:"uri"`
	Aliases []jsontext.Value `json:"identifiers"`

	User    jsontext.Value `json:"user"`
	Device  jsontext.Value `json:"device"`
	Session jsontext.Value `json:"session"`
}

func parse(data jsontext.Value) (*member, error) {
	var m member
	if err := json.Unmarshal(data, &m); err != nil {
		return nil, err
	}
	if m.Format == "" {
		return nil, errors.New(`a subject has no "format"`)
	}
	return &m, nil
}

// subjectOf reads the subject of the token or of the event.
func subjectOf(token, event jsontext.Value, ofDevice bool) (s Subject, err error) {
	switch {
	case token != nil && event != nil:
		return s, errors.New(`both the token and the event have a subject`)
	case token == nil && event == nil:
		return s, errors.New(`it has no subject: "sub_id" says whom it is about`)
	case token == nil:
		token = event
	}
	m, err := parse(token)
	switch {
	case err != nil:
		return s, err
	case m.Format != "complex" && ofDevice:
		s.Device, err = m.names(false)
		return s, err
	case m.Format != "complex":
		s.User, err = m.names(false)
		return s, err
	}
	for _, part := range []struct {
		data jsontext.Value
		into *[]Identifier
	}{{m.User, &s.User}, {m.Device, &s.Device}} {
		if part.data == nil {
			continue
		}
		named, err := parse(part.data)
		if err != nil {
			return s, err
		}
		if *part.into, err = named.names(false); err != nil {
			return s, err
		}
	}
	if m.Session != nil {
		s.Session, err = session(m.Session)
	}
	return s, err
}

// session is the session's id; empty, and so all of the user's, where it is named in a way that is not understood.
func session(data jsontext.Value) (string, error) {
	m, err := parse(data)
	if err != nil {
		return "", err
	}
	list, err := m.names(false)
	if err != nil || len(list) != 1 {
		return "", err
	}
	return list[0].Name, nil
}

// names are the identifiers of a member; none where its format is not understood.
func (m *member) names(nested bool) ([]Identifier, error) {
	one := func(member, value, issuer string) ([]Identifier, error) {
		if value == "" {
			return nil, fmt.Errorf("a subject of the format %s has no %q", m.Format, member)
		}
		if len(value) > 512 {
			return nil, fmt.Errorf("%q of a subject is longer than 512 bytes", member)
		}
		return []Identifier{{issuer, value}}, nil
	}
	switch m.Format {
	case "opaque":
		return one("id", m.ID, "")
	case "email":
		return one("email", m.Email, "")
	case "account":
		return one("uri", strings.TrimPrefix(m.URI, "acct:"), "")
	case "iss_sub":
		if m.Issuer == "" {
			return nil, errors.New(`a subject of the format iss_sub has no "iss"`)
		}
		return one("sub", m.Subject, m.Issuer)
	case "aliases":
		return m.aliases(nested)
	}
	return nil, nil
}

func (m *member) aliases(nested bool) (all []Identifier, err error) {
	if nested || len(m.Aliases) == 0 || len(m.Aliases) > 16 {
		return nil, errors.New("aliases are one to 16 subjects, none of them aliases")
	}
	for _, data := range m.Aliases {
		alias, err := parse(data)
		if err != nil {
			return nil, err
		}
		list, err := alias.names(true)
		if err != nil {
			return nil, err
		}
		all = append(all, list...)
	}
	return all, nil
}
