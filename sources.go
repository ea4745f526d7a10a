package briskwarden

// Where a program's own facts come from.

import (
	"context"
	"errors"
	"fmt"
	"math"
	"net/netip"
	"sync"
	"time"

	"briskwarden.example/briskwarden/internal/directory"
	"briskwarden.example/briskwarden/internal/engine"
	"briskwarden.example/briskwarden/internal/history"
	"briskwarden.example/briskwarden/internal/place"
	"briskwarden.example/briskwarden/internal/posture"
	"briskwarden.example/briskwarden/internal/rulebook"
	"briskwarden.example/briskwarden/signon"
)

// People looks up the users of a program's own directory. It is called from many goroutines at once,
// with the context of who asks for the decision.
type People interface {
	// Person finds a user by id, which compares exactly, case included: to find "bob" for
	// "BOB" would take him past what names him. An error blocks the sign-on at hand, and is
	// given back.
	Person(ctx context.Context, id string) (person Person, found bool, err error)
}

// Person is what a program's own directory knows of a user.
type Person struct {
	ID         string   // as the directory has it: one that is not the id asked for is an error; empty is that id
	Type       string   // employee, guest or service; empty is employee
	Groups     []string // direct ones; what the rulebook nests them in is added
	Methods    []string // those that the user is enrolled in
	Joined     time.Time
	Risk       string // none, low, medium or high; empty is none
	Disabled   bool
	Attributes map[string]any // by name without "user."; a string, bool or float64; a date is a string
}

// Places tells where addresses are, in place of the rulebook's own geo sources. It is called from
// many goroutines at once.
type Places interface {
	// Locate tells where an address is; the zero Location is unknown. An error, or a location that
	// cannot be, blocks the sign-on at hand, and is given back.
	Locate(ctx context.Context, address netip.Addr) (Location, error)
}

// Location is where an address is.
type Location struct {
	Country    string  // ISO 3166-1 alpha-2; empty is unknown
	Positioned bool    // whether the three below are known
	Latitude   float64 // in degrees, north positive
	Longitude  float64 // in degrees, east positive
	AccuracyKM float64 // the radius, in kilometres, within which the address is
}

// Inventory looks up devices, in place of the rulebook's own inventories. It is called from many
// goroutines at once.
type Inventory interface {
	// Device finds a device by its id, which compares exactly. Nobody changes what it gives. An
	// error, or a device that cannot be, blocks the sign-on at hand, and is given back.
	Device(ctx context.Context, id string) (device Device, found bool, err error)
}

// Device is what an inventory knows of a device. Of managed, compliant, registered and the owner
// its word stands; of every other field what a sign-on states wins.
type Device struct {
	signon.Device
	Owner string // a user's id; empty is unknown
}

// History is what was before, held in memory: what is kept of each user is bounded. It begins with
// the logs that the first rulebook opened with it names, and is taught by [Rulebook.Learn]. It goes
// on when a [Live] reloads. Its zero value is ready for use, and safe for concurrent use.
type History struct {
	once sync.Once
	past *history.Past
}

// begin is the history itself, once the first rulebook is read.
func (h *History) begin(rb *rulebook.Rulebook) *history.Past {
	h.once.Do(func() {
		if rb.Past != nil {
			h.past = rb.Past.Branch()
		} else {
			h.past = history.NewPast(rb.Zone)
		}
	})
	return h.past
}

// Learn teaches the [History] that the rulebook was opened with that a sign-on was granted. The
// same ID teaches once. The error says that there is no such history, which field of the sign-on
// cannot be, or that a source cannot be asked.
func (r *Rulebook) Learn(ctx context.Context, s signon.SignOn) error {
	if r.history == nil {
		return errors.New("the rulebook was opened without WithHistory: nothing can be learned")
	}
	if err := s.Validate(); err != nil {
		return err
	}
	return r.engine.Teach(ctx, r.history, &s)
}

type peopleSource struct{ People }

func (p peopleSource) Person(ctx context.Context, id string) (directory.Person, bool, error) {
	person, found, err := p.People.Person(ctx, id)
	if err == nil && found && person.ID != "" && person.ID != id {
		return directory.Person{}, false, fmt.Errorf("the directory gave %q instead", person.ID)
	}
	person.ID = id
	return directory.Person(person), found, err
}

type placeSource struct{ Places }

func (p placeSource) Locate(ctx context.Context, address netip.Addr) (place.Location, error) {
	at, err := p.Places.Locate(ctx, address)
	within := func(x, most float64) bool { return -most <= x && x <= most }
	switch {
	case err != nil:
	case at.Country != "" && !signon.IsCountry(at.Country):
		err = fmt.Errorf("%q is no country of ISO 3166-1", at.Country)
	case at.Positioned && !(within(at.Latitude, 90) && within(at.Longitude, 180) && within(at.AccuracyKM, math.MaxFloat64) && at.AccuracyKM >= 0):
		err = fmt.Errorf("%v, %v within %v km is no position", at.Latitude, at.Longitude, at.AccuracyKM)
	}
	return place.Location(at), err
}

type deviceSource struct{ Inventory }

func (d deviceSource) Device(ctx context.Context, id string) (*posture.Record, error) {
	device, found, err := d.Inventory.Device(ctx, id)
	if err != nil || !found {
		return nil, err
	}
	if device.ID != id {
		return nil, fmt.Errorf("the inventory gave %q instead", device.ID)
	}
	if err := (&signon.SignOn{Device: &device.Device}).Validate(); err != nil {
		return nil, err
	}
	return &posture.Record{Device: device.Device, Owner: device.Owner}, nil
}

var (
	_ engine.People    = peopleSource{}
	_ engine.Places    = placeSource{}
	_ engine.Inventory = deviceSource{}
)
