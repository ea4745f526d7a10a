package briskwarden_test

import (
	"fmt"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/require"

	"briskwarden.example/briskwarden"
	"briskwarden.example/briskwarden/expect"
	"briskwarden.example/briskwarden/signon"
)

// base is what the rulebooks of the table have in common.
const base = `
user ann { groups crew  methods password, passkey  joined 2026-11-16 }
user bob { groups crew  methods password, app-code }
user new { methods password  joined 2026-11-20 }
user tim { type guest  methods pin, face }
user svc { type service  methods certificate }
user off { methods password  active no }
user eva@fjord.example { methods password, security-key }
group crew { }
group all { group crew }
app roster { tags rostering }
app payroll { tags money }
network port trusted { 192.0.2.0/25 }
network relay anonymous { 203.0.113.0/24 }
`

// meaning is one statement of the language's reference: a rulebook, and what it must decide.
type meaning struct {
	says     string
	settings string // of the rulebook block
	rules    string
	expects  []string // "CLAUSES => OUTCOME …"
}

var meanings = []meaning{
	{says: "where no policy speaks, unmatched decides: block by default", rules: "",
		expects: []string{"user ann app roster presenting password => block"}},
	{says: "unmatched grant still stands on the floor", settings: "unmatched grant", rules: "",
		expects: []string{"user ann app roster presenting password => grant", "user ann app roster => step-up by floor asking passkey"}},
	{says: "floor none asks nothing", settings: "unmatched grant floor none", rules: "",
		expects: []string{"user ann app roster => grant"}},
	{says: "an abstaining policy does not speak", settings: "floor none",
		rules:   `policy p { who everyone to everything case "x" when group in crew => abstain otherwise => grant }`,
		expects: []string{"user ann app roster => block", "user new app roster => grant by p"}},
	{says: "a case that is unknown and abstains keeps the policy from speaking surely", settings: "floor none",
		rules:   `policy p { who everyone to everything case "x" when network in port => abstain otherwise => grant }`,
		expects: []string{"user ann app roster ip 198.51.100.1 => grant", "user ann app roster => block"}},
	{says: "an unknown case keeps its outcome as a possibility", settings: "floor none",
		rules:   `policy p { who everyone to everything case "x" when network in port => block otherwise => grant }`,
		expects: []string{`user ann app roster => block by p "x"`, "user ann app roster ip 203.0.113.1 => grant"}},
	{says: "surely is never unknown", settings: "floor none",
		rules:   `policy p { who everyone to everything case "x" when surely network in port => block otherwise => grant }`,
		expects: []string{"user ann app roster => grant"}},
	{says: "is known and is unknown are never unknown", settings: "floor none",
		rules:   `policy p { who everyone to everything case "x" when country is unknown and network is not known => block otherwise => grant }`,
		expects: []string{"user ann app roster => block", "user ann app roster country NO => grant", "user ann app roster ip 192.0.2.1 => grant"}},
	{says: "the first true case of a policy decides, the strictest policy wins", settings: "floor none",
		rules: `policy a { who everyone to everything case "1" when group in all => grant case "2" when group in crew => block otherwise => block }
			policy b { who everyone to tag rostering otherwise => step-up password }`,
		expects: []string{"user ann app payroll => grant by a \"1\"", "user ann app roster => step-up by b", "user ann app roster presenting password => grant by a"}},
	{says: "group membership is transitive, except always wins", settings: "floor none",
		rules:   `policy p { who group all except user bob to everything except app payroll otherwise => grant }`,
		expects: []string{"user ann app roster => grant", "user bob app roster => block", "user ann app payroll => block"}},
	{says: "people are all but services; type and domain select", settings: "floor none",
		rules: `policy p { who people to app roster otherwise => grant }
			policy q { who type guest, domain fjord.example to app payroll otherwise => grant }`,
		expects: []string{"user svc app roster => block", "user tim app roster => grant", "user tim app payroll => grant",
			"user eva@fjord.example app payroll => grant", "user ann app payroll => block"}},
	{says: "an unknown or disabled user, app or action is blocked", settings: "unmatched grant floor none", rules: "",
		expects: []string{"user off app roster => block", "user ann app roster doing consent => grant"}},
	{says: "a policy is for sign-on unless it says doing", settings: "unmatched grant floor none",
		rules:   `policy p { who everyone to everything otherwise => block } policy q { who everyone to app payroll doing reset-password otherwise => block }`,
		expects: []string{"user ann app roster => block", "user ann app roster doing reset-password => grant", "user ann app payroll doing reset-password => block by q"}},
	{says: "IPv4-mapped IPv6 is IPv4", settings: "floor none",
		rules: `policy p { who everyone to everything case "x" when network in port, 2001:db8::/32, 198.51.100.9-198.51.100.11 => grant otherwise => block }`,
		expects: []string{"user ann app roster ip ::ffff:192.0.2.7 => grant", "user ann app roster ip 2001:db8::1 => grant",
			"user ann app roster ip 198.51.100.9 => grant", "user ann app roster ip 198.51.100.11 => grant", "user ann app roster ip 198.51.100.12 => block"}},
	{says: "network.trusted and network.anonymous ask for some network so flagged", settings: "floor none",
		rules:   `policy p { who everyone to everything case "t" when network.trusted => grant case "a" when network.anonymous is no => step-up password otherwise => block }`,
		expects: []string{"user ann app roster ip 192.0.2.9 => grant", "user ann app roster ip 198.51.100.1 => step-up", "user ann app roster ip 203.0.113.1 => block"}},
	{says: "a device object without the three facts has them as no; without one they are unknown", settings: "floor none",
		rules:   `policy p { who everyone to everything case "m" when device.managed => grant case "n" when not device.managed => step-up password otherwise => block }`,
		expects: []string{"user ann app roster device d => step-up", "user ann app roster device d { managed yes } => grant", "user ann app roster => block by p \"otherwise\""}},
	{says: "other facts that nothing states are unknown", settings: "floor none",
		rules:   `policy p { who everyone to everything case "e" when device.encrypted => grant case "f" when not device.encrypted => grant otherwise => block }`,
		expects: []string{"user ann app roster device d => block", "user ann app roster device d { encrypted no } => grant"}},
	{says: "versions compare number by number, missing ones as zero", settings: "floor none",
		rules: `policy p { who everyone to everything case "v" when device.version >= 14.2 => grant case "w" when device.version is 14 => step-up password otherwise => block }`,
		expects: []string{"user ann app roster device d { version 14.10 } => grant", "user ann app roster device d { version 14.2.0 } => grant",
			"user ann app roster device d { version 14.0.0 } => step-up", "user ann app roster device d { version 9.99 } => block", "user ann app roster device d { version 14.x } => block"}},
	{says: "enumerated facts are ordered", settings: "floor none",
		rules: `user low { risk low } user med { risk medium } user high { risk high }
			policy p { who everyone to everything case "h" when user.risk at least high => block case "l" when user.risk at most low => grant otherwise => step-up aal1 }`,
		expects: []string{"user ann app roster => grant", "user low app roster => grant", "user high app roster => block"}},
	{says: "before and after take dates, instants and date attributes", settings: `floor none timezone "Europe/Oslo"`,
		rules: `attribute user.ends date  user tmp { attr ends 2026-11-23 }
			policy p { who user tmp to app roster case "over" when time after user.ends => block otherwise => grant }
			policy q { who user bob to app roster case "x" when time before 2026-11-23 or time after 2026-11-23T12:00 => block otherwise => grant }
			policy r { who user ann to app roster case "x" when time after user.ends => block otherwise => grant }`,
		expects: []string{"user tmp app roster at 2026-11-23T23:59 => grant", "user tmp app roster at 2026-11-24T00:00 => block",
			"user bob app roster at 2026-11-22T23:59:59 => block", "user bob app roster at 2026-11-23T00:00 => grant",
			"user bob app roster at 2026-11-23T12:00 => grant", "user bob app roster at 2026-11-23T12:00:01 => block",
			"user ann app roster at 2026-11-23T12:00 => block by r \"x\""}},
	{says: "within holds for an age from zero on: the future is within nothing", settings: "floor none",
		rules: `policy p { who everyone to everything case "x" when user.joined within 7d => grant otherwise => block }`,
		expects: []string{"user ann app roster at 2026-11-23T00:00:00Z => grant", "user ann app roster at 2026-11-23T00:00:01Z => block",
			"user ann app roster at 2026-11-15T00:00:00Z => block"}},
	{says: "a windows start is in, its end is not; exceptions look at the local date", settings: `floor none timezone "Europe/Oslo"`,
		rules: `schedule s { mon-fri 06:00-20:00 fri 22:00-06:00 except 2026-12-25 during 2026-11-01..2026-12-31 }
			policy p { who everyone to everything case "x" when time in s => grant otherwise => block }`,
		expects: []string{"user ann app roster at 2026-11-23T06:00 => grant", "user ann app roster at 2026-11-23T20:00 => block",
			"user ann app roster at 2026-11-28T05:59 => grant", "user ann app roster at 2026-11-28T06:00 => block",
			"user ann app roster at 2026-12-25T10:00 => block", "user ann app roster at 2026-12-26T01:00 => grant",
			"user ann app roster at 2026-10-30T10:00 => block", "user ann app roster at 2026-11-23T05:00:00Z => grant"}},
	{says: "every time, every session and ages ask for evidence so fresh", settings: "floor none",
		rules: `policy p { who user ann to app roster otherwise => step-up password every session and passkey every time }
			policy q { who user bob to app roster otherwise => step-up app-code every 12h }
			policy r { who user bob to app payroll otherwise => step-up app-code every 12h on any device per app }`,
		expects: []string{
			"user ann app roster at 2026-11-23T08:00 session s having password 1h in session s presenting passkey => grant",
			"user ann app roster at 2026-11-23T08:00 session s having password 1h in session t presenting passkey => step-up asking password",
			"user ann app roster at 2026-11-23T08:00 session s having password 1h in session s having passkey 1m in session s => step-up asking passkey",
			"user bob app roster at 2026-11-23T08:00 device d having app-code 12h on device d => grant",
			"user bob app roster at 2026-11-23T08:00 device d having app-code 721m on device d => step-up",
			"user bob app roster at 2026-11-23T08:00 device e having app-code 1h on device d => step-up",
			"user bob app roster at 2026-11-23T08:00 having app-code 1h => step-up",
			"user bob app payroll at 2026-11-23T08:00 having app-code 1h for app payroll => grant",
			"user bob app payroll at 2026-11-23T08:00 having app-code 1h for app roster => step-up"}},
	{says: "session lasts limits what every session takes, by the session's start", settings: "floor none",
		rules: `policy p { who user ann to app roster otherwise => step-up password session lasts 10h }`,
		expects: []string{
			"user ann app roster at 2026-11-23T18:00 session s started 2026-11-23T08:00 having password 9h in session s => grant",
			"user ann app roster at 2026-11-23T18:01 session s started 2026-11-23T08:00 having password 9h in session s => step-up",
			"user ann app roster at 2026-11-23T18:00 session s having password 9h in session s => step-up",
			"user ann app roster at 2026-11-23T18:00 session s started 2026-11-23T19:00 having password 9h in session s => step-up"}},
	{says: "the innermost freshness wins", settings: "floor none",
		rules:   `policy p { who user ann to app roster otherwise => step-up (password every session and passkey) every time }`,
		expects: []string{"user ann app roster at 2026-11-23T08:00 session s having password 1h in session s presenting passkey => grant"}},
	{says: "assurance levels are those of NIST SP 800-63B", settings: "floor none",
		rules: `policy p { who everyone to app roster otherwise => step-up aal2 every time } policy q { who everyone to app payroll otherwise => step-up aal3 every time }`,
		expects: []string{"user ann app roster presenting password => step-up", "user ann app roster presenting passkey => grant",
			"user bob app roster presenting password, app-code => grant", "user tim app roster presenting pin, face => grant",
			"user ann app payroll presenting passkey => grant", "user bob app payroll presenting password, app-code => block",
			"user eva@fjord.example app payroll presenting security-key => step-up asking password",
			"user eva@fjord.example app payroll presenting security-key, password => grant"}},
	{says: "a step-up that cannot be met is a block", settings: "floor none",
		rules:   `policy p { who everyone to everything otherwise => step-up passkey }`,
		expects: []string{"user ann app roster => step-up asking passkey", "user bob app roster => block by p"}},
	{says: "who may enrol can still meet it", settings: "floor none",
		rules: `policy p { who everyone to everything otherwise => step-up passkey }
			policy e { who everyone to everything doing enrol-method case "in port" when network in port => step-up password otherwise => block }`,
		expects: []string{"user bob app roster ip 192.0.2.1 => step-up asking passkey", "user bob app roster ip 198.51.100.1 => block",
			"user svc app roster ip 192.0.2.1 => block"}},
	{says: "a policy on watch lets nobody enrol", settings: "floor none",
		rules: `policy p { who everyone to everything otherwise => step-up passkey }
			policy e { who everyone to everything doing enrol-method stage watch otherwise => grant }`,
		expects: []string{"user bob app roster => block"}},
	{says: "enrol has its grace from joining or enforcement, whichever is later", settings: `floor none timezone "Europe/Oslo"`,
		rules: `policy p { who user new, user bob to app roster otherwise => step-up password and enrol passkey grace 7d }
			policy q { who user new to app payroll stage enforce from 2026-11-22 otherwise => step-up enrol passkey grace 7d }`,
		expects: []string{"user new app roster at 2026-11-26T23:59 presenting password => grant", "user new app roster at 2026-11-27T00:00 presenting password => block",
			"user bob app roster at 2026-11-26T10:00 presenting password => block", "user new app payroll at 2026-11-28T23:00 => grant",
			"user new app payroll at 2026-11-29T00:00 => block"}},
	{says: "change-password is met by its record alone and can always be met", settings: "floor none",
		rules:   `policy p { who everyone to everything otherwise => step-up password and change-password every time }`,
		expects: []string{"user bob app roster presenting password => step-up", "user bob app roster presenting password, change-password => grant"}},
	{says: "device meets is true, or nobody can meet it at the prompt", settings: "floor none",
		rules: `baseline b { check "Enc" device.encrypted check "Lock" device.screenlock }
			policy p { who everyone to everything otherwise => step-up device meets b and password }`,
		expects: []string{"user bob app roster device d { encrypted yes screenlock yes } => step-up asking password", "user bob app roster device d { encrypted yes } presenting password => block",
			"user bob app roster presenting password => block"}},
	{says: "a waiver takes atoms out, inside named demands too, and never tightens", settings: "floor none",
		rules: `demand strong { passkey or password and app-code }
			policy p { who everyone to app roster otherwise => step-up strong every time }
			policy q { who everyone to app payroll otherwise => step-up strong and pin }
			waiver w { because "x" owner "y" who user bob to app roster when network in port lifts app-code until 2026-11-30 }
			waiver v { because "x" owner "y" who user bob to app payroll lifts strong, pin until 2026-11-30 }`,
		expects: []string{"user bob app roster at 2026-11-23T08:00 ip 192.0.2.1 presenting password => grant",
			"user bob app roster at 2026-11-23T08:00 ip 198.51.100.1 presenting password => step-up", "user bob app roster at 2026-11-23T08:00 presenting password => step-up",
			"user bob app roster at 2026-12-01T00:00 ip 192.0.2.1 presenting password => step-up", "user bob app roster at 2026-11-30T23:59:59 ip 192.0.2.1 presenting password => grant",
			"user bob app payroll at 2026-11-23T08:00 => grant", "user ann app roster at 2026-11-23T08:00 ip 192.0.2.1 presenting password => step-up"}},
	{says: "lifts everything takes no block away, nor the floor", settings: "floor password",
		rules: `policy p { who everyone to app roster case "r" when network in relay => block otherwise => step-up passkey }
			waiver w { because "x" owner "y" who everyone to everything lifts everything until 2026-11-30 }`,
		expects: []string{"user bob app roster at 2026-11-23T08:00 ip 203.0.113.1 presenting password => block", "user bob app roster at 2026-11-23T08:00 ip 192.0.2.1 presenting password => grant",
			"user bob app roster at 2026-11-23T08:00 ip 192.0.2.1 => step-up by floor asking password"}},
	{says: "the first stage line that holds decides; without one that does, a policy is on watch", settings: "unmatched grant floor none",
		rules: `policy p { who everyone to app roster stage enforce for group crew from 2026-12-01 stage draft for user new stage enforce from 2027-02-01 otherwise => block }`,
		expects: []string{"user ann app roster at 2026-11-30T23:59 => grant", "user ann app roster at 2026-12-01T00:00 => block",
			"user new app roster at 2027-03-01T00:00 => grant", "user tim app roster at 2026-12-01T00:00 => grant", "user tim app roster at 2027-02-01T00:00 => block"}},
	{says: "break-glass is decided by its own demand alone", settings: "break-glass user key => security-key every time",
		rules: `user key { methods security-key }
			policy p { who everyone to everything otherwise => block }`,
		expects: []string{"user key app roster presenting security-key => grant", "user key app roster => step-up asking security-key", "user ann app roster presenting password => block"}},
	{says: "the risk score is an interval", settings: "floor none",
		rules: `risk model { add 50 when network in relay add 30 when reported.risk >= 60 add 80 when user.risk at least high band calm to 29, odd to 79, severe to 100 }
			policy p { who everyone to app roster case "s" when risk.band is severe => block case "o" when risk >= 50 => step-up password otherwise => grant }
			policy q { who everyone to app payroll case "k" when risk is known => grant otherwise => block }`,
		expects: []string{"user ann app roster ip 192.0.2.1 risk 10 => grant", "user ann app roster ip 203.0.113.1 risk 10 => step-up",
			"user ann app roster ip 203.0.113.1 risk 60 => block by p \"s\"", "user ann app roster ip 192.0.2.1 => grant",
			"user ann app roster => block by p \"s\"", "user ann app payroll ip 192.0.2.1 risk 1 => grant", "user ann app payroll => block"}},
	{says: "attributes have their values, defaults, or what a request states", settings: "floor none",
		rules: `attribute user.desk word  attribute user.leaked yes-no default no  attribute device.edr word from request  attribute user.rank number
			user dan { attr desk "Front desk"  attr leaked yes  attr rank 7 }
			policy p { who everyone to app roster case "l" when user.leaked => block case "d" when user.desk is "Front desk" => grant otherwise => step-up password }
			policy q { who everyone to app payroll case "e" when device.edr in on, full and user.rank > 6.5 => grant otherwise => block }`,
		expects: []string{"user dan app roster => block", "user ann app roster => step-up by p \"otherwise\"",
			"user dan app payroll device d { edr full } => grant", "user dan app payroll device d { edr off } => block", "user ann app payroll device d { edr on } => block"}},
	{says: "user has asks for what the user is enrolled in", settings: "floor none",
		rules: `demand two { password and app-code }
			policy p { who everyone to everything case "two" when user has two, passkey => grant case "aal3" when user has aal3 => step-up aal3 otherwise => block }`,
		expects: []string{"user ann app roster => grant", "user bob app roster => grant", "user eva@fjord.example app roster => step-up", "user new app roster => block"}},
	{says: "declared methods and countries count", settings: "floor none",
		rules: `method tap { kind possession hardware phishing-resistant verifies-user }  user ola { methods tap }
			countries north { NO, SE }  countries home { north, DK }
			policy p { who everyone to everything case "home" when country in home => step-up aal3 case "fi" when country is FI => grant otherwise => block }`,
		expects: []string{"user ola app roster country DK presenting tap => grant", "user ola app roster country SE => step-up asking tap",
			"user ola app roster country FI => grant", "user ola app roster country PT => block"}},
}

