package directory

import (
	"errors"
	"fmt"
	"io"
	"regexp"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/go-ldap/ldap/v3"
	"github.com/go-ldap/ldif"

	"briskwarden.example/briskwarden/internal/lines"
)

// The object classes that count, in small letters; what has none of them is left aside.
var (
	personClasses = []string{"person", "organizationalperson", "inetorgperson", "posixaccount", "account"}
	groupClasses  = []string{"groupofnames", "groupofuniquenames", "posixgroup"}
)

// ReadLDIF reads the entries of persons and groups (RFC 2849, object classes of RFC 4519 and RFC 2307).
func ReadLDIF(in io.Reader, sink Sink) error {
	r := &ldifReader{sink: sink}
	if err := lines.Each(in, r.line); err != nil {
		return err
	}
	return r.end()
}

// ldifReader cuts the text into records, for the library to parse each by itself.
type ldifReader struct {
	sink  Sink
	text  strings.Builder
	start int // the line of the record's beginning; 0 between records
}

// mostRecord is the size in bytes of the largest record.
const mostRecord = 64 << 20

func (r *ldifReader) line(n int, text []byte) error {
	switch {
	case len(text) == 0:
		return r.end()
	case fromURL.Match(text):
		return errors.New("a value from a URL (\":<\") is never fetched: put the value itself into the file")
	case r.text.Len()+len(text) > mostRecord:
		return fmt.Errorf("the record is larger than %d MiB", mostRecord>>20)
	case emptyValue.Match(text):
		return nil // not stated
	}
	if r.start == 0 {
		r.start = n
	}
	r.text.Write(text)
	r.text.WriteByte('\n')
	return nil
}

var (
	fromURL    = regexp.MustCompile(`^[A-Za-z0-9.;-]+:<`)
	emptyValue = regexp.MustCompile(`^[A-Za-z0-9.;-]+:[: ]*$`)
)

// end parses the record that was gathered, if any.
func (r *ldifReader) end() error {
	text, line := r.text.String(), r.start
	r.text.Reset()
	r.start = 0
	if strings.TrimSpace(text) == "" {
		return nil
	}
	parsed, err := ldif.Parse(text)
	var inLine *ldif.ParseError
	if errors.As(err, &inLine) {
		err = errors.New("the record cannot be read: " + inLine.Message)
	}
	if err == nil {
		err = r.records(parsed, line)
	}
	return lines.At(line, err)
}

func (r *ldifReader) records(parsed *ldif.LDIF, line int) error {
	for _, e := range parsed.Entries {
		if e.Entry == nil {
			return errors.New("the record is a change (\"changetype\"), not an entry: export the entries themselves")
		}
		if err := r.entry(attributesOf(e.Entry), line); err != nil {
			return err
		}
	}
	return nil
}

// entry is an LDAP entry by its attributes' names in small letters, without options.
type entry struct {
	dn     string
	values map[string][]string
}

func attributesOf(e *ldap.Entry) *entry {
	x := &entry{dn: e.DN, values: map[string][]string{}}
	for _, a := range e.Attributes {
		name, _, _ := strings.Cut(strings.ToLower(a.Name), ";")
		x.values[name] = append(x.values[name], a.Values...)
	}
	return x
}

func (x *entry) first(name string) string {
	if v := x.values[name]; len(v) > 0 {
		return v[0]
	}
	return ""
}

func (x *entry) among(classes []string) bool {
	return slices.ContainsFunc(x.values["objectclass"], func(c string) bool { return slices.Contains(classes, strings.ToLower(c)) })
}

func (r *ldifReader) entry(x *entry, line int) error {
	key, err := keyOfDN(x.dn)
	if err != nil {
		return err
	}
	for name, values := range x.values {
		if i := slices.IndexFunc(values, func(v string) bool { return !utf8.ValidString(v) }); i >= 0 && slices.Contains(readHere, name) {
			return fmt.Errorf("%s: %w", name, lines.ErrNotUTF8)
		}
	}
	switch {
	case x.among(groupClasses):
		return r.group(x, key, line)
	case x.among(personClasses):
		return r.person(x, key, line)
	}
	r.sink.Aside("neither person nor group")
	return nil
}

