package findings_test

import (
	"fmt"
	"io/fs"
	"os"
	"slices"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/require"

	"briskwarden.example/briskwarden/findings"
)

const clean = `rulebook r { floor none geo "geo.csv" }
user ann { groups crew  methods password }
user bob@fjord.example { methods password }
group crew { }
group fleet { group crew }
app news { tags open }
schedule day { mon-fri 06:00-20:00 }
policy p {
  who group fleet, domain fjord.example
  to tag open
  case "a" when country is NO => grant
  otherwise => block
}
waiver w { because "x" owner "y" who user ann to app payroll lifts password until 2026-12-31 }
app payroll { }
policy q { who everyone to app payroll case "d" when time in day => grant otherwise => block }
expect "x" { user ann app news country NO => grant }
`

var noon = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)

// read checks a rulebook without errors, as of an instant.
func read(t *testing.T, fsys fs.FS, at time.Time) *findings.Report {
	r, err := findings.Read(t.Context(), fsys, findings.Options{At: at.Format(time.RFC3339)})
	require.NoError(t, err)
	require.Zero(t, r.Errors, "%v", r.Findings)
	return r
}

// TestConsentUnasked opens consent by unmatched, and lets policies of several kinds have a say.
func TestConsentUnasked(t *testing.T) {
	const top = "rulebook r { unmatched grant floor none }\nuser ann { groups crew }\ngroup crew { }\ngroup reviewers { user ann }\napp news { }\napp pay { }\npolicy in { who everyone to everything otherwise => grant }\n"
	for _, c := range []struct {
		policy string
		warned bool
	}{
		{"", true},
		{"policy c { who everyone to everything doing consent otherwise => review by group reviewers }", false},
		{"policy c { who people to app news, app pay doing consent otherwise => review by group reviewers }", false},
		{"policy c { who everyone to app news doing consent otherwise => review by group reviewers }", true},
		{"policy c { who group crew to everything doing consent otherwise => block }", true},
		{"policy c { who everyone except user ann to everything doing consent otherwise => block }", true},
		{"policy c { who everyone to everything doing consent stage watch otherwise => block }", true},
		{"policy c { who everyone to everything doing consent case \"a\" when publisher.verified => block otherwise => abstain }", true},
		{"policy c { who everyone to everything doing reset-password otherwise => block }", true},
	} {
		for unmatched, could := range map[string]bool{"grant": true, "block": false} {
			src := strings.Replace(top, "unmatched grant", "unmatched "+unmatched, 1) + c.policy
			r := read(t, fstest.MapFS{"rulebook.warden": {Data: []byte(src)}}, noon)
			warned := slices.ContainsFunc(r.Findings, func(f findings.Finding) bool { return f.Code == findings.ConsentUnasked })
			require.Equal(t, c.warned && could, warned, "%s, unmatched %s", c.policy, unmatched)
		}
	}
}

