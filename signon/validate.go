package signon

// What a sign-on can state, and what it cannot: the same for Go programs and for JSON.

import (
	"errors"
	"fmt"
	"math"
	"net/netip"
	"strings"
	"time"
	"unicode/utf8"

	"briskwarden.example/briskwarden/internal/spell"
)

// Validate reports the first field that cannot be, as a [*FieldError] in the words of the
// request's JSON: an address with a zone, a country, client or beneficiary that is none, an
// instant outside the years 1 to 9999, a number that is not finite, evidence without method or
// time, a scope that is no token of RFC 6749, text that is not UTF-8. Deciding on such a
// sign-on is an error and a block; what [Decode] gives is always valid.
func (s *SignOn) Validate() error {
	v := validator{}
	v.text("context.id", s.ID)
	v.text("subject.id", s.User)
	v.text("action.name", s.Action)
	v.text("resource.id", s.App)
	v.values("subject.properties", s.Properties)
	v.instant("context.time", s.Time)
	v.check("context.ip", checkAddr(s.IP))
	if s.Country != "" {
		v.check("context.country", checkCountry(s.Country))
	}
	if s.Client != "" {
		v.check("context.client", s.Client.check())
	}
	if s.Device != nil {
		v.device(s.Device)
	}
	v.text("context.session.id", s.Session.ID)
	v.instant("context.session.started", s.Session.Started)
	for i, method := range s.Presented {
		v.item("context.presented[%d]", i, checkText(method))
	}
	for i := range s.Evidence {
		v.evidence(i, &s.Evidence[i])
	}
	if s.Risk != nil {
		v.check("context.risk", checkNumber(*s.Risk))
	}
	if s.Consent != nil {
		v.consent(s.Consent)
	}
	v.values("context.suppose", s.Suppose)
	return v.err()
}

// NotSupposed reports a sign-on that supposes something, where only what really happened counts.
func (s *SignOn) NotSupposed() error {
	if len(s.Suppose) > 0 {
		return &FieldError{"context.suppose", "what really happened is not supposed: leave it out"}
	}
	return nil
}

// validator keeps the first field that is wrong.
type validator struct{ first *FieldError }

func (v *validator) err() error {
	if v.first == nil {
		return nil
	}
	return v.first
}

// problem says what is wrong with a value; empty is nothing.
type problem string

func (p problem) asError() error {
	if p == "" {
		return nil
	}
	return errors.New(string(p))
}

func (v *validator) check(field string, p problem) {
	if p != "" {
		v.found(field, p)
	}
}

func (v *validator) found(field string, p problem) {
	if v.first == nil {
		v.first = &FieldError{field, string(p)}
	}
}

// item checks what stands in a list.
func (v *validator) item(form string, i int, p problem) {
	if p != "" {
		v.check(fmt.Sprintf(form, i), p)
	}
}

func (v *validator) text(field, text string) {
	if p := checkText(text); p != "" {
		v.found(field, p)
	}
}

// instant checks an instant that may be left out.
func (v *validator) instant(field string, t time.Time) {
	if !t.IsZero() {
		v.check(field, checkInstant(t))
	}
}

func checkYesNo(y YesNo) problem {
	if y < Unknown || y > Yes {
		return noYesNo(y)
	}
	return ""
}

func noYesNo(y YesNo) problem { return problem(fmt.Sprintf("%d is none of unknown, no and yes", y)) }

// values checks attributes, declared or not, and names the first by name that is wrong.
func (v *validator) values(field string, list map[string]any) {
	if len(list) == 0 {
		return
	}
	wrong, what := "", problem("")
	for name, value := range list {
		if p := checkValue(name, value); p != "" && (what == "" || name < wrong) {
			wrong, what = name, p
		}
	}
	if what != "" {
		v.check(field+"."+strings.ToValidUTF8(wrong, "\ufffd"), what)
	}
}

func checkValue(name string, value any) problem {
	if p := checkText(name); p != "" {
		return "has a name that " + p
	}
	switch x := value.(type) {
	case string:
		return checkText(x)
	case float64:
		return checkNumber(x)
	}
	return ""
}

