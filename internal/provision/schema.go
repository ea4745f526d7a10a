package provision

// The schemas of resources (RFC 7643): which attributes there are, and of what kind.

import (
	"slices"
	"strings"
)

// The schemas.
const (
	UserSchema       = "urn:ietf:params:scim:schemas:core:2.0:User"
	GroupSchema      = "urn:ietf:params:scim:schemas:core:2.0:Group"
	EnterpriseSchema = "urn:ietf:params:scim:schemas:extension:enterprise:2.0:User"
	SignOnSchema     = "urn:brisk-warden:params:scim:schemas:SignOn"
)

// kind is the type of an attribute.
type kind string

const (
	text      kind = "string"
	truth     kind = "boolean"
	complexOf kind = "complex"
	instant   kind = "dateTime"
	link      kind = "reference"
	bytesOf   kind = "binary"
)

// attribute is one attribute of a schema.
type attribute struct {
	Name       string
	About      string
	Kind       kind
	Multi      bool
	Required   bool
	Exact      bool // its case counts
	ReadOnly   bool // what a client states of it is left aside (RFC 7643, 2.2)
	Immutable  bool
	Unique     bool
	Unreturned bool // it is never told
	Words      []string
	Refers     []string
	Subs       []attribute
}

// schema is a schema with its attributes.
type schema struct {
	ID         string
	Name       string
	About      string
	Attributes []attribute
}

func texts(about string, names ...string) (list []attribute) {
	for _, name := range names {
		list = append(list, attribute{Name: name, About: about, Kind: text})
	}
	return list
}

// plural is a list of values with a type, one of which is primary (RFC 7643, 2.4).
func plural(name, about string, value kind) attribute {
	return attribute{Name: name, About: about, Kind: complexOf, Multi: true, Subs: []attribute{
		{Name: "value", About: "The value", Kind: value}, {Name: "display", About: "How it is shown", Kind: text},
		{Name: "type", About: "Such as work or home", Kind: text}, {Name: "primary", About: "Whether it is the preferred one", Kind: truth},
	}}
}

// common are the attributes of every resource (RFC 7643, 3.1).
var common = []attribute{
	{Name: "schemas", About: "The schemas of the resource", Kind: link, Multi: true, Required: true, Exact: true},
	{Name: "id", About: "By which the service names the resource", Kind: text, Exact: true, ReadOnly: true, Unique: true},
	{Name: "externalId", About: "By which the client names it", Kind: text, Exact: true},
	{Name: "meta", About: "What is true of the resource itself", Kind: complexOf, ReadOnly: true, Subs: []attribute{
		{Name: "resourceType", Kind: text, Exact: true, ReadOnly: true, About: "User or Group"}, {Name: "created", Kind: instant, ReadOnly: true, About: "When it was made"},
		{Name: "lastModified", Kind: instant, ReadOnly: true, About: "When it changed last"}, {Name: "location", Kind: link, Exact: true, ReadOnly: true, About: "Its address"},
		{Name: "version", Kind: text, Exact: true, ReadOnly: true, About: "Its entity tag"},
	}},
}

