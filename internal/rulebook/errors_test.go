package rulebook_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/require"

	"briskwarden.example/briskwarden/internal/diag"
	"briskwarden.example/briskwarden/internal/rulebook"
)

// before is what every broken text of the table stands below, from line 3 on.
const before = `rulebook r { } user ann { methods password } group crew { user ann } app roster { tags t } network port { 192.0.2.0/25 }
attribute user.ends date attribute device.edr word schedule day { mon-fri 06:00-20:00 } baseline base { check "x" device.encrypted } risk model { add 5 when device.encrypted }
`

func policy(clauses string) string { return "policy p { who everyone to everything " + clauses + " }" }

func when(condition string) string {
	return policy(`case "x" when ` + condition + ` => grant otherwise => block`)
}

func asks(demand string) string { return policy("otherwise => step-up " + demand) }

// wrongs are broken texts; of each the column, counted in the text's last line, the message and what to do.
var wrongs = []struct {
	text   string
	column int
	says   string
	help   string
}{
	// Callers.
	{`caller c { token "sha256:abababababababababababababababababababababababababababababababab" may decide, explian }`, 104, `"explian" is nothing that a caller may do`, `did you mean "explain"?`},
	{`caller c { token "sha256:abababababababababababababababababababababababababababababababab" }`, 1, `caller c has no "may"`, `add "may"`},
	{`caller c { may decide }`, 8, "neither token nor certificate", "brisk token"},
	{`caller c { token "secret" may decide }`, 18, "is no SHA-256 digest", "stands nowhere"},
	{`caller c { token "sha256:00" may decide }`, 18, "is no SHA-256 digest", "64"},
	{`caller c { token "sha256:abababababababababababababababababababababababababababababababab" until soon may decide }`, 98, "soon", ""},
	{`caller c { token "sha256:abababababababababababababababababababababababababababababababab" may decide from network quay }`, 116, `there is no network "quay"`, ""},
	{`caller c { token "sha256:abababababababababababababababababababababababababababababababab" may decide for app rooster }`, 111, `no app "rooster"`, `did you mean "roster"?`},
	{"caller c { token \"sha256:abababababababababababababababababababababababababababababababab\" may decide }\ncaller d { may search token \"sha256:abababababababababababababababababababababababababababababababab\" }", 29, "the caller c has the same token", "its own"},
	{"caller c { certificate \"sha256:abababababababababababababababababababababababababababababababab\" may decide }\ncaller d { may search certificate \"sha256:abababababababababababababababababababababababababababababababab\" }", 35, "the caller c has the same certificate", "its own"},
	// Words and marks.
	{`user bob#x { }`, 9, `"#" directly after a word`, "put a space before it"},
	{`network n { 192.0.2.1 - 192.0.2.9 }`, 23, `a lone "-"`, "one word"},
	{`network n { 192.0.2.1 .. 192.0.2.9 }`, 23, `a lone ".."`, "one word"},
	{`app a { about "x }`, 15, "does not end", "on the same line"},
	{`app a { about "\q" }`, 15, "an escape that is none", `"\\"`},
	{`user and { }`, 6, `expected the user's id, found "and"`, "write a comma"},
	{`user not { }`, 6, `found "not"`, "reserved word"},
	{`user "" { }`, 6, "an empty string", ""},
	{`app a { } ; app b { }`, 11, `";" has no meaning here`, "nothing needs to stand"},
	{`group it's { }`, 9, `"'" has no meaning here`, "double quotes"},
	// Declarations and clauses.
	{`polcy p { }`, 1, `found "polcy"`, `did you mean "policy"?`},
	{`user bob { metods pin }`, 12, `"metods" is no clause of user`, `did you mean "methods"?`},
	{`user bob { groups a and b }`, 21, `"and" is no clause of user`, "write a comma"},
	{`user bob { groups a, }`, 22, `expected a group, found "}"`, ""},
	{`user bob { risk low risk low }`, 21, `"risk" stands twice`, "leave one of them out"},
	{`user bob { type robot }`, 17, `found "robot"`, ""},
	{"policy q { who everyone\nuser bob { }", 1, "the block of policy q that begins at line 3 is not closed", `"}"`},
	{`policy q { who everyone to everything }`, 1, `policy q has no "otherwise"`, "add"},
	{`policy q { to everything otherwise => block }`, 1, `policy q has no "who"`, "the order is"},
	{`waiver w { who everyone to everything because "x" }`, 39, `"because" stands after "to"`, ""},
	{`method m { amr swk }`, 1, `has no "kind"`, ""},
	{`baseline b { }`, 1, `has no "check"`, ""},
	{`promise "m" { who everyone to everything }`, 1, "promises nothing", "never grant without"},
	{`promise "m" { who everyone to everything always grant never block }`, 1, "promises two things", ""},
	{`promise "m" { who everyone to everything never locked }`, 55, `expected "out", found "}"`, ""},
	{`promise "m" { who everyone to everything always locked out }`, 49, `found "locked"`, ""},
	{`promise "m" { who everyone to everything never locked out never block }`, 59, `"never" stands twice`, ""},
	{`expect "e" { user ann app roster user ann => grant }`, 34, `"user" stands twice`, ""},
	{policy("otherwise => Deny"), 52, `found "Deny"`, "write block"},
	{policy("otherwise => require pin"), 52, `found "require"`, "write step-up"},
	{`policy p { who anyone to everything otherwise => block }`, 16, `found "anyone"`, "write everyone"},
	{`group g { user ann group crew }`, 20, `found "group"`, "write a comma"},
	{`expect "e" { user ann app roster => grnt }`, 37, `found "grnt"`, `did you mean "grant"?`},
	// Names.
	{`user ann { }`, 6, "user ann is declared twice", "the first stands at rulebook.warden:1:21"},
	{`rulebook s { }`, 10, "declared twice", ""},
	{`demand password { pin }`, 8, `"password" is a built-in method`, ""},
	{`demand d { pin } method d { kind possession }`, 8, "declared twice", "methods and demands share their names"},
	{`method aal2 { kind possession }`, 8, `"aal2" cannot be the name`, ""},
	{`policy floor { who everyone to everything otherwise => block }`, 8, `cannot be named "floor"`, ""},
	{`countries NO { SE }`, 11, "cannot be named like a country", ""},
	{`network 192.0.2.1-192.0.2.9 { }`, 9, "reads as an address", ""},
	{`action consent { }`, 8, "a built-in action", ""},
	{`attribute user.type word`, 11, "a built-in fact", ""},
	{`attribute app.x word`, 11, "neither a user's nor a device's", ""},
	{`attribute user.x word default y from request`, 31, `either "default" or "from request"`, ""},
	{`attribute user.x yes-no default maybe`, 33, `"maybe" is neither yes nor no`, ""},
	{`risk other { add 1 when device.encrypted }`, 6, "declared twice", ""},
	{`user bob { attr edr on }`, 17, `there is no attribute "user.edr"`, ""},
	{`user bob { attr ends tomorrow }`, 22, "is no date", ""},
	{`group g { user an }`, 16, `there is no user "an"`, `did you mean "ann"?`},
	{`group g { group creww }`, 17, `there is no group "creww"`, `did you mean "crew"?`},
	{`group a { group b } group b { group c } group c { group a }`, 7, "groups form a circle", "take one of them out"},
	{`countries a { b } countries b { a }`, 29, "sets of countries form a circle", ""},
	{`demand a { b } demand b { pin and c } demand c { a }`, 8, "demands form a circle: a → b → c → a", ""},
	// Values.
	{`network n { 192.0.2.1/24 }`, 13, "bits set beyond its length", ""},
	{`network n { 192.0.2.9-192.0.2.3 }`, 13, "runs backwards", ""},
	{`network n from "../../x"`, 16, "leads out of the rulebook's folder", ""},
	{`countries c { XX }`, 15, `there is no country "XX"`, "ISO 3166-1"},
	{`schedule s { mon-fri 25:00-26:00 }`, 22, `"25:00" is no time of day`, ""},
	{`schedule s { sun 08:00-08:00 }`, 18, "ends where it starts", ""},
	{`schedule s { except 2026-12-25 }`, 10, "is never open", "during"},
	{`schedule s in "Europe/Olso" { mon 08:00-09:00 }`, 15, "there is no time zone", ""},
	{`schedule s { during 2026-12-31..2026-12-01 }`, 21, "runs backwards", ""},
	{policy("stage enforce from 2026-02-30 otherwise => block"), 58, "is no date", ""},
	{policy("otherwise => block session lasts 10x"), 72, `expected a duration, found "10x"`, "30m, 12h, 21d"},
	{`scopes s weight 101 { }`, 17, `cannot weigh "101"`, ""},
	// Conditions.
	{when("network in port and terminals"), 73, `there is no fact "terminals"`, "inside a list, write a comma: network in port, terminals"},
	{when("network in prot"), 64, `there is no network "prot"`, `did you mean "port"?`},
	{when("network in 192.0.2.1/24"), 64, "bits set beyond its length", ""},
	{when("device.os >= 3"), 63, `"device.os" is a word: it does not take ">="`, `"is"`},
	{when("device.managed is maybe"), 71, "is yes or no", `"is yes" or "is no"`},
	{when("country"), 53, "alone it says nothing", `"in"`},
	{when("device.manged"), 53, `there is no fact "device.manged"`, `did you mean "device.managed"?`},
	{when("user.cabin is x"), 53, "there is no fact", "declare it: attribute user.cabin word"},
	{when("client is phone"), 63, `"phone" is no value of "client"`, "known here: browser"},
	{when("user.risk at least hihg"), 72, "is no value", `did you mean "high"?`},
	{when("user.joined within tomorrow"), 72, "asks for one age", "within 24h"},
	{when("time after user.department"), 64, "neither a date nor an instant", ""},
	{when("time after device.edr"), 64, "is no date but a word", ""},
	{when("time in night"), 61, `there is no schedule "night"`, ""},
	{when("user.ends is 2026-01-01"), 53, "no operator takes it", "time after user.ends"},
	{when("device.version is new"), 71, "is no version", ""},
	{when("risk >= high"), 61, `"high" is no number`, ""},
	{when("risk.band is low"), 53, "has no bands", ""},
	{when("user has password, hat"), 72, `there is no method or demand "hat"`, ""},
	{when("user has change-password"), 62, "asks for more than methods", ""},
	{when("device meets bass"), 66, `there is no baseline "bass"`, `did you mean "base"?`},
	{when("country in NO is known"), 67, "expected the end of the comparison", "after it alone"},
	{when("device.managed = yes"), 68, `"=" has no meaning here`, `write "is"`},
	{when(strings.Repeat("not ", 300) + "device.managed"), 857, "nested more than 200 deep", "a declaration of its own"},
	{`baseline b { check "c" risk > 3 }`, 24, "cannot stand in a check", ""},
	{`baseline b { check "c" device meets base }`, 24, `"device meets base" cannot stand in a check`, ""},
	// Demands and outcomes.
	{asks("enrol passkey or password"), 66, `an enrol never stands under "or"`, "beside what is proved"},
	{asks("pasword"), 60, `there is no method or demand "pasword"`, `did you mean "password"?`},
	{asks("device meets base every time"), 78, `"device meets" takes no freshness`, ""},
	{asks("password every year"), 75, `expected a duration, found "year"`, ""},
	{asks("not password"), 60, `expected a method or demand, found "not"`, ""},
	{policy("otherwise => review by group crew"), 52, "a review is for consent alone", "doing consent"},
	{policy(`case "a" when tag in t => block case "a" when group in crew => block otherwise => block`), 76, `the case "a" stands twice`, ""},
	{policy(`case "otherwise" when tag in t => block otherwise => block`), 44, "is that of the last case", ""},
	{`waiver w { because "x" owner "y" who everyone to everything lifts pasword until 2026-12-01 }`, 67, "no method or demand", `did you mean "password"?`},
	{policy("doing swim otherwise => block"), 45, `there is no action "swim"`, ""},
	{`policy q { who group creww to app rooster otherwise => block }`, 22, `there is no group "creww"`, ""},
	{`expect "e" { user ann app roster => grant by p }`, 46, `there is no policy "p"`, ""},
	{`expect "e" { user ann app roster having pin 3 => grant }`, 45, "expected a duration", ""},
	{`expect "e" { user ann app roster device d { colour red } => grant }`, 45, `a device has no field "colour"`, "known here: compliant"},
	{`expect "e" { user ann app roster device d { edr on } => grant }`, 45, "a sign-on may not state", "from request"},
	// What people write who come from elsewhere.
	{asks("hat"), 60, `there is no method or demand "hat"`, "known here: password, pin"},
	{`user bob { methods hat }`, 20, `there is no method "hat"`, "known here: password, pin"},
	{asks("device.managed"), 60, `"device.managed" is a fact, and no method or demand`, "when device.managed"},
	{asks("passkey, app-code"), 67, `"," does not stand between methods`, `"or" where either will do`},
	{when("time in 06:00-20:00"), 61, `there is no schedule "06:00-20:00"`, "schedule NAME { mon-sun 06:00-20:00 }"},
	{`user bob { methods "pin, passkey" }`, 20, `there is no method "pin, passkey"`, "several stand with commas between: pin, passkey"},
	{`policy q { who group "crew, deck" to app roster otherwise => block }`, 22, "there is no group", "several stand with commas between: crew, deck"},
	{`baseline b { check device.encrypted }`, 20, "a check begins with its label", `check "Disk is encrypted" device.encrypted`},
	{`network n { 198.51.100.* }`, 24, `"*" has no meaning here`, "write the prefix: 198.51.100.0/24"},
	{`network n { 192.0.2.0/255.255.255.128 }`, 13, "write its length, 192.0.2.0/25", ""},
	{when("user.joined within 7 days"), 74, `expected "=>", found "days"`, "write 7d"},
	{asks("password every 7 days"), 75, `expected a duration, found "7"`, "write 7d"},
	{when("user.joined within 2weeks"), 72, "asks for one age", "write 2w"},
	{when("device.managed AND device.encrypted"), 68, `"AND"`, "small letters: and"},
	{when("NOT device.managed"), 57, `found "device.managed"`, "small letters: not"},
	{`schedule s { mon-fri 7:00-17:00 }`, 22, `"7:00" is no time of day: write 07:00`, ""},
	{`schedule s { mon-fri 7am-5pm }`, 22, `"7am" is no time of day: write 07:00`, ""},
	{`countries c { UK }`, 15, `there is no country "UK"`, "write GB"},
	{when("country is ru"), 64, `there is no country "ru"`, "write RU"},
	{when("user.cabin >= 3"), 53, "there is no fact", "declare it: attribute user.cabin number"},
	{when("user.cabin"), 53, "there is no fact", "declare it: attribute user.cabin yes-no"},
	{when("user.cabin is x"), 53, "there is no fact", "declare it: attribute user.cabin word"},
	{when("time after user.left"), 64, "neither a date nor an instant", "declare it: attribute user.left date"},
	{`user bob { attr cabin 3 }`, 17, "there is no attribute", "attribute user.cabin number"},
	{`user bob { attr left 2026-12-01 }`, 17, "there is no attribute", "attribute user.left date"},
}