func TestReference(t *testing.T) {
	for _, m := range meanings {
		t.Run(m.says, func(t *testing.T) {
			var src strings.Builder
			fmt.Fprintf(&src, "rulebook test { %s }\n%s\n%s\n", ordered(m.settings), base, m.rules)
			for i, e := range m.expects {
				fmt.Fprintf(&src, "expect \"%d\" { %s }\n", i, e)
			}
			rules, err := briskwarden.OpenFS(fstest.MapFS{"rulebook.warden": {Data: []byte(src.String())}}, briskwarden.WithClock(func() time.Time { return oracleEpoch }))
			require.NoError(t, err, src.String())
			results, err := expect.Run(t.Context(), rules)
			require.NoError(t, err)
			for i, r := range results.Expectations {
				require.Empty(t, r.Failed, "%s\n%+v", m.expects[i], r.Decision)
			}
		})
	}
}

// ordered puts the settings of a rulebook block into their order.
func ordered(settings string) string {
	var text strings.Builder
	for _, word := range []string{"timezone", "unmatched", "floor", "break-glass"} {
		at := strings.Index(settings, word)
		if at < 0 {
			continue
		}
		rest := settings[at+len(word):]
		end := len(rest)
		for _, other := range []string{" timezone", " unmatched", " floor", " break-glass"} {
			if i := strings.Index(rest, other); i >= 0 {
				end = min(end, i)
			}
		}
		text.WriteString(word + rest[:end] + " ")
	}
	return text.String()
}

