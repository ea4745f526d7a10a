package signon

// Sign-ons from JSON.

import (
	"bytes"
	"errors"
	"fmt"
	"net/netip"
	"strconv"
	"strings"
	"time"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"

	"briskwarden.example/briskwarden/internal/spell"
)

// FieldError says which field of a request cannot be read, and why.
type FieldError struct {
	Field string // such as context.evidence[0].time; empty for the whole
	Msg   string
}

// Error gives "field: message".
func (e *FieldError) Error() string {
	if e.Field == "" {
		return e.Msg
	}
	return e.Field + ": " + e.Msg
}

// The JSON of a request, field by field.
type (
	request struct {
		Subject  subject  `json:"subject"`
		Action   action   `json:"action,omitzero"`
		Resource resource `json:"resource"`
		Context  context  `json:"context,omitzero"`
	}
	subject struct {
		Type       string         `json:"type,omitzero"`
		ID         string         `json:"id,omitzero"`
		Properties map[string]any `json:"properties,omitempty"`
	}
	action struct {
		Name string `json:"name,omitzero"`
	}
	resource struct {
		Type string `json:"type,omitzero"`
		ID   string `json:"id,omitzero"`
	}
	context struct {
		ID        string     `json:"id,omitzero"`
		Time      instant    `json:"time,omitzero"`
		IP        address    `json:"ip,omitzero"`
		Country   country    `json:"country,omitzero"`
		Client    Client     `json:"client,omitzero"`
		Device    *device    `json:"device,omitzero"`
		Session   session    `json:"session,omitzero"`
		Presented []string   `json:"presented,omitempty"`
		Evidence  []evidence `json:"evidence,omitempty"`
		Risk      *float64   `json:"risk,omitzero"`
		Consent   *consent   `json:"consent,omitzero"`

		Suppose map[string]any `json:"suppose,omitempty"`

		Outcome jsontext.Value `json:"outcome,omitzero"` // of a log
	}
	device struct {
		ID         string         `json:"id,omitzero"`
		OS         string         `json:"os,omitzero"`
		Version    string         `json:"version,omitzero"`
		Form       string         `json:"form,omitzero"`
		Managed    YesNo          `json:"managed,omitzero"`
		Compliant  YesNo          `json:"compliant,omitzero"`
		Registered YesNo          `json:"registered,omitzero"`
		Encrypted  YesNo          `json:"encrypted,omitzero"`
		Firewall   YesNo          `json:"firewall,omitzero"`
		ScreenLock YesNo          `json:"screenlock,omitzero"`
		Jailbroken YesNo          `json:"jailbroken,omitzero"`
		Reported   instant        `json:"reported,omitzero"`
		Attributes map[string]any `json:",embed"`
	}
	session struct {
		ID      string  `json:"id,omitzero"`
		Started instant `json:"started,omitzero"`
	}
	evidence struct {
		Method  string  `json:"method,omitzero"`
		Time    instant `json:"time,omitzero"`
		Session string  `json:"session,omitzero"`
		Device  string  `json:"device,omitzero"`
		App     string  `json:"app,omitzero"`
	}
	consent struct {
		Client    string     `json:"client,omitzero"`
		Name      string     `json:"name,omitzero"`
		Publisher string     `json:"publisher,omitzero"`
		Verified  YesNo      `json:"verified,omitzero"`
		Scopes    []string   `json:"scopes,omitzero"`
		For       ConsentFor `json:"for,omitzero"`
		Group     string     `json:"group,omitzero"`
		Owner     YesNo      `json:"owner,omitzero"`
	}
	instant struct{ time.Time }
	address struct{ netip.Addr }
	country string
)

// Decode reads one request. Absent and null mean the same: unknown; fields that are not
// known are ignored; keys match exactly. A byte order mark may stand first. A field that cannot be read is a [*FieldError].
func Decode(data []byte) (SignOn, error) {
	r, err := readRequest(data)
	if err == nil {
		err = r.check()
	}
	if err != nil {
		return SignOn{}, err
	}
	return r.signOn()
}

// blanks are the white space of JSON.
const blanks = " \t\r\n"

var byteOrderMark = []byte("\ufeff")

// readRequest reads a request with the JSON library.
func readRequest(data []byte) (r request, err error) {
	data = bytes.TrimPrefix(data, byteOrderMark)
	if string(bytes.Trim(data, blanks)) == "null" {
		return r, &FieldError{"", "expected an object, found null"}
	}
	if err := json.Unmarshal(data, &r); err != nil {
		return r, fieldError(err, data)
	}
	return r, nil
}