// TestFindings changes the clean rulebook in one place at a time.
func TestFindings(t *testing.T) {
	before := time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)
	check := func(src string, now time.Time) (codes []string) {
		r := read(t, fstest.MapFS{"rulebook.warden": {Data: []byte(src)}, "geo.csv": {Data: []byte("192.0.2.0/24,NO\n")}}, now)
		for _, d := range r.Findings {
			require.Positive(t, d.Line)
			require.NotEmpty(t, d.Help, d.Message)
			codes = append(codes, d.Code)
		}
		return codes
	}
	require.Empty(t, check(clean, before))
	require.Equal(t, []string{"waiver-ending"}, check(clean, before.AddDate(0, 0, 20)))
	require.Equal(t, []string{"waiver-over"}, check(clean, before.AddDate(0, 0, 39)))
	served := clean + "caller c { token \"sha256:" + strings.Repeat("ab", 32) + "\" until 2026-12-20  may decide }\n"
	require.Empty(t, check(served, noon.AddDate(0, 0, -10)))
	require.Equal(t, []string{"token-ending"}, check(served, noon))
	require.Equal(t, []string{"waiver-ending", "token-over"}, check(served, noon.AddDate(0, 0, 30)))
	require.Equal(t, []string{"untold-alert"}, check(clean+"alert a { when country is NO }\n", before))
	require.Equal(t, []string{"untold-digest"}, check(clean+"digest d { every mon at 07:00 }\n", before))
	require.Equal(t, []string{"unsupplied-fact"}, check(clean+"alert a { when user.compromised tell \"mailto:a@b.example\" }\n", before))
	var log strings.Builder
	for i := range 102 {
		fmt.Fprintf(&log, `{"subject":{"id":"ann"},"resource":{"id":"news"},"context":{"time":%q,"country":"NO"}}`+"\n", before.Add(time.Duration(i)*15*time.Minute).Format(time.RFC3339))
	}
	noisy := func(alert string) (codes []string) {
		src := strings.Replace(clean, `geo "geo.csv"`, `geo "geo.csv" history "log.jsonl"`, 1)
		r := read(t, fstest.MapFS{"rulebook.warden": {Data: []byte(src + "\n" + alert)}, "geo.csv": {Data: []byte("192.0.2.0/24,NO\n")}, "log.jsonl": {Data: []byte(log.String())}}, before)
		for _, f := range r.Findings {
			codes = append(codes, f.Code)
		}
		return codes
	}
	require.Equal(t, []string{"noisy-alert"}, noisy("alert a { when country is NO tell \"mailto:a@b.example\" }"), "51 a day")
	require.Empty(t, noisy("alert a { when country is NO at most 1 per user every 20m tell \"mailto:a@b.example\" }"))
	require.Empty(t, noisy("alert a { when new.country tell \"mailto:a@b.example\" }"), "the history begins with nothing")
	heard := clean + "signals s { from \"https://s.example\" keys \"https://s.example/keys\" audience \"brisk\" accept session-revoked"
	require.Equal(t, []string{"unheard-signals"}, check(heard+" }\n", before))
	require.Empty(t, check(heard+" poll \"https://s.example/poll\" token-in S_TOKEN }\n", before))
	require.Empty(t, check(heard+" }\n"+strings.Replace(served[len(clean):], "decide", "signal", 1), noon.AddDate(0, 0, -10)))
	for code, change := range map[string][2]string{
		"policy-for-nobody":   {"who group fleet, domain fjord.example", "who type service"},
		"empty-group":         {"group crew { }\n", "group crew { }\ngroup deck { }\n"},
		"unreachable-case":    {"otherwise =>", "case \"b\" when country is NO => block\n  otherwise =>"},
		"tag-of-nothing":      {"to tag open", "to tag open, tag shut"},
		"domain-of-nobody":    {"domain fjord.example", "domain Fjord.example"},
		"repeated-item":       {"tags open", "tags open, open"},
		"unused":              {"schedule day", "network quay trusted { }\nschedule day"},
		"app-of-no-policy":    {"app payroll { }", "app payroll { }\napp ledger { }"},
		"undated-expectation": {"country is NO =>", "country is NO and time in day =>"},
		"twins":               {"user ann", "user Ann { }\nuser ann"},
	} {
		src := strings.Replace(clean, change[0], change[1], 1)
		require.NotEqual(t, clean, src, code)
		require.Equal(t, []string{code}, check(src, before), src)
	}
	limited := strings.Replace(clean, "otherwise => block\n}", "otherwise => block\n  session lasts 8h\n}", 1)
	require.Empty(t, check(limited, before))
	require.Equal(t, []string{"undated-expectation"}, check(strings.Replace(limited, "app news country", "app news session s country", 1), before))
	for _, unused := range []string{"network n { }", "schedule n { mon 08:00-09:00 }", "baseline n { check \"x\" device.encrypted }", "countries n { NO }"} {
		require.Equal(t, []string{"unused"}, check(clean+unused+"\n", before), unused)
	}
	for _, used := range []string{"network n trusted { } policy r { who everyone to app news case \"x\" when network.trusted => block otherwise => abstain }",
		"countries n { NO } countries m { n } policy r { who everyone to app news case \"x\" when not (country in m) => block otherwise => abstain }",
		"baseline n { check \"x\" device.encrypted } demand d { pin or (device meets n) } policy r { who everyone to app news otherwise => step-up d }"} {
		require.Empty(t, check(clean+used+"\n", before), used)
	}
	for _, dated := range [][2]string{{"=> grant\n  otherwise", "=> step-up (password every 2h)\n  otherwise"}, {"to tag open", "to tag open stage enforce from 2026-01-01"},
		{"country is NO =>", "(not user.joined within 7d) or country is NO =>"}, {"to app payroll", "to tag open"},
		{"=> grant\n  otherwise", "=> step-up enrol password grace 2d\n  otherwise"}, {"floor none", "floor aal1 every 12h"}} {
		src := strings.Replace(clean, dated[0], dated[1], 1)
		require.NotEqual(t, clean, src)
		require.Equal(t, []string{"undated-expectation"}, check(src, before), src)
		require.Empty(t, check(strings.Replace(src, "country NO =>", "country NO at 2026-11-23T08:00 =>", 1), before), src)
	}
}

