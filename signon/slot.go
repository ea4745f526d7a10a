package signon

import "strings"

// slot is a value of a request that is read quickly, by the field that it is of.
type slot uint8

const (
	slotIgnored slot = iota // a string of a field that is not known
	slotUser
	slotAction
	slotApp
	slotID
	slotTime
	slotIP
	slotCountry
	slotClient
	slotDeviceID
	slotDeviceOS
	slotDeviceVersion
	slotDeviceForm
	slotDeviceReported
	slotSessionID
	slotSessionStarted
	slotPresented
	slotMethod
	slotGivenAt
	slotGivenSession
	slotGivenDevice
	slotGivenApp
	slotOutcome

	// From here on values are no strings.
	slotIgnoredScalar
	slotManaged
	slotCompliant
	slotRegistered
	slotEncrypted
	slotFirewall
	slotScreenLock
	slotJailbroken

	// From here on they are not read quickly.
	slotContainer // values are in it
	slotType      // "user" or "app", the only values that there are
	slotLibrary   // left to the library
)

func (s slot) scalar() bool { return s >= slotIgnoredScalar && s < slotContainer }

// slotAt is the slot at a path, if a request has a field there.
func slotAt(path string) (s slot, known bool) {
	if s, known = slots[path]; !known && strings.HasPrefix(path, "context/device/") { // an attribute
		return slotLibrary, true
	}
	return s, known
}

// slots are the known fields of a request by their paths.
var slots = map[string]slot{
	"":                    slotContainer,
	"subject":             slotContainer,
	"subject/type":        slotType,
	"subject/id":          slotUser,
	"subject/properties":  slotLibrary,
	"action":              slotContainer,
	"action/name":         slotAction,
	"resource":            slotContainer,
	"resource/type":       slotType,
	"resource/id":         slotApp,
	"context":             slotContainer,
	"context/id":          slotID,
	"context/time":        slotTime,
	"context/ip":          slotIP,
	"context/country":     slotCountry,
	"context/client":      slotClient,
	"context/presented":   slotContainer,
	"context/presented/*": slotPresented,
	"context/outcome":     slotOutcome,
	"context/risk":        slotLibrary,
	"context/consent":     slotLibrary,

	"context/session":         slotContainer,
	"context/session/id":      slotSessionID,
	"context/session/started": slotSessionStarted,

	"context/evidence":           slotContainer,
	"context/evidence/*":         slotContainer,
	"context/evidence/*/method":  slotMethod,
	"context/evidence/*/time":    slotGivenAt,
	"context/evidence/*/session": slotGivenSession,
	"context/evidence/*/device":  slotGivenDevice,
	"context/evidence/*/app":     slotGivenApp,

	"context/device":            slotContainer,
	"context/device/id":         slotDeviceID,
	"context/device/os":         slotDeviceOS,
	"context/device/version":    slotDeviceVersion,
	"context/device/form":       slotDeviceForm,
	"context/device/managed":    slotManaged,
	"context/device/compliant":  slotCompliant,
	"context/device/registered": slotRegistered,
	"context/device/encrypted":  slotEncrypted,
	"context/device/firewall":   slotFirewall,
	"context/device/screenlock": slotScreenLock,
	"context/device/jailbroken": slotJailbroken,
	"context/device/reported":   slotDeviceReported,
}

// openings are the containers of which it counts that they are there.
var openings = map[string]opening{
	"context/device":     opensDevice,
	"context/presented":  opensPresented,
	"context/evidence/*": opensEvidence,
}

// open begins what values are in.
func (r *Reader) open(o opening) {
	if o&opensDevice != 0 {
		r.to.Device = r.space.device()
	}
	if o&opensPresented != 0 {
		r.to.Presented = []string{}
	}
	if o&opensEvidence != 0 {
		r.given = append(r.given, Evidence{})
	}
}

// close completes the request, and reports whether it is whole.
func (r *Reader) close() bool {
	if len(r.presented) > 0 {
		r.to.Presented = r.space.copyMethods(r.presented)
	}
	if len(r.given) == 0 {
		return true
	}
	for i := range r.given {
		if e := &r.given[i]; e.Method == "" || e.Time.IsZero() {
			return false
		}
	}
	r.to.Evidence = r.space.copyEvidence(r.given)
	return true
}

// set sets a value, and reports whether it is one of the field.
func (r *Reader) set(s slot, value []byte) (ok bool) {
	l := r.to
	switch s {
	case slotIgnored, slotIgnoredScalar:
	case slotUser:
		l.User = r.recent.shared(value)
	case slotAction:
		l.Action = r.recent.shared(value)
	case slotApp:
		l.App = r.recent.shared(value)
	case slotID:
		l.ID = r.space.text(value)
	case slotTime:
		return r.recent.instant(&l.Time, value)
	case slotIP:
		return r.recent.addr(&l.IP, value)
	case slotCountry:
		l.Country = r.recent.shared(value)
		return IsCountry(l.Country)
	case slotClient:
		l.Client = Client(r.recent.shared(value))
		return l.Client.check() == ""
	case slotDeviceID:
		l.Device.ID = r.recent.shared(value)
	case slotDeviceOS:
		l.Device.OS = r.recent.shared(value)
	case slotDeviceVersion:
		l.Device.Version = r.recent.shared(value)
	case slotDeviceForm:
		l.Device.Form = r.recent.shared(value)
	case slotDeviceReported:
		return r.recent.instant(&l.Device.Reported, value)
	case slotSessionID:
		l.Session.ID = r.space.text(value)
	case slotSessionStarted:
		return r.recent.instant(&l.Session.Started, value)
	case slotPresented:
		r.presented = append(r.presented, r.recent.shared(value))
	case slotMethod:
		r.proof().Method = r.recent.shared(value)
	case slotGivenAt:
		return r.recent.instant(&r.proof().Time, value)
	case slotGivenSession:
		r.proof().Session = r.recent.shared(value)
	case slotGivenDevice:
		r.proof().Device = r.recent.shared(value)
	case slotGivenApp:
		r.proof().App = r.recent.shared(value)
	case slotOutcome:
		var err error
		l.Outcome, err = ParseOutcome(r.recent.shared(value))
		l.Recorded = true
		return err == nil
	default:
		return r.setYesNo(s, value)
	}
	return true
}

// setYesNo sets a yes-no fact of the device.
func (r *Reader) setYesNo(s slot, word []byte) (ok bool) {
	v := Unknown
	switch string(word) {
	case "true":
		v = Yes
	case "false":
		v = No
	case "null":
	default:
		return false
	}
	d := r.to.Device
	switch s {
	case slotManaged:
		d.Managed = v
	case slotCompliant:
		d.Compliant = v
	case slotRegistered:
		d.Registered = v
	case slotEncrypted:
		d.Encrypted = v
	case slotFirewall:
		d.Firewall = v
	case slotScreenLock:
		d.ScreenLock = v
	case slotJailbroken:
		d.Jailbroken = v
	}
	return true
}

// proof is the evidence at hand.
func (r *Reader) proof() *Evidence { return &r.given[len(r.given)-1] }
