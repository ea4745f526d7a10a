package engine_test

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/require"

	"briskwarden.example/briskwarden/internal/engine"
	"briskwarden.example/briskwarden/signon"
)

const telling = `rulebook r { timezone "UTC" floor none }
user ann { methods password } user bob { methods password, passkey }
group keepers { user bob } group owners { user bob }
app shut { } app nowhere { } app strong { } app far { } app reviewed { } app banded { }
risk model { add 40 when reported.risk > 50  add 30 when new.country  band low to 29, mild to 69, severe to 100 }
policy shut { who everyone to app shut otherwise => block }
policy strong { who everyone to app strong otherwise => step-up passkey every time }
policy far { who everyone to app far
  case "a" when country is NO => block
  case "b" when country is SE => block
  case "c" when country is DK => block
  case "d" when country is FI => block
  case "e" when country is DE => block
  otherwise => step-up password }
policy r1 { who everyone to app reviewed doing consent otherwise => review by group keepers }
policy r2 { who everyone to app reviewed doing consent otherwise => review by group owners }
policy r3 { who everyone to app reviewed doing consent otherwise => review by group keepers }
policy banded { who everyone to app banded case "x" when risk.band is low => grant otherwise => block }
`

// TestTold holds what is said in each situation, to her and to who looks at it.
func TestTold(t *testing.T) {
	e := newEngine(t, telling, engine.Sources{})
	var again signon.Decision // serves for all of them
	for range 2 {
		for _, c := range []struct {
			s       signon.SignOn
			outcome signon.Outcome
			message string
			why     string // of the first policy
			next    []signon.Step
		}{
			{signon.SignOn{User: "ann", App: "shut"}, signon.Block, "You cannot sign on here under these circumstances.", "it is the policy's only case", nil},
			{signon.SignOn{User: "ann", App: "nowhere"}, signon.Block, "You have no access here.", "", nil},
			{signon.SignOn{User: "ann", App: "strong"}, signon.Block, "You cannot give here what is asked for.", "it is the policy's only case",
				[]signon.Step{{Do: signon.EnrolElsewhere, AnyOf: [][]string{{"passkey"}}}}},
			{signon.SignOn{User: "bob", App: "strong"}, signon.StepUp, "Please confirm that it is you.", "it is the policy's only case",
				[]signon.Step{{Do: signon.Verify, AnyOf: [][]string{{"passkey"}}}}},
			{signon.SignOn{User: "bob", App: "far"}, signon.Block, "Something about this sign-on could not be verified.", "country is unknown: the sign-on has no address", nil},
			{signon.SignOn{User: "bob", App: "far", Country: "PT"}, signon.StepUp, "Please confirm that it is you.",
				`not "a": country is PT; not "b": country is PT; not "c": country is PT; nor 2 more`, []signon.Step{{Do: signon.Verify, AnyOf: [][]string{{"password"}}}}},
			{signon.SignOn{User: "ann", App: "reviewed", Action: "consent", Consent: &signon.Consent{Client: "notes", For: signon.ForSelf}}, signon.Review, "Your request waits for a review.", "it is the policy's only case",
				[]signon.Step{{Do: signon.WaitForReview, Group: "keepers"}, {Do: signon.WaitForReview, Group: "owners"}}},
		} {
			c.s.Time = noon
			for _, d := range []*signon.Decision{{}, &again} {
				require.NoError(t, e.Decide(t.Context(), &c.s, d, true))
				require.Equal(t, c.outcome, d.Outcome, "%+v", c.s)
				require.Equal(t, c.message, d.Message, "%+v", c.s)
				require.Equal(t, fmt.Sprint(c.next), fmt.Sprint(d.Next), "%+v", c.s)
				if c.why != "" {
					require.Equal(t, c.why, d.Explanation.Policies[0].Why)
				}
			}
		}
	}
	for risk, why := range map[float64]string{60: "risk.band is somewhere from mild to severe", 10: "risk.band is somewhere from low to mild"} {
		var d signon.Decision
		require.NoError(t, e.Decide(t.Context(), &signon.SignOn{User: "bob", App: "banded", Time: noon, Risk: &risk, Device: &signon.Device{OS: "ios"}}, &d, true))
		require.Contains(t, d.Explanation.Policies[0].Why, why)
		require.Contains(t, d.Explanation.Known, "the device has no id")
	}
}