// always is a calendar of one event that never ends.
const always = "BEGIN:VCALENDAR\r\nBEGIN:VEVENT\r\nUID:1\r\nDTSTART;VALUE=DATE:20200101\r\nRRULE:FREQ=DAILY\r\nEND:VEVENT\r\nEND:VCALENDAR\r\n"

// TestFindingsOfDeclarations adds declarations to the clean rulebook, and expects what they make it say.
func TestFindingsOfDeclarations(t *testing.T) {
	check := func(src string) (codes []string) {
		r := read(t, fstest.MapFS{"rulebook.warden": {Data: []byte(src)}, "geo.csv": {Data: []byte("192.0.2.0/24,NO\n")},
			"off.ics": {Data: []byte(always)}, "log.jsonl": {}, "d.jsonl": {Data: []byte(`{"id":"a","os":"windows","owner":"ann"}` + "\n" + `{"id":"b","owner":"anna"}`)}, "p.json": {Data: []byte(`{"displayName":"idle"}`)}}, noon)
		for _, d := range r.Findings {
			require.Positive(t, d.Line)
			require.NotEmpty(t, d.Help, d.Message)
			codes = append(codes, d.Code)
		}
		for _, a := range r.Accepted {
			require.NotEmpty(t, a.Because)
			codes = append(codes, "accepted "+a.Code)
		}
		return codes
	}
	base, _, _ := strings.Cut(clean, "expect ")
	policy := func(body string) string { return "policy z { who group fleet to app news " + body + " }\n" }
	const four, six = "network four { 192.0.2.0/24 }\n", "network six { 192.0.2.0/24 2001:db8::/32 }\n"
	const enrol = "policy e { who everyone to everything doing enrol-method otherwise => step-up password }\n"
	for _, c := range []struct{ add, want string }{
		{"policy p2 { who domain fjord.example, group fleet to tag open case \"other\" when country is NO => grant otherwise => block }", "same-policy"},
		{"policy p2 { who domain fjord.example, group fleet to tag open case \"other\" when country is NO => grant otherwise => grant }", "same-case"},
		{"policy p2 { who group fleet to tag open case \"other\" when country is NO => grant otherwise => block }", ""},
		{policy(`case "x" when country is NO or user.type in employee, guest, service => block case "y" when user.risk is high => block otherwise => grant`), "unreachable-case"},
		{policy(`case "x" when group in fleet or group not in fleet => block case "y" when user.risk is high => grant otherwise => grant`), "unreachable-case"},
		{policy(`case "x" when country is known or country is unknown => block case "y" when user.risk is high => grant otherwise => grant`), "unreachable-case"},
		{policy(`case "x" when surely country is NO or not (surely country is NO) => block case "y" when user.risk is high => grant otherwise => grant`), "unreachable-case"},
		{policy(`case "x" when country is NO or country is not NO => block case "y" when user.risk is high => grant otherwise => grant`), ""}, // it may be unknown
		{policy(`stage watch stage enforce from 2026-01-01 otherwise => grant`), "unreachable-stage"},
		{policy(`stage enforce from 2026-01-01 stage watch otherwise => grant`), ""},
		{policy(`stage watch for group crew stage enforce otherwise => grant`), ""},
		{policy(`case "x" when user.risk at least low => block case "y" when user.risk is high => grant otherwise => grant`), ""},
		{"schedule s { mon-fri 08:00-09:00 during 2026-11-28..2026-11-29 }" + policy(`case "x" when time in s => block otherwise => grant`), "never-open"},
		{"schedule s { fri 22:00-06:00 during 2026-11-28..2026-11-28 }" + policy(`case "x" when time in s => block otherwise => grant`), ""},
		{"schedule s { mon-fri 08:00-09:00 except calendar \"off.ics\" }" + policy(`case "x" when time in s => block otherwise => grant`), "never-open"},
		{"schedule s { mon-fri 08:00-09:00 except 2026-12-24..2026-12-26 }" + policy(`case "x" when time in s => block otherwise => grant`), ""},
		{"app shop { }\npolicy z { who everyone to app shop stage enforce from 2027-01-01 otherwise => block }", "app-not-enforced"},
		{"app shop { }\npolicy z { who everyone to app shop stage enforce from 2026-01-01 otherwise => block }", ""},
		{"app shop { }\npolicy z { who everyone to app shop doing reset-password otherwise => block }", "app-not-enforced"},
		{four + policy(`case "x" when network not in four => block otherwise => grant`), "only-ipv4"},
		{four + policy(`case "x" when not (network in four or network in 198.51.100.1) => step-up password otherwise => grant`), "only-ipv4"},
		{four + policy(`case "x" when network in four => block otherwise => grant`), ""},
		{four + policy(`case "x" when network not in four => grant otherwise => block`), ""},
		{six + policy(`case "x" when network not in six => block otherwise => grant`), ""},
		{"network four trusted { 192.0.2.0/24 }\n" + policy(`case "x" when network.trusted is no => block otherwise => grant`), "only-ipv4"},
		{"network four trusted { 192.0.2.0/24 }\n" + policy(`case "x" when network.trusted => block otherwise => grant`), ""},
		{policy("otherwise => step-up passkey"), "cannot-enrol"},
		{policy("otherwise => step-up passkey or password"), ""},
		{policy("otherwise => step-up enrol passkey grace 21d"), "cannot-enrol"},
		{policy("otherwise => step-up passkey") + enrol, ""},
		{"policy z { who group fleet to app payroll otherwise => step-up password }", ""},
		{policy("stage draft otherwise => step-up passkey"), ""},
		{policy(`case "x" when new.country => block otherwise => grant`), "unsupplied-fact"},
		{policy(`case "x" when new.country => grant otherwise => block`), ""},
		{policy(`case "x" when device.owned is no => block otherwise => grant`), "unsupplied-fact"},
		{"attribute user.floor number\n" + policy(`case "x" when user.floor > 3 => block otherwise => grant`), "unsupplied-fact"},
		{"attribute user.floor number default 2\n" + policy(`case "x" when user.floor > 3 => block otherwise => grant`), ""},
		{"attribute device.floor number from request\n" + policy(`case "x" when device.floor > 3 => block otherwise => grant`), ""},
		{"risk model { add 10 when odd.hour band low to 100 }", "unused unsupplied-fact"},
		{"app safe { tags sensitive }\npolicy z { who everyone to app safe otherwise => step-up password and s }\ndemand s { passkey or text-code }\n" + enrol, "weak-method"},
		{"app safe { tags sensitive }\npolicy z { who everyone to app safe otherwise => step-up password and app-code }\n" + enrol, ""},
		{"# brisk: allow weak-method because x\n", "accepts-nothing"},
		{"# brisk: allow only-ipv4 because the quay has no IPv6\n" + four + "policy z { who group fleet to app news\n# brisk: allow only-ipv4 because the quay has no IPv6\ncase \"x\" when network not in four => block otherwise => grant }", "accepts-nothing accepted only-ipv4"},
		{"# brisk: allow weak-methods because x\n# brisk: allow weak-method\n", "unclear-acceptance unclear-acceptance"},
		{"demand d { passkey }\n", "unused"},
		{"attribute user.floor number\n", "unused"},
		{"attribute user.floor date default 2026-01-01\n" + policy(`case "x" when time after user.floor => block otherwise => grant`), ""},
		{"demand d { password }\n" + policy(`case "x" when user has d => grant otherwise => block`), ""},
		{"scopes files { \"files.read files.write\" }\n", "impossible-scope"},
		{"scopes files { files.read \"files.*\" \"*\" }\n", ""},
		{"promise \"p\" { who everyone to everything never grant without aal1 }\n", ""},
		{"# brisk: allow policy-without-effect because x\n", ""},
		{"user cat { groups crews }\n", "near-group"},
		{"user cat { groups crew-b }\n", ""},
		{"user cat { groups crews }\ngroup crews { }\n", ""},
		{policy(`case "x" when user.id is anne => block otherwise => grant`), "word-of-nothing"},
		{"attribute user.boat word default ann\n" + policy(`case "x" when user.boat is ada => block otherwise => grant`), "word-of-nothing"},
		{"network a trusted { 192.0.2.0/25 }\nnetwork b { 192.0.2.64/26 }\n" + policy(`case "x" when network in a, b => grant otherwise => block`), "overlapping-networks"},
		{"network a trusted { 192.0.2.64/26 }\nnetwork b anonymous { 192.0.2.0/25 }\n" + policy(`case "x" when network in a, b => grant otherwise => block`), "overlapping-networks"},
		{"network a trusted { 192.0.2.0/25 }\nnetwork b trusted { 192.0.2.64/26 }\nnetwork c { 192.0.2.128/25 }\n" + policy(`case "x" when network in a, b, c => grant otherwise => block`), ""},
		{"network a { 192.0.2.0/24 198.51.100.0/25 }\n" + policy(`case "x" when country not in NO => block case "y" when network in a => grant otherwise => grant`), "unlocated-network"},
		{"network a { 192.0.2.0/24 }\n" + policy(`case "x" when country not in NO => block case "y" when network in a => grant otherwise => grant`), ""},
		{"network a anonymous { 198.51.100.0/25 }\n" + policy(`case "x" when country not in NO => block case "y" when network in a => grant otherwise => grant`), ""},
	} {
		require.Equal(t, c.want, strings.Join(check(base+c.add), " "), c.add)
	}
	with := func(clause string) string { return strings.Replace(base, `geo "geo.csv"`, clause, 1) }
	require.Equal(t, []string{"unsupplied-fact"}, check(strings.Replace(with(""), "country is NO => grant", "country is NO => block", 1)))
	require.Equal(t, []string{"empty-group"}, check(with(`directory "p.json" geo "geo.csv"`)))
	require.Equal(t, []string{"unsupplied-fact"}, check(with(`geo "geo.csv" history "log.jsonl"`)+policy(`case "x" when travel.speed > 9 => block otherwise => grant`)), "a geofeed has no positions")
	require.Empty(t, check(with(`geo "geo.csv" history "log.jsonl"`)+policy(`case "x" when new.device => block otherwise => grant`)))
	fleet := with(`devices "d.jsonl" geo "geo.csv"`) + policy(`case "x" when device.os is Windows => block otherwise => grant`)
	require.Equal(t, []string{"unknown-owner", "word-of-nothing"}, check(fleet), "windows, in small letters")
	require.Equal(t, []string{"unknown-owner"}, check(strings.Replace(fleet, "Windows", "ios", 1)), "a phone that no inventory has")
	require.Equal(t, []string{"unknown-owner", "word-of-nothing"}, check(strings.Replace(strings.Replace(fleet, "Windows", "ios", 1), `geo "geo.csv"`, `geo "geo.csv" history "log.jsonl"`, 1)), "nor any log")
	glass := `user root { methods METHODS }`
	broken := with(`break-glass user root => security-key every time geo "geo.csv"`) + glass
	require.Equal(t, []string{"break-glass-unready"}, check(strings.ReplaceAll(broken, "METHODS", "password")))
	require.Empty(t, check(strings.ReplaceAll(broken, "METHODS", "security-key")))
}

// TestEveryCodeIsExplained: in SARIF and in the documentation.
func TestEveryCodeIsExplained(t *testing.T) {
	docs, err := os.ReadFile("../docs/commands.md")
	require.NoError(t, err)
	for _, code := range append([]string{"syntax", "invalid", "file"}, findings.Codes()...) {
		require.NotEmpty(t, findings.About(code), code)
		require.Contains(t, string(docs), "`"+code+"`")
	}
}
