package rulebook_test

import (
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"briskwarden.example/briskwarden/internal/known"
	"briskwarden.example/briskwarden/internal/rulebook"
)

const declared = "attribute user.department word\nattribute user.costCenter word\nattribute user.leaked yes-no\nattribute user.floor number\nattribute user.contract-end date\n"

// groupsOf are the names of all groups of a user.
func groupsOf(rb *rulebook.Rulebook, user string) (names []string) {
	for _, g := range rb.People[user].Groups {
		names = append(names, rb.Groups.Name(g))
	}
	slices.Sort(names)
	return names
}

func methodsOf(rb *rulebook.Rulebook, user string) (names []string) {
	for _, name := range rb.Methods.Names() {
		if m, _ := rb.Methods.Lookup(name); rb.People[user].Methods.Has(m.ID) {
			names = append(names, name)
		}
	}
	return names
}

func wordOf(rb *rulebook.Rulebook, user, attribute string) string {
	a, _ := rb.Facts.AttributeNamed("user." + attribute)
	if p := rb.People[user]; a.Index < len(p.Attributes) {
		return p.Attributes[a.Index].Word
	}
	return ""
}

// resources are the same people and groups in SCIM's three wrappings.
const (
	ann  = `{"schemas":["urn:ietf:params:scim:schemas:core:2.0:User","urn:ietf:params:scim:schemas:extension:enterprise:2.0:User"],"id":"u1","userName":"ann","userType":"CONTRACTOR","active":false,"title":"Mate","meta":{"created":"2024-02-01T09:00:00+01:00"},"groups":[{"value":"g2","display":"fleet"},{"value":"g9","display":"elsewhere"}],"urn:ietf:params:scim:schemas:extension:enterprise:2.0:User":{"department":"Deck","costCenter":"C7","organization":"Skerry"},"urn:brisk-warden:params:scim:schemas:SignOn":{"methods":["password","passkey"],"risk":"low"},"emails":[{"value":"x"}]}`
	bob  = `{"id":"u2","USERNAME":"bob","active":null}`
	deck = `{"schemas":["urn:ietf:params:scim:schemas:core:2.0:Group"],"id":"g1","displayName":"deck","members":[{"value":"u1"},{"value":"u2","type":"User"},{"value":"u404","display":"Gone"}]}`
	all  = `{"meta":{"resourceType":"Group"},"id":"g2","displayName":"fleet","members":[{"value":"g1"}]}`
	kind = `{"schemas":["urn:ietf:params:scim:schemas:core:2.0:ResourceType"],"name":"User"}`
)

func TestSCIM(t *testing.T) {
	resources := []string{ann, deck, all, bob, kind}
	for name, text := range map[string]string{
		"p.jsonl": "\ufeff" + strings.Join(resources, "\r\n") + "\r\n",
		"p.json":  "[\n" + strings.Join(resources, ",\n") + "\n]",
		"l.json":  `{"schemas":["urn:ietf:params:scim:api:messages:2.0:ListResponse"],"totalResults":5,"Resources":[` + strings.Join(resources, ",") + `],"itemsPerPage":5}`,
	} {
		rb := load(`directory "`+name+`"`, declared, map[string]string{name: text})
		require.Len(t, rb.Diagnostics, 1, name)
		require.Contains(t, rb.Diagnostics[0].String(), "warning: members of the group deck that no file has: u404 (Gone)")
		p := rb.People["ann"]
		require.Equal(t, "guest", p.Type)
		require.Equal(t, "low", p.Risk)
		require.Equal(t, known.False, p.Active)
		require.True(t, p.Joined.Equal(time.Date(2024, 2, 1, 8, 0, 0, 0, time.UTC)))
		require.Equal(t, []string{"deck", "elsewhere", "fleet"}, groupsOf(rb, "ann"))
		require.Equal(t, []string{"deck", "fleet"}, groupsOf(rb, "bob"))
		require.Equal(t, "Deck", wordOf(rb, "ann", "department"))
		require.Equal(t, "C7", wordOf(rb, "ann", "costCenter"))
		require.Equal(t, []string{"password", "passkey"}, methodsOf(rb, "ann"))
		require.Equal(t, "employee", rb.People["bob"].Type)
		require.Equal(t, []rulebook.Tally{{N: 2, What: "person"}, {N: 2, What: "group"}}, rb.Loaded[0].Items)
		require.Equal(t, []rulebook.Tally{{N: 1, What: "undeclared user.organization"}, {N: 1, What: "undeclared user.title"},
			{N: 1, What: "neither User nor Group"}}, rb.Loaded[0].Aside)
	}
}

