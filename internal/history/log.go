package history

// What a history learns from a log.

import (
	"errors"
	"io"
	"net/netip"

	"briskwarden.example/briskwarden/internal/fastlog"
	"briskwarden.example/briskwarden/internal/place"
	"briskwarden.example/briskwarden/signon"
)

// Device is what a line says of a device.
type Device struct{ ID, OS, Form string }

// Locator tells where an address is.
type Locator interface {
	Locate(netip.Addr) (at place.Location, known bool)
}

// ReadLog reads a sign-on log, one request a line, and calls learn with every sign-on that
// teaches: those whose recorded outcome is grant, or that carry none. Of the others, passed
// are counted. Of every line, whatever its outcome, device is called with what it says of a
// device. An error is a [*lines.Error].
func ReadLog(in io.Reader, where Locator, learn func(SignOn), device func(Device)) (passed int, err error) {
	err = fastlog.Each(in, func(_ int, l *signon.Logged, wrong error) error {
		switch {
		case wrong != nil:
			return wrong
		case l.User == "":
			return errors.New("subject.id: is missing: a past sign-on names its user")
		}
		if d := l.Device; d != nil {
			device(Device{d.ID, d.OS, d.Form})
		}
		if l.Recorded && l.Outcome != signon.Grant {
			passed++
			return nil
		}
		learn(signOnOf(l, where))
		return nil
	})
	return passed, err
}

// signOnOf is what a history learns of a line.
func signOnOf(l *signon.Logged, where Locator) SignOn {
	s := SignOn{ID: l.ID, Query: Query{User: l.User, At: l.Time, Country: l.Country}}
	if l.Device != nil {
		s.Device = l.Device.ID
	}
	if l.IP.IsValid() {
		s.Place, _ = where.Locate(l.IP.Unmap())
		if s.Country == "" {
			s.Country = s.Place.Country
		}
	}
	return s
}