var userSchema = schema{UserSchema, "User", "A person, a guest or a service account", slices.Concat([]attribute{
	{Name: "userName", About: "The id by which policies know the user; unique whatever its case", Kind: text, Required: true, Unique: true},
	{Name: "name", About: "The name of the person", Kind: complexOf, Subs: texts("A part of the name", "formatted", "familyName", "givenName", "middleName", "honorificPrefix", "honorificSuffix")},
	{Name: "active", About: "Whether the user may sign on at all", Kind: truth},
	{Name: "password", About: "Accepted and kept nowhere: the service knows no passwords", Kind: text, Unreturned: true},
	{Name: "groups", About: "The groups that the user is directly in", Kind: complexOf, Multi: true, ReadOnly: true, Subs: []attribute{
		{Name: "value", Kind: text, Exact: true, ReadOnly: true, About: "The id of the group"}, {Name: "$ref", Kind: link, Exact: true, ReadOnly: true, About: "Its address"},
		{Name: "display", Kind: text, ReadOnly: true, About: "Its name"}, {Name: "type", Kind: text, ReadOnly: true, About: "direct"},
	}},
	{Name: "profileUrl", About: "A page about the person", Kind: link, Exact: true},
	{Name: "addresses", About: "Where the person is found", Kind: complexOf, Multi: true, Subs: append(
		texts("A part of the address", "formatted", "streetAddress", "locality", "region", "postalCode", "country", "type"),
		attribute{Name: "primary", About: "Whether it is the preferred one", Kind: truth})},
	plural("emails", "Mail addresses", text), plural("phoneNumbers", "Telephone numbers", text), plural("ims", "Addresses for messages", text),
	plural("photos", "Pictures", link), plural("entitlements", "What the person is entitled to; policies know groups alone", text),
	plural("roles", "Roles; policies know groups alone", text), plural("x509Certificates", "Certificates", bytesOf),
}, texts("The attribute user.title, where the rulebook declares it", "title"),
	texts("employee, guest or service; contractor, partner, external and the like are guests", "userType"),
	texts("For people to read", "displayName", "nickName", "preferredLanguage", "locale", "timezone"))}

var groupSchema = schema{GroupSchema, "Group", "A group of users and groups", []attribute{
	{Name: "displayName", About: "The name by which policies know the group", Kind: text, Required: true, Exact: true, Unique: true},
	{Name: "members", About: "The users and groups that are directly in it", Kind: complexOf, Multi: true, Subs: []attribute{
		{Name: "value", Kind: text, Required: true, Exact: true, Immutable: true, About: "The id of the user or group"},
		{Name: "$ref", Kind: link, Exact: true, Immutable: true, Refers: []string{"User", "Group"}, About: "Its address"},
		{Name: "type", Kind: text, Immutable: true, Words: []string{"User", "Group"}, About: "Which of them it is"},
		{Name: "display", Kind: text, ReadOnly: true, About: "Its name"},
	}},
}}

var enterpriseSchema = schema{EnterpriseSchema, "EnterpriseUser", "What a firm knows of a person; attributes of the same name, where the rulebook declares them",
	append(texts("An attribute of the user", "employeeNumber", "costCenter", "organization", "division", "department"),
		attribute{Name: "manager", About: "Whom the person answers to", Kind: complexOf, Subs: []attribute{
			{Name: "value", Kind: text, Exact: true, About: "The id of the manager"}, {Name: "$ref", Kind: link, Exact: true, About: "The manager's address"},
			{Name: "displayName", Kind: text, ReadOnly: true, About: "The manager's name"}}})}

var signOnSchema = schema{SignOnSchema, "SignOn", "What decisions rest on beside", []attribute{
	{Name: "methods", About: "The methods in which the user is enrolled, by their names in the rulebook", Kind: text, Multi: true, Exact: true},
	{Name: "risk", About: "How risky the account is", Kind: text, Exact: true, Words: []string{"none", "low", "medium", "high"}},
}}

// Type is a type of resource.
type Type struct {
	Name       string // User or Group
	Plural     string // as in its address
	schema     *schema
	extensions []*schema
}

// The types of resources.
var (
	Users  = &Type{"User", "Users", &userSchema, []*schema{&enterpriseSchema, &signOnSchema}}
	Groups = &Type{"Group", "Groups", &groupSchema, nil}
)

// attributes are those at the top of a resource, extensions included: as one complex attribute each, by their schema.
func (t *Type) attributes() []attribute {
	list := slices.Concat(common, t.schema.Attributes)
	for _, x := range t.extensions {
		list = append(list, attribute{Name: x.ID, Kind: complexOf, Subs: x.Attributes})
	}
	return list
}

// named finds an attribute by its name, in any case.
func named(list []attribute, name string) *attribute {
	for i := range list {
		if strings.EqualFold(list[i].Name, name) {
			return &list[i]
		}
	}
	return nil
}