func TestPeopleAsCSV(t *testing.T) {
	const rows = "\ufeffid,type,groups,methods,joined,risk,active,leaked,floor,contract-end,shoe\r\n" +
		"ann,Guest,deck;;fleet,password;app-code,2024-02-01,high,FALSE,yes,2.5,2026-12-31,43\r\n\"bob\",,,,,,,,,,\r\n"
	rb := load(`timezone "Europe/Oslo" directory "p.csv"`, declared, map[string]string{"p.csv": rows})
	require.Empty(t, rb.Diagnostics)
	p := rb.People["ann"]
	require.Equal(t, "guest", p.Type)
	require.Equal(t, known.False, p.Active)
	require.Equal(t, []string{"deck", "fleet"}, groupsOf(rb, "ann"))
	require.Equal(t, "2024-02-01T00:00:00+01:00", p.Joined.Format(time.RFC3339))
	require.Equal(t, "2026-12-31", wordOf(rb, "ann", "contract-end"))
	require.Equal(t, known.Unknown, rb.People["bob"].Active)
	require.Equal(t, "p.csv:3", rb.People["bob"].Origin.String())
	require.Equal(t, []rulebook.Tally{{N: 1, What: "undeclared user.shoe"}}, rb.Loaded[0].Aside)
}

const ldifPeople = `version: 1
# a comment
 that goes on
dn: dc=skerry,dc=example
objectClass: domain
dc: skerry

dn: UID=ann, ou=People,dc=skerry,dc=example
objectClass: inetOrgPerson
uid: ann
cn:: w4Vubg==
employeeType: Contractor
departmentNumber: De
 ck
createTimestamp: 20240201080000Z
memberOf: cn=night-watch,ou=groups,dc=elsewhere,dc=example
description:

dn: cn=Bob,ou=people,dc=skerry,dc=example
objectclass: Person
mail: bob@skerry.example
cn: Bob

dn: cn=deck,ou=groups,dc=skerry,dc=example
objectClass: groupOfNames
cn: deck
member: uid=ANN,ou=people,dc=skerry,dc=example
member: cn=nobody,dc=skerry,dc=example

dn: cn=fleet,ou=groups,dc=skerry,dc=example
objectClass: groupOfUniqueNames
cn: fleet
uniqueMember: cn=deck,ou=groups,dc=skerry,dc=example#'0101'B

dn: cn=tills,ou=groups,dc=skerry,dc=example
objectClass: posixGroup
cn: tills
memberUid: ann
`

func TestLDIF(t *testing.T) {
	rb := load(`directory "p.ldif"`, declared, map[string]string{"p.ldif": strings.ReplaceAll(ldifPeople, "\n", "\r\n")})
	require.Len(t, rb.Diagnostics, 1)
	require.Contains(t, rb.Diagnostics[0].String(), "p.ldif:24:1: warning: members of the group deck that no file has: cn=nobody,dc=skerry,dc=example (nobody)")
	require.Equal(t, []string{"deck", "fleet", "night-watch", "tills"}, groupsOf(rb, "ann"))
	require.Equal(t, "guest", rb.People["ann"].Type)
	require.Equal(t, "Deck", wordOf(rb, "ann", "department"))
	require.True(t, rb.People["ann"].Joined.Equal(time.Date(2024, 2, 1, 8, 0, 0, 0, time.UTC)))
	require.Contains(t, rb.People, "bob@skerry.example")
	require.Equal(t, []rulebook.Tally{{N: 1, What: "neither person nor group"}}, rb.Loaded[0].Aside)
}