func open(t testing.TB, src string) *briskwarden.Rulebook {
	t.Helper()
	rules, err := briskwarden.OpenFS(fstest.MapFS{"rulebook.warden": {Data: []byte(src)}})
	require.NoError(t, err)
	return rules
}

func TestNextSteps(t *testing.T) {
	rules := open(t, `rulebook r { floor none }
user ann { methods password, passkey, app-code }
user bob { methods password }
group g { user ann }
app a { } app b { } app c { } app d { } app e { }
baseline ok { check "Enc" device.encrypted check "Lock" device.screenlock }
scopes harmless weight 0 { openid }
policy a { who everyone to app a otherwise => step-up passkey or password and app-code every 12h }
policy b { who everyone to app b otherwise => step-up device meets ok and passkey }
policy c { who everyone to app c otherwise => step-up (passkey or change-password) every time and password }
policy d { who everyone to app d doing consent case "h" when scopes within harmless => grant otherwise => review by group g }
policy d2 { who everyone to app d doing consent otherwise => step-up password }
policy e { who everyone to app e otherwise => step-up passkey }
policy e2 { who everyone to app e doing enrol-method otherwise => step-up password }
`)
	decide := func(s signon.SignOn) signon.Decision {
		s.Time = oracleEpoch
		d, err := rules.Explain(t.Context(), s)
		require.NoError(t, err)
		return d
	}
	a := decide(signon.SignOn{User: "ann", App: "a"})
	require.Equal(t, []signon.Step{{Do: signon.Verify, AnyOf: [][]string{{"passkey"}, {"password", "app-code"}}}}, a.Next)
	require.Equal(t, "aal2", a.ACR)
	require.EqualValues(t, 43200, a.MaxAge)

	b := decide(signon.SignOn{User: "ann", App: "b", Device: &signon.Device{Encrypted: signon.Yes}})
	require.Equal(t, signon.Block, b.Outcome)
	require.Equal(t, []signon.Step{{Do: signon.Remedy, Baseline: "ok", Checks: []string{"Lock"}, AnyOf: b.Next[0].AnyOf}}, b.Next)
	both := decide(signon.SignOn{User: "bob", App: "b", Device: &signon.Device{}})
	require.Equal(t, []signon.StepKind{signon.Remedy, signon.EnrolElsewhere}, []signon.StepKind{both.Next[0].Do, both.Next[1].Do})

	c := decide(signon.SignOn{User: "bob", App: "c"})
	require.Equal(t, []signon.StepKind{signon.Verify, signon.ChangePassword}, []signon.StepKind{c.Next[0].Do, c.Next[1].Do})
	require.EqualValues(t, 0, c.MaxAge)

	consent := &signon.Consent{Client: "x", Scopes: []string{"openid", "mail"}, For: signon.ForSelf}
	require.Equal(t, signon.StepUp, decide(signon.SignOn{User: "bob", App: "d", Action: "consent", Consent: consent}).Outcome, "proof first")
	d := decide(signon.SignOn{User: "bob", App: "d", Action: "consent", Consent: consent, Presented: []string{"password"}})
	require.Equal(t, signon.Review, d.Outcome)
	require.Equal(t, []signon.Step{{Do: signon.WaitForReview, Group: "g", AnyOf: d.Next[0].AnyOf}}, d.Next)
	consent.Scopes = []string{"openid"}
	require.Equal(t, signon.Grant, decide(signon.SignOn{User: "bob", App: "d", Action: "consent", Consent: consent, Presented: []string{"password"}}).Outcome)

	e := decide(signon.SignOn{User: "bob", App: "e"})
	require.Equal(t, signon.StepUp, e.Outcome)
	require.Equal(t, signon.Step{Do: signon.Enrol, AnyOf: [][]string{{"passkey"}}}, e.Next[0])
}