func (v *validator) device(d *Device) {
	words, flags := d.words(), d.flags()
	for i := range words {
		if p := checkText(words[i]); p != "" {
			v.found("context.device."+DeviceWords[i].Name, p)
		}
	}
	for i := range flags {
		if p := checkYesNo(flags[i]); p != "" {
			v.found("context.device."+DeviceFlags[i].Name, p)
		}
	}
	v.instant("context.device.reported", d.Reported)
	v.values("context.device", d.Attributes)
}

func (v *validator) evidence(i int, e *Evidence) {
	const form = "context.evidence[%d]."
	switch {
	case e.Method == "":
		v.item(form+"method", i, "is missing: evidence names its method")
	case e.Time.IsZero():
		v.item(form+"time", i, "is missing: evidence says when it was given")
	}
	v.item(form+"method", i, checkText(e.Method))
	v.item(form+"time", i, checkInstant(e.Time))
	v.item(form+"session", i, checkText(e.Session))
	v.item(form+"device", i, checkText(e.Device))
	v.item(form+"app", i, checkText(e.App))
}

func (v *validator) consent(c *Consent) {
	v.text("context.consent.client", c.Client)
	v.text("context.consent.name", c.Name)
	v.text("context.consent.publisher", c.Publisher)
	v.check("context.consent.verified", checkYesNo(c.Verified))
	for i, scope := range c.Scopes {
		v.item("context.consent.scopes[%d]", i, checkScope(scope))
	}
	if c.For != "" {
		v.check("context.consent.for", c.For.check())
	}
	v.text("context.consent.group", c.Group)
	v.check("context.consent.owner", checkYesNo(c.Owner))
}

// checkText is quick about ASCII, as most text is.
func checkText(text string) problem {
	for i := range len(text) {
		if text[i] >= utf8.RuneSelf {
			return checkRunes(text[i:])
		}
	}
	return ""
}

func checkRunes(text string) problem {
	if utf8.ValidString(text) {
		return ""
	}
	return "is not UTF-8"
}

// checkInstant holds the years 1 to 9999 against an instant, by UTC and by its own offset.
func checkInstant(t time.Time) problem {
	const first, last, day = -62135596800, 253402300799, 24 * 60 * 60 // seconds of the years 1 and 9999, in UTC
	s := t.Unix()
	inside := s >= first && s <= last
	if inside && (s < first+day || s > last-day) {
		inside = t.Year() >= 1 && t.Year() <= 9999
	}
	if !inside {
		return "lies outside the years 1 to 9999"
	}
	return ""
}

func checkAddr(a netip.Addr) problem {
	if a.Zone() != "" {
		return problem(fmt.Sprintf("%q carries a zone: leave out what stands after the %%", spell.Clip(a.String())))
	}
	return ""
}

func checkCountry(code string) problem {
	if IsCountry(code) {
		return ""
	}
	return problem(fmt.Sprintf("%q is no country: ISO 3166-1 alpha-2 in capitals, such as NO", spell.Clip(code)))
}

func (c Client) check() problem {
	if c == Browser || c == Native || c == Legacy || c == Unattended {
		return ""
	}
	return problem(fmt.Sprintf("%q is no client: browser, native, legacy or unattended", spell.Clip(string(c))))
}

func (c ConsentFor) check() problem {
	if c == ForSelf || c == ForGroup || c == ForEveryone {
		return ""
	}
	return problem(fmt.Sprintf("%q is none of self, group and everyone", spell.Clip(string(c))))
}

func checkNumber(x float64) problem {
	if math.IsNaN(x) || math.IsInf(x, 0) {
		return "is no finite number"
	}
	return ""
}

// checkScope holds a scope against the tokens of RFC 6749, section 3.3.
func checkScope(scope string) problem {
	if IsScope(scope) {
		return ""
	}
	return problem(fmt.Sprintf("%q is no scope (RFC 6749): printable ASCII without spaces, double quotes and backslashes", spell.Clip(scope)))
}

// IsScope reports whether a text is a scope token of RFC 6749, section 3.3: printable ASCII
// without spaces, double quotes and backslashes, and not empty.
func IsScope(text string) bool { return text != "" && strings.IndexFunc(text, notInScope) < 0 }

func notInScope(r rune) bool { return r <= ' ' || r > '~' || r == '"' || r == '\\' }