// TestSourcesAreMerged has one user in a block, a SCIM file and a CSV file.
func TestSourcesAreMerged(t *testing.T) {
	const block = "user ann { groups pilot methods app-code attr leaked yes }\ngroup pilot { user bob, group deck }\nuser root { methods security-key risk high }\n"
	const glass = `break-glass user root => security-key every time directory "a.jsonl", "b.csv"`
	scim := ann + "\n" + deck + "\n" + bob + "\n" + `{"id":"u9","userName":"root","active":false,"userType":"guest","urn:brisk-warden:params:scim:schemas:SignOn":{"risk":"low","methods":["password"]}}` +
		"\n" + `{"displayName":"glass","members":[{"value":"u9"}]}` + "\n"
	merge := func(row string) *rulebook.Rulebook {
		return load(glass, declared+block, map[string]string{"a.jsonl": scim, "b.csv": "id,type,groups,methods,joined,risk,active,department,floor\n" + row + "\n"})
	}
	rb := merge("ann,guest,tills,push,,low,no,Deck,3")
	require.NoError(t, rb.Diagnostics.Err())
	require.Equal(t, []string{"deck", "elsewhere", "fleet", "pilot", "tills"}, groupsOf(rb, "ann"))
	require.Equal(t, []string{"deck", "pilot"}, groupsOf(rb, "bob"))
	require.Equal(t, []string{"password", "app-code", "push", "passkey"}, methodsOf(rb, "ann"))
	require.Equal(t, "Deck", wordOf(rb, "ann", "department"))
	require.Equal(t, "3", wordOf(rb, "ann", "floor"))
	root := rb.People["root"]
	require.True(t, root.BreakGlass && root.Active != known.False && root.Type == "employee" && root.Risk == "high", "an emergency account is what its block says")
	require.Equal(t, []string{"security-key"}, methodsOf(rb, "root"))
	require.Empty(t, root.Groups)

	for row, want := range map[string]string{
		"ann,employee,,,,,,,":        `b.csv:2:1: error: the user "ann": type is employee here, and guest at`,
		"ann,,,,2024-02-02,,,,":      `joined is 2024-02-02T00:00:00Z here, and 2024-02-01T08:00:00Z at`,
		"ann,,,,,high,,,":            `risk is high here, and low at`,
		"ann,,,,,,yes,,":             `active is yes here, and no at`,
		"ann,,,,,,,Engine,":          `user.department is Engine here, and Deck at`,
		"ann,,,,,,,,2\nann,,,,,,,,2": `b.csv:3:1: error: the user "ann" stands twice in this file`,
	} {
		require.ErrorContains(t, merge(row).Diagnostics.Err(), want, row)
	}
}

