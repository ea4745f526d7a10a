package directory

// Entries of an LDAP directory, as persons and groups.

import (
	"cmp"
	"errors"
	"fmt"
	"slices"
	"strings"
	"unicode/utf8"

	"briskwarden.example/briskwarden/internal/lines"
	"briskwarden.example/briskwarden/internal/spell"
)

// The object classes that count, in small letters; what has none of them is left aside.
var (
	personClasses = []string{"person", "organizationalperson", "inetorgperson", "posixaccount", "account"}
	groupClasses  = []string{"groupofnames", "groupofuniquenames", "posixgroup"}
)

// entry is an LDAP entry, as far as its attributes are read here.
type entry struct {
	dn     string
	line   int
	values map[string][]string // by the attribute's name in small letters, without options
}

// readHere are the attributes that are read, by every name that they have, in small letters,
// and by number (RFC 4519, RFC 4524, RFC 2307, RFC 2798, RFC 4512).
var readHere = map[string]string{
	"objectclass": "objectclass", "2.5.4.0": "objectclass",
	"uid": "uid", "userid": "uid", "0.9.2342.19200300.100.1.1": "uid",
	"mail": "mail", "rfc822mailbox": "mail", "0.9.2342.19200300.100.1.3": "mail",
	"cn": "cn", "commonname": "cn", "2.5.4.3": "cn",
	"employeetype": "employeetype", "2.16.840.1.113730.3.1.4": "employeetype",
	"departmentnumber": "departmentnumber", "2.16.840.1.113730.3.1.2": "departmentnumber",
	"title": "title", "2.5.4.12": "title",
	"createtimestamp": "createtimestamp", "2.5.18.1": "createtimestamp",
	"member": "member", "2.5.4.31": "member",
	"uniquemember": "uniquemember", "2.5.4.50": "uniquemember",
	"memberuid": "memberuid", "1.3.6.1.1.1.1.12": "memberuid",
	"memberof": "memberof", "1.2.840.113556.1.2.102": "memberof",
}

// add adds a value. One in another language stands beside the one without, and does not count.
func (x *entry) add(description, value string) error {
	stated, options, _ := strings.Cut(description, ";")
	name, isRead := readHere[stated]
	if value == "" || !isRead {
		return nil
	}
	for option := range strings.SplitSeq(options, ";") {
		switch {
		case strings.HasPrefix(option, "lang-"):
			return nil
		case strings.HasPrefix(option, "range="):
			return fmt.Errorf("%s: the export is cut into ranges of values (%q): export all values at once", name, option)
		}
	}
	if !utf8.ValidString(value) {
		return fmt.Errorf("%s: %w", name, lines.ErrNotUTF8)
	}
	x.values[name] = append(x.values[name], value)
	return nil
}

// only is the value of an attribute that has one; several that are the same are one.
func (x *entry) only(name, called string) (string, error) {
	values := x.values[name]
	if len(values) == 0 {
		return "", nil
	}
	if i := slices.IndexFunc(values, func(v string) bool { return v != values[0] }); i >= 0 {
		return "", fmt.Errorf("%s is both %q and %q: which of them counts?", called, values[0], values[i])
	}
	return values[0], nil
}

func (x *entry) among(classes []string) bool {
	return slices.ContainsFunc(x.values["objectclass"], func(c string) bool { return slices.Contains(classes, strings.ToLower(c)) })
}

// entryReader hands persons and groups on.
type entryReader struct{ sink Sink }

func (r *entryReader) entry(x *entry) error {
	name, err := parseDN(x.dn)
	if err != nil || x.dn == "" {
		return notDN(x.dn, err)
	}
	switch isGroup, isPerson := x.among(groupClasses), x.among(personClasses); {
	case isGroup && isPerson:
		return errors.New("the entry is a person and a group at once, by its object classes")
	case isGroup:
		return r.group(x, name)
	case isPerson:
		return r.person(x, name.key())
	}
	r.sink.Aside("neither person nor group")
	return nil
}

func (r *entryReader) person(x *entry, key string) (err error) {
	u := User{Key: key}
	if u.ID, err = x.only("uid", "uid"); err == nil && u.ID == "" {
		u.ID, err = x.only("mail", "mail, which stands in for uid,")
	}
	if err != nil {
		return err
	}
	if u.ID == "" {
		return fmt.Errorf("the person %s has neither uid nor mail", x.dn)
	}
	for _, stated := range x.values["employeetype"] {
		before := u.Type
		if u.Type, err = TypeOf(stated); err != nil {
			return fmt.Errorf("employeeType: %w", err)
		}
		if before != "" && before != u.Type {
			return fmt.Errorf("employeeType is both %s and %s: which of them counts?", before, u.Type)
		}
	}
	stamp, err := x.only("createtimestamp", "createTimestamp")
	if err != nil {
		return err
	}
	if stamp != "" {
		if u.Joined, err = generalizedTime(stamp); err != nil {
			return fmt.Errorf("createTimestamp: %w", err)
		}
	}
	for _, a := range [...]struct{ name, from string }{{"department", "departmentnumber"}, {"title", "title"}} {
		for _, v := range x.values[a.from] {
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
	return r.sink.User(x.line, &u)
}

func (r *entryReader) group(x *entry, name distinguishedName) (err error) {
	g := Group{Key: name.key()}
	if g.Name, err = groupName(x, name); err != nil {
		return err
	}
	for _, from := range []string{"member", "uniquemember"} {
		for _, dn := range x.values[from] {
			if from == "uniquemember" {
				dn = withoutUID(dn)
			}
			member, err := referenceOfDN(dn)
			if err != nil {
				return fmt.Errorf("%s: %w", from, err)
			}
			g.Members = append(g.Members, member)
		}
	}
	for _, uid := range x.values["memberuid"] {
		g.Members = append(g.Members, Reference{Name: uid})
	}
	return r.sink.Group(x.line, &g)
}

// groupName is the cn of a group; of several, the one that the entry is named by.
func groupName(x *entry, dn distinguishedName) (string, error) {
	if len(x.values["cn"]) == 0 {
		return "", fmt.Errorf("the group %s has no cn", x.dn)
	}
	if len(dn) > 0 {
		for _, a := range dn[0] {
			if strings.EqualFold(a.kind, "cn") && slices.Contains(x.values["cn"], a.value) {
				return a.value, nil
			}
		}
	}
	return x.only("cn", "cn")
}

// notDN says that a text is no name, and why; without a reason it is empty.
func notDN(text string, why error) error {
	return fmt.Errorf("%q is no distinguished name (RFC 4514): %w", spell.Clip(text), cmp.Or(why, errEmptyName))
}

// referenceOfDN names an entry by its distinguished name; should nothing have that, by its first value.
func referenceOfDN(text string) (Reference, error) {
	dn, err := parseDN(text)
	if err != nil || len(dn) == 0 {
		return Reference{}, notDN(text, err)
	}
	return Reference{Key: dn.key(), Name: dn[0][0].value}, nil
}

// withoutUID takes the optional unique identifier off a uniqueMember (RFC 4517, section 3.3.21): #'0101'B.
func withoutUID(text string) string {
	i := strings.LastIndex(text, "#'")
	if i < 0 || !strings.HasSuffix(text, "'B") || strings.Trim(text[i+2:len(text)-2], "01") != "" {
		return text
	}
	return text[:i]
}
