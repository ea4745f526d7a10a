package fastlog

// The fields of a line, in one table.

import (
	"slices"
	"strings"
	"time"

	"briskwarden.example/briskwarden/signon"
)

// field is a field of a line: where it stands, what it holds, and what becomes of its value.
type field struct {
	path  string
	kind  kind
	set   func(r *Reader, value []byte) (ok bool) // of text and scalar: sets a value, if it is one of the field
	begin func(r *Reader)                         // of a container, where it counts that it is there
}

// kind is what a field holds.
type kind uint8

const (
	text      kind = iota // a string
	scalar                // true, false or null; of a field that is not known, a number too
	container             // other fields
	constant              // the only value that there is
	library               // what is left to the library
)

// fields are those that a line may have, by their paths.
var fields = func() map[string]*field {
	byPath := map[string]*field{}
	for _, f := range slices.Concat(requestFields, sessionFields, evidenceFields, deviceFields()) {
		byPath[f.path] = &f
	}
	return byPath
}()

// Fields that are not known are ignored.
var (
	anyText   = field{kind: text, set: ignored}
	anyScalar = field{kind: scalar, set: ignored}
)

func ignored(*Reader, []byte) bool { return true }

// fieldAt is the field at a path; nil where a line has none.
func fieldAt(path string) *field {
	f := fields[path]
	if f == nil && strings.HasPrefix(path, devicePath) { // an attribute
		return &field{kind: library}
	}
	return f
}

var requestFields = []field{
	{path: "", kind: container},
	{path: "subject", kind: container},
	{path: "subject/type", kind: constant},
	{path: "subject/id", set: shared(func(r *Reader) *string { return &r.to.User })},
	{path: "subject/properties", kind: library},
	{path: "action", kind: container},
	{path: "action/name", set: shared(func(r *Reader) *string { return &r.to.Action })},
	{path: "resource", kind: container},
	{path: "resource/type", kind: constant},
	{path: "resource/id", set: shared(func(r *Reader) *string { return &r.to.App })},
	{path: "context", kind: container},
	{path: "context/id", set: func(r *Reader, v []byte) bool { r.to.ID = r.arena.text(v); return true }},
	{path: "context/time", set: instant(func(r *Reader) *time.Time { return &r.to.Time })},
	{path: "context/ip", set: func(r *Reader, v []byte) bool { return r.cache.addr(&r.to.IP, v) }},
	{path: "context/country", set: func(r *Reader, v []byte) bool {
		r.to.Country = r.cache.shared(v)
		return signon.IsCountry(r.to.Country)
	}},
	{path: "context/client", set: func(r *Reader, v []byte) bool {
		r.to.Client = signon.Client(r.cache.shared(v))
		return slices.Contains(signon.Clients, r.to.Client)
	}},
	{path: "context/presented", kind: container, begin: func(r *Reader) { r.to.Presented = []string{} }},
	{path: "context/presented/*", set: func(r *Reader, v []byte) bool {
		r.presented = append(r.presented, r.cache.shared(v))
		return true
	}},
	{path: "context/outcome", set: func(r *Reader, v []byte) (ok bool) {
		outcome, err := signon.ParseOutcome(r.cache.shared(v))
		r.to.Outcome, r.to.Recorded = outcome, true
		return err == nil
	}},
	{path: "context/risk", kind: library},
	{path: "context/consent", kind: library},
	{path: "context/suppose", kind: library},
}

var sessionFields = []field{
	{path: "context/session", kind: container},
	{path: "context/session/id", set: func(r *Reader, v []byte) bool { r.to.Session.ID = r.arena.text(v); return true }},
	{path: "context/session/started", set: instant(func(r *Reader) *time.Time { return &r.to.Session.Started })},
}

var evidenceFields = []field{
	{path: "context/evidence", kind: container},
	{path: "context/evidence/*", kind: container, begin: func(r *Reader) { r.evidence = append(r.evidence, signon.Evidence{}) }},
	{path: "context/evidence/*/method", set: shared(func(r *Reader) *string { return &r.latest().Method })},
	{path: "context/evidence/*/time", set: instant(func(r *Reader) *time.Time { return &r.latest().Time })},
	{path: "context/evidence/*/session", set: shared(func(r *Reader) *string { return &r.latest().Session })},
	{path: "context/evidence/*/device", set: shared(func(r *Reader) *string { return &r.latest().Device })},
	{path: "context/evidence/*/app", set: shared(func(r *Reader) *string { return &r.latest().App })},
}

const devicePath = "context/device/"

func deviceFields() []field {
	list := []field{
		{path: "context/device", kind: container, begin: func(r *Reader) { r.to.Device = r.arena.device() }},
		{path: devicePath + "reported", set: instant(func(r *Reader) *time.Time { return &r.to.Device.Reported })},
	}
	for _, w := range signon.DeviceWords {
		list = append(list, field{path: devicePath + w.Name, set: shared(func(r *Reader) *string { return w.Of(r.to.Device) })})
	}
	for _, f := range signon.DeviceFlags {
		list = append(list, field{path: devicePath + f.Name, kind: scalar, set: func(r *Reader, v []byte) bool { return setYesNo(f.Of(r.to.Device), v) }})
	}
	return list
}

// shared sets a string whose memory the like of it share.
func shared(of func(*Reader) *string) func(*Reader, []byte) bool {
	return func(r *Reader, value []byte) bool {
		*of(r) = r.cache.shared(value)
		return true
	}
}

func instant(of func(*Reader) *time.Time) func(*Reader, []byte) bool {
	return func(r *Reader, value []byte) bool { return r.cache.instant(of(r), value) }
}

func setYesNo(to *signon.YesNo, value []byte) (ok bool) {
	switch string(value) {
	case "true":
		*to = signon.Yes
	case "false":
		*to = signon.No
	case "null":
		*to = signon.Unknown
	default:
		return false
	}
	return true
}

// latest is the evidence at hand.
func (r *Reader) latest() *signon.Evidence { return &r.evidence[len(r.evidence)-1] }

// finish completes the line, and reports whether it is whole.
func (r *Reader) finish() bool {
	if len(r.presented) > 0 {
		r.to.Presented = r.arena.copyMethods(r.presented)
	}
	if len(r.evidence) == 0 {
		return true
	}
	for i := range r.evidence {
		if e := &r.evidence[i]; e.Method == "" || e.Time.IsZero() {
			return false
		}
	}
	r.to.Evidence = r.arena.copyEvidence(r.evidence)
	return true
}