func TestNoticesAndWatch(t *testing.T) {
	rules := open(t, `rulebook r { timezone "Europe/Oslo" floor none break-glass user key => security-key }
user ann { methods password joined 2026-11-23 }
user key { methods security-key }
app a { }
policy p { who people to app a stage enforce otherwise => step-up password and enrol passkey grace 21d session lasts 10h, idle 30m }
policy q { who people to app a otherwise => grant session idle 15m }
policy w { who people to app a stage watch case "x" when network is unknown => block otherwise => grant }
policy z { who people to app a stage draft otherwise => block }
`)
	d, err := rules.Explain(t.Context(), signon.SignOn{User: "ann", App: "a", Time: oracleEpoch, Presented: []string{"password", "semaphore"}})
	require.NoError(t, err)
	require.Equal(t, signon.Grant, d.Outcome)
	require.Contains(t, d.Notices, "Enrol a passkey by 2026-12-14")
	require.Contains(t, d.Notices, `The method "semaphore" is not known and counts for nothing.`)
	require.Equal(t, signon.SessionLimits{Lifetime: "10h", Idle: "15m"}, d.Session)
	require.Equal(t, signon.Block, d.Explanation.Watch.Outcome)
	require.Len(t, d.Explanation.Watch.Policies, 1)
	require.Len(t, d.Explanation.Policies, 3)
	require.Equal(t, []signon.Skipped{{Policy: "z", Why: "stage: it is a draft"}}, d.Explanation.Skipped)

	key, err := rules.Explain(t.Context(), signon.SignOn{User: "key", App: "a", Time: oracleEpoch, Presented: []string{"security-key"}})
	require.NoError(t, err)
	require.Equal(t, signon.Grant, key.Outcome)
	require.Empty(t, key.Explanation.Policies)
	require.Nil(t, key.Explanation.Watch)
	require.Len(t, key.Notices, 1)
}

