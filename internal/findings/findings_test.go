package findings_test

import (
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/require"

	"briskwarden.example/briskwarden/internal/findings"
	"briskwarden.example/briskwarden/internal/rulebook"
)

const clean = `rulebook r { floor none }
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

// TestFindings changes the clean rulebook in one place at a time.
func TestFindings(t *testing.T) {
	before := time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)
	check := func(src string, now time.Time) (codes []string) {
		rb := rulebook.Load(fstest.MapFS{"rulebook.warden": {Data: []byte(src)}}, rulebook.Options{})
		require.NoError(t, rb.Diagnostics.Err(), src)
		for _, d := range findings.Check(rb, now) {
			require.True(t, d.Pos.IsValid())
			require.NotEmpty(t, d.Help, d.Message)
			codes = append(codes, string(d.Code))
		}
		return codes
	}
	require.Empty(t, check(clean, before))
	require.Equal(t, []string{"waiver-ending"}, check(clean, before.AddDate(0, 0, 20)))
	require.Equal(t, []string{"waiver-over"}, check(clean, before.AddDate(0, 0, 39)))
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
		{"=> grant\n  otherwise", "=> step-up enrol passkey grace 2d\n  otherwise"}, {"floor none", "floor aal1 every 12h"}} {
		src := strings.Replace(clean, dated[0], dated[1], 1)
		require.NotEqual(t, clean, src)
		require.Equal(t, []string{"undated-expectation"}, check(src, before), src)
		require.Empty(t, check(strings.Replace(src, "country NO =>", "country NO at 2026-11-23T08:00 =>", 1), before), src)
	}
}
