package history

import (
	"errors"
	"fmt"
	"io"
	"net/netip"

	"github.com/go-json-experiment/json"

	"briskwarden.example/briskwarden/internal/lines"
	"briskwarden.example/briskwarden/internal/place"
	"briskwarden.example/briskwarden/signon"
)

// logged is what a line of a sign-on log says of what was before.
type logged struct {
	Subject struct {
		ID string `json:"id"`
	} `json:"subject"`
	Context struct {
		ID      string  `json:"id"`
		Time    string  `json:"time"`
		IP      string  `json:"ip"`
		Country string  `json:"country"`
		Device  Device  `json:"device"`
		Outcome *string `json:"outcome"`
	} `json:"context"`
}

// Device is what a line says of a device.
type Device struct {
	ID   string `json:"id"`
	OS   string `json:"os"`
	Form string `json:"form"`
}

// Locator tells where an address is.
type Locator interface {
	Locate(netip.Addr) (at place.Location, known bool)
}

// ReadLog reads a sign-on log, one request a line, and calls learn with every sign-on that
// teaches: those whose recorded outcome is grant, or that carry none. Of the others, passed
// are counted. Of every line, whatever its outcome, device is called with what it says of a
// device. An error is a [*lines.Error].
func ReadLog(in io.Reader, where Locator, learn func(SignOn), device func(Device)) (passed int, err error) {
	err = lines.Each(in, func(_ int, text []byte) error {
		if len(lines.Trimmed(text)) == 0 {
			return nil
		}
		var l logged
		if err := json.Unmarshal(text, &l); err != nil {
			_, err = lines.JSON(err)
			return err
		}
		device(l.Context.Device)
		teaches, err := l.teaches()
		switch {
		case err != nil:
			return err
		case !teaches:
			passed++
			return nil
		}
		s, err := l.signOn(where)
		if err == nil {
			learn(s)
		}
		return err
	})
	return passed, err
}

func (l *logged) teaches() (bool, error) {
	if l.Context.Outcome == nil {
		return true, nil
	}
	outcome, err := signon.ParseOutcome(*l.Context.Outcome)
	if err != nil {
		return false, fmt.Errorf("context.outcome: %w", err)
	}
	return outcome == signon.Grant, nil
}

func (l *logged) signOn(where Locator) (s SignOn, err error) {
	c := &l.Context
	switch {
	case l.Subject.ID == "":
		return s, errors.New("subject.id: is missing: a past sign-on names its user")
	case c.Time == "":
		return s, errors.New("context.time: is missing: a past sign-on says when it was")
	case c.Country != "" && !signon.IsCountry(c.Country):
		return s, fmt.Errorf("context.country: there is no country %q", c.Country)
	}
	s = SignOn{ID: c.ID, Query: Query{User: l.Subject.ID, Country: c.Country, Device: c.Device.ID}}
	if s.At, err = signon.ParseTime(c.Time); err != nil {
		return s, fmt.Errorf("context.time: %w", err)
	}
	if c.IP == "" {
		return s, nil
	}
	a, err := signon.ParseAddr(c.IP)
	if err != nil {
		return s, fmt.Errorf("context.ip: %w", err)
	}
	s.Place, _ = where.Locate(a.Unmap())
	if s.Country == "" {
		s.Country = s.Place.Country
	}
	return s, nil
}