// TestBadDirectories tries what can be wrong with each format: the line is named, and nothing is dropped.
func TestBadDirectories(t *testing.T) {
	long := strings.Repeat("x", 10<<20)
	for _, c := range []struct{ file, text, want string }{
		{"p.jsonl", ann + "\n" + deck[:40], "p.jsonl:2:1: error: it ends in the middle of a value"},
		{"p.json", `[` + ann + `,` + "\n" + `7]`, "p.json:2:1: error: expected a resource, found a number"},
		{"p.json", `["`, "p.json:1:1: error: "},
		{"p.json", `"ann"`, "expected a resource, an array of resources or a ListResponse"},
		{"p.jsonl", bob + "\n" + `{"userName":7}`, "p.jsonl:2:1: error: /userName: expected a string, found a number"},
		{"p.jsonl", "{\n\"userName\":\"ann\",\n\"active\":\"no\"}", "p.jsonl:3:1: error: /active: expected true or false, found a string"},
		{"p.json", `{"Resources":[` + "\n" + `{"userName":"ann","userName":"bob"}]}`, "p.json:2:1: error: "},
		{"p.jsonl", "{\"userName\":\"\xff\"}", "p.jsonl:1:1: error: /userName: invalid UTF-8"},
		{"p.jsonl", "\xff\xfe{\x00", "p.jsonl:1:1: error: the file is UTF-16: save it as UTF-8"},
		{"p.jsonl", `{"userName":"` + long + `"}`, "p.jsonl:1:1: error: the user's id is longer than 4096 bytes"},
		{"p.jsonl", `{"userName":"ann","userType":"Contracter"}`, `userType: "Contracter" is no type of user: did you mean "contractor"?`},
		{"p.jsonl", `{"userName":"ann","meta":{"created":"soon"}}`, "meta.created: "},
		{"p.jsonl", `{"userName":"ann","urn:brisk-warden:params:scim:schemas:SignOn":{"methods":["pasword"]}}`, `there is no method "pasword": did you mean "password"?`},
		{"p.jsonl", `{"userName":"ann","urn:brisk-warden:params:scim:schemas:SignOn":{"risk":"dire"}}`, `risk: "dire" is none of`},
		{"p.jsonl", `{"id":"1","userName":"ann"}` + "\n" + `{"id":"1","userName":"bob"}`, `p.jsonl:2:1: error: the id "1" stands twice, first at p.jsonl:1`},
		{"p.jsonl", `{"id":"1","userName":"ann"}` + "\n" + `{"id":"1","displayName":"deck"}`, `p.jsonl:2:1: error: the id "1" stands twice, first at p.jsonl:1`},
		{"p.jsonl", `{"id":"1"}`, "neither a User nor a Group"},
		{"p.jsonl", `{"id":"1","displayName":"a","members":[{"value":"2"}]}` + "\n" + `{"id":"2","displayName":"b","members":[{"value":"1"}]}`, "groups form a circle: a → b → a"},
		{"p.csv", "", "p.csv:1:1: error: the header is missing"},
		{"p.csv", "name\nann\n", `the header has no column "id": found name`},
		{"p.csv", "id,id\n", `the column "id" stands twice`},
		{"p.csv", "id,,x\n", "column 2 has no name"},
		{"p.csv", "id,type\nann\n", "p.csv:2:1: error: the row has not as many cells as the header"},
		{"p.csv", "id,type\nann,\"guest\nbob,", "a quoted cell does not end as it should"},
		{"p.csv", "id,type\nann,gu\"est\n", `p.csv:2:1: error: a " stands inside a cell`},
		{"p.csv", "id,leaked\nann,maybe\n", `leaked: "maybe" is neither yes nor no`},
		{"p.csv", "id,floor\nann,high\n", `floor: "high" is no number`},
		{"p.csv", "id,contract-end\nann,31.12.2026\n", "contract-end: "},
		{"p.csv", "id,joined\nann,once\n", `joined: "once" is neither a date nor an instant`},
		{"p.csv", "id,active\nann,1\n", `active: "1" is none of yes, no, true and false`},
		{"p.csv", "id,type\n,guest\n", "p.csv:2:1: error: the user has no id"},
		{"p.csv", "id,x\nann,\xe5\n", "is not UTF-8"},
		{"p.csv", "\xff\xfei\x00", "UTF-16"},
		{"p.csv", "id\n\"" + strings.Repeat("x", 17<<20), "longer than 16 MiB"},
		{"p.ldif", "dn: uid=a,dc=x\nobjectClass: person\nuid a\n", "p.ldif:3:1: error: the record cannot be read: "},
		{"p.ldif", "dn: uid=a,dc=x\nchangetype: delete\n", "is a change"},
		{"p.ldif", "\ndn: uid=a,dc=x\nobjectClass: person\njpegPhoto:< file:///etc/passwd\n", "p.ldif:4:1: error: a value from a URL"},
		{"p.ldif", "uid: a\nobjectClass: person\n", "missing 'dn:'"},
		{"p.ldif", "dn: dc=x\nobjectClass: person\ncn: a\n", "the person dc=x has neither uid nor mail"},
		{"p.ldif", "dn: dc=x\nobjectClass: groupOfNames\n", "the group dc=x has no cn"},
		{"p.ldif", "dn: nonsense\nobjectClass: person\nuid: a\n", `"nonsense" is no distinguished name`},
		{"p.ldif", "dn: dc=x\nobjectClass: person\nuid:: /w==\n", "uid: is not UTF-8"},
		{"p.ldif", "dn: dc=x\nobjectClass: person\nuid: a\ncreateTimestamp: 2024\n", `createTimestamp: "2024" is no time`},
	} {
		rb := load(`directory "`+c.file+`"`, declared, map[string]string{c.file: c.text})
		require.ErrorContains(t, rb.Diagnostics.Err(), c.want, "%.60q", c.text)
	}
	twice := load(`directory "p.jsonl"`, "", map[string]string{"p.jsonl": `{"displayName":"a"}` + "\n" + `{"displayName":"a"}`})
	require.Contains(t, twice.Diagnostics[0].String(), `p.jsonl:2:1: warning: two groups of this file are named "a"`)
	many := load(`directory "p.csv"`, "", map[string]string{"p.csv": "id,risk\n" + strings.Repeat("ann,dire\n", 100)})
	require.Len(t, many.Diagnostics, 21, "a file of errors is given up")
}

// TestUnknownNamesBesideDirectories checks that names are known when the files have them, and errors otherwise.
func TestUnknownNamesBesideDirectories(t *testing.T) {
	const policy = "app a { }\npolicy p { who group deck, user ann, group %s to app a otherwise => block }"
	files := map[string]string{"p.csv": "id,groups\nann,deck\n"}
	require.NoError(t, load(`directory "p.csv"`, strings.ReplaceAll(policy, "%s", "deck"), files).Diagnostics.Err())
	require.ErrorContains(t, load(`directory "p.csv"`, strings.ReplaceAll(policy, "%s", "dock"), files).Diagnostics.Err(), `there is no group "dock"`)
}