func TestErrorsSayWhereWhatAndWhatToDo(t *testing.T) {
	for _, w := range wrongs {
		rb := rulebook.Load(fstest.MapFS{"rulebook.warden": {Data: []byte(before + w.text + "\n")}}, rulebook.Options{})
		line := 3 + strings.Count(w.text, "\n")
		at := fmt.Sprintf("rulebook.warden:%d:%d", line, w.column)
		if strings.Contains(w.says, "is not closed") || w.column == 1 {
			line = 0 // these are told of the declaration, wherever it was found to be broken
		}
		i := slices.IndexFunc(rb.Diagnostics, func(d diag.Diagnostic) bool {
			return d.Severity == diag.Error && strings.Contains(d.Message, w.says) && strings.Contains(d.Help, w.help) && (line == 0 || d.Pos.String() == at)
		})
		if i < 0 {
			t.Errorf("%s\nshould say at %s: %s → %s\nsays: %+v", w.text, at, w.says, w.help, rb.Diagnostics)
		}
	}
}

// TestEveryBrokenDeclarationIsReported puts many broken ones into one file.
func TestEveryBrokenDeclarationIsReported(t *testing.T) {
	var src strings.Builder
	src.WriteString("rulebook r { }\n")
	broken := []string{"user { }", "group g { user }", "app a { tags }", "network n { 1 }", "schedule s { mon }", "method m { kind }", "demand d { }",
		"baseline b { check }", "policy p { who }", "waiver w { lifts }", "expect e { }", "promise p { }", "nonsense here { a { b } }", "attribute x { }"}
	for _, b := range broken {
		src.WriteString(b + "\nuser " + fmt.Sprintf("u%d", strings.Count(src.String(), "\n")) + " { }\n")
	}
	rb := rulebook.Load(fstest.MapFS{"rulebook.warden": {Data: []byte(src.String())}}, rulebook.Options{})
	for i := range broken {
		line := int32(2 + 2*i)
		require.True(t, slices.ContainsFunc(rb.Diagnostics, func(d diag.Diagnostic) bool { return d.Pos.Line == line }), "%s\n%v", broken[i], rb.Diagnostics)
		require.NotNil(t, rb.People[fmt.Sprintf("u%d", line-1)], "the declaration after %q is read", broken[i])
	}
}