// DecodeID finds the context.id of a request that cannot be read as a whole, as far as it can.
func DecodeID(data []byte) string {
	d := jsontext.NewDecoder(bytes.NewReader(data), jsontext.AllowDuplicateNames(true), jsontext.AllowInvalidUTF8(true))
	for {
		t, err := d.ReadToken()
		if err != nil {
			return ""
		}
		if d.StackPointer() != "/context/id" || t.Kind() != '"' {
			continue
		}
		if kind, n := d.StackIndex(d.StackDepth()); kind == '{' && n%2 == 0 {
			return strings.ToValidUTF8(t.String(), "\ufffd")
		}
	}
}

func (r *request) check() error {
	switch {
	case r.Subject.Type != "" && r.Subject.Type != "user":
		return &FieldError{"subject.type", fmt.Sprintf(`%q is not known here: only "user" signs on`, r.Subject.Type)}
	case r.Resource.Type != "" && r.Resource.Type != "app":
		return &FieldError{"resource.type", fmt.Sprintf(`%q is not known here: only "app" is signed on to`, r.Resource.Type)}
	}
	return nil
}

func (r *request) signOn() (SignOn, error) {
	c := &r.Context
	s := SignOn{
		ID: c.ID, User: r.Subject.ID, Properties: r.Subject.Properties, Action: r.Action.Name, App: r.Resource.ID,
		Time: c.Time.Time, IP: c.IP.Addr, Country: string(c.Country), Client: c.Client,
		Device: (*Device)(nil), Session: Session{c.Session.ID, c.Session.Started.Time},
		Presented: c.Presented, Risk: c.Risk, Consent: (*Consent)(c.Consent), Suppose: c.Suppose,
	}
	if c.Device != nil {
		d := c.Device.plain()
		s.Device = &d
	}
	if len(c.Evidence) > 0 {
		s.Evidence = make([]Evidence, len(c.Evidence))
		for i, e := range c.Evidence {
			s.Evidence[i] = Evidence{e.Method, e.Time.Time, e.Session, e.Device, e.App}
		}
	}
	if err := s.Validate(); err != nil {
		return SignOn{}, err
	}
	return s, nil
}

func (d *device) plain() Device {
	return Device{d.ID, d.OS, d.Version, d.Form, d.Managed, d.Compliant, d.Registered, d.Encrypted, d.Firewall, d.ScreenLock,
		d.Jailbroken, d.Reported.Time, d.Attributes}
}

// DecodeDevice reads the device object of a request by itself, as an inventory lists it.
// Fields that are not a device's own are its Attributes.
func DecodeDevice(data []byte) (Device, error) {
	if string(bytes.Trim(data, blanks)) == "null" {
		return Device{}, &FieldError{"", "expected an object, found null"}
	}
	var d device
	if err := json.Unmarshal(data, &d); err != nil {
		return Device{}, fieldError(err, data)
	}
	return d.plain(), nil
}

// UnmarshalJSONFrom reads a truth value, or null.
func (y *YesNo) UnmarshalJSONFrom(d *jsontext.Decoder) error {
	t, err := d.ReadToken()
	if err != nil {
		return err
	}
	switch t.Kind() {
	case 't':
		*y = Yes
	case 'f':
		*y = No
	case 'n':
		*y = Unknown
	default:
		return fmt.Errorf("expected true or false, found %s", kindName(t.Kind()))
	}
	return nil
}

// unquote reads a string or null; given is false for null.
func unquote(d *jsontext.Decoder, what string) (text string, given bool, err error) {
	t, err := d.ReadToken()
	switch {
	case err != nil:
		return "", false, err
	case t.Kind() == 'n':
		return "", false, nil
	case t.Kind() != '"':
		return "", false, fmt.Errorf("expected %s as a string, found %s", what, kindName(t.Kind()))
	}
	return t.String(), true, nil
}

// UnmarshalJSONFrom reads an RFC 3339 instant in the years 1 to 9999, or null.
func (i *instant) UnmarshalJSONFrom(d *jsontext.Decoder) error {
	text, given, err := unquote(d, "a time")
	if err != nil || !given {
		return err
	}
	i.Time, err = ParseTime(text)
	return err
}