// readHere are the attributes that are read.
var readHere = []string{"uid", "mail", "cn", "employeetype", "departmentnumber", "title", "createtimestamp", "member", "uniquemember", "memberuid", "memberof"}

func (r *ldifReader) person(x *entry, key string, line int) (err error) {
	u := User{ID: x.first("uid"), Key: key}
	if u.ID == "" {
		u.ID = x.first("mail")
	}
	if u.ID == "" {
		return fmt.Errorf("the person %s has neither uid nor mail", x.dn)
	}
	if u.Type, err = typeOf(x.first("employeetype")); err != nil {
		return fmt.Errorf("employeeType: %w", err)
	}
	if stamp := x.first("createtimestamp"); stamp != "" {
		if u.Joined, err = generalizedTime(stamp); err != nil {
			return fmt.Errorf("createTimestamp: %w", err)
		}
	}
	for _, a := range [...]struct{ name, from string }{{"department", "departmentnumber"}, {"title", "title"}} {
		if v := x.first(a.from); v != "" {
			u.Attributes = append(u.Attributes, Attribute{a.name, v})
		}
	}
	for _, dn := range x.values["memberof"] {
		group, err := referenceOfDN(dn)
		if err != nil {
			return fmt.Errorf("memberOf: %w", err)
		}
		u.Groups = append(u.Groups, group)
	}
	return r.sink.User(line, &u)
}

func (r *ldifReader) group(x *entry, key string, line int) error {
	g := Group{Name: x.first("cn"), Key: key}
	if g.Name == "" {
		return fmt.Errorf("the group %s has no cn", x.dn)
	}
	for _, dn := range append(x.values["member"], x.values["uniquemember"]...) {
		if dn == "" {
			continue
		}
		member, err := referenceOfDN(dn)
		if err != nil {
			return fmt.Errorf("member: %w", err)
		}
		g.Members = append(g.Members, member)
	}
	for _, uid := range x.values["memberuid"] {
		g.Members = append(g.Members, Reference{Name: uid})
	}
	return r.sink.Group(line, &g)
}

// keyOfDN is a distinguished name (RFC 4514) as it is compared: in small letters, without idle spaces.
func keyOfDN(dn string) (string, error) {
	parsed, err := ldap.ParseDN(dn)
	if err != nil {
		return "", fmt.Errorf("%q is no distinguished name", dn)
	}
	return strings.ToLower(parsed.String()), nil
}

// referenceOfDN names an entry by its distinguished name; should nothing have that, by its first value.
func referenceOfDN(dn string) (Reference, error) {
	if name, _, hasUID := strings.Cut(dn, "#'"); hasUID {
		dn = name // the unique identifier of a uniqueMember (RFC 4517)
	}
	key, err := keyOfDN(dn)
	if err != nil {
		return Reference{}, err
	}
	parsed, _ := ldap.ParseDN(dn)
	ref := Reference{Key: key}
	if len(parsed.RDNs) > 0 {
		ref.Name = parsed.RDNs[0].Attributes[0].Value
	}
	return ref, nil
}

// generalizedTime reads a time of RFC 4517, such as 20240201090000Z.
func generalizedTime(text string) (time.Time, error) {
	for _, layout := range []string{"20060102150405Z", "20060102150405.999999999Z", "20060102150405-0700", "200601021504Z", "2006010215Z"} {
		if t, err := time.Parse(layout, text); err == nil && t.Year() >= 1 {
			return t.UTC(), nil
		}
	}
	return time.Time{}, fmt.Errorf("%q is no time: write 20240201090000Z", text)
}