func TestWhatCannotBeVerifiedIsNotClaimed(t *testing.T) {
	rules := open(t, `rulebook r { unmatched grant floor none }
user ann { groups crew methods password }
group crew { }
app a { } app b { } app c { } app d { }
policy a { who everyone to app a case "away" when country is not NO => block "Not from this country." otherwise => grant }
policy b { who everyone to app b case "crew" when group in crew => block "Not for the crew." otherwise => grant }
policy b2 { who everyone to app b case "away" when country is not NO => block "Not from this country." otherwise => grant }
policy c { who everyone to app c case "crew" when group in crew => block otherwise => grant }
policy c2 { who everyone to app c case "away" when country is not NO => block "Not from this country." otherwise => grant }
`)
	for _, row := range []struct {
		app, country, message string
		builtIn               bool
	}{
		{"a", "SE", "Not from this country.", false},
		{"a", "", "Something about this sign-on could not be verified.", true},
		{"a", "NO", "", false},
		{"b", "", "Not for the crew.", false},
		{"c", "", "You cannot sign on here under these circumstances.", true},
		{"c", "SE", "Not from this country.", false},
	} {
		d, err := rules.Explain(t.Context(), signon.SignOn{User: "ann", App: row.app, Country: row.country, Time: oracleEpoch})
		require.NoError(t, err)
		require.Equal(t, row.message, d.Message, "%+v", row)
		require.Equal(t, row.builtIn, d.Explanation.BuiltIn, "%+v", row)
	}
}