// ParseTime reads an RFC 3339 instant in the years 1 to 9999.
func ParseTime(text string) (time.Time, error) {
	t, err := time.Parse(time.RFC3339, text)
	if err != nil {
		return time.Time{}, fmt.Errorf("%q is no RFC 3339 time, such as 2026-11-23T08:15:00+01:00", spell.Clip(text))
	}
	if p := checkInstant(t); p != "" {
		return time.Time{}, fmt.Errorf("%q %s", spell.Clip(text), p)
	}
	if t.IsZero() { // which stands for a time that is not stated
		t = t.Add(1)
	}
	return t, nil
}

// UnmarshalJSONFrom reads an IPv4 or IPv6 address, or null.
func (a *address) UnmarshalJSONFrom(d *jsontext.Decoder) error {
	text, given, err := unquote(d, "an address")
	if err != nil || !given {
		return err
	}
	a.Addr, err = ParseAddr(text)
	return err
}

// ParseAddr reads an IPv4 or IPv6 address without zone. An IPv4-mapped IPv6 address comes out as IPv4.
func ParseAddr(text string) (netip.Addr, error) {
	a, err := netip.ParseAddr(text)
	if err != nil {
		return netip.Addr{}, fmt.Errorf("%q is no IPv4 or IPv6 address", spell.Clip(text))
	}
	return a.Unmap(), checkAddr(a).asError()
}

// UnmarshalJSONFrom reads a country code, or null.
func (c *country) UnmarshalJSONFrom(d *jsontext.Decoder) error {
	text, given, err := unquote(d, "a country")
	if err == nil && given {
		err = checkCountry(text).asError()
	}
	*c = country(text)
	return err
}

// UnmarshalJSONFrom reads a kind of client, or null.
func (c *Client) UnmarshalJSONFrom(d *jsontext.Decoder) error {
	text, given, err := unquote(d, "a client")
	*c = Client(text)
	if err == nil && given {
		err = c.check().asError()
	}
	return err
}

// UnmarshalJSONFrom reads for whom a consent is, or null.
func (c *ConsentFor) UnmarshalJSONFrom(d *jsontext.Decoder) error {
	text, given, err := unquote(d, "for whom it is")
	*c = ConsentFor(text)
	if err == nil && given {
		err = c.check().asError()
	}
	return err
}

func kindName(k jsontext.Kind) string {
	switch k {
	case '"':
		return "a string"
	case '0':
		return "a number"
	case 't', 'f':
		return "true or false"
	case '{':
		return "an object"
	case '[':
		return "an array"
	case 'n':
		return "null"
	}
	return "no value"
}

// fieldError puts an error of the JSON library into the words of the request.
func fieldError(err error, data []byte) *FieldError {
	var syntactic *jsontext.SyntacticError
	if errors.As(err, &syntactic) {
		at := fmt.Sprintf(" (byte %d)", syntactic.ByteOffset+1)
		if len(bytes.Trim(data, blanks)) == 0 {
			return &FieldError{"", "expected a request in JSON, found nothing"}
		}
		return &FieldError{fieldName(syntactic.JSONPointer), "not JSON: " + strings.TrimPrefix(syntactic.Err.Error(), "jsontext: ") + at}
	}
	var semantic *json.SemanticError
	if !errors.As(err, &semantic) {
		return &FieldError{"", err.Error()}
	}
	field := fieldName(semantic.JSONPointer)
	if semantic.Err != nil && semantic.GoType != nil && semantic.GoType.PkgPath() != "" {
		return &FieldError{field, semantic.Err.Error()}
	}
	want := "a value of another type"
	if t := semantic.GoType; t != nil {
		switch t.Kind().String() {
		case "string":
			want = "a string"
		case "float64", "ptr":
			want = "a number"
		case "slice":
			want = "an array"
		case "struct", "map":
			want = "an object"
		}
	}
	return &FieldError{field, fmt.Sprintf("expected %s, found %s", want, kindName(semantic.JSONKind))}
}

// fieldName turns a JSON pointer (RFC 6901) into the dotted name of a field.
func fieldName(p jsontext.Pointer) string {
	var b strings.Builder
	for t := range p.Tokens() {
		switch _, err := strconv.Atoi(t); {
		case err == nil:
			b.WriteString("[" + t + "]")
		case b.Len() > 0:
			b.WriteString("." + t)
		default:
			b.WriteString(t)
		}
	}
	return b.String()
}
