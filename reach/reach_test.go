package reach_test

import (
	"fmt"
	"net/netip"
	"slices"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/require"

	"briskwarden.example/briskwarden"
	"briskwarden.example/briskwarden/demo"
	"briskwarden.example/briskwarden/internal/bridge"
	"briskwarden.example/briskwarden/internal/known"
	"briskwarden.example/briskwarden/reach"
	"briskwarden.example/briskwarden/signon"
)

func skerry(t *testing.T) *briskwarden.Rulebook {
	rules, err := briskwarden.OpenFS(demo.SkerryLine())
	require.NoError(t, err)
	return rules
}

// circumstances are an evening in an office, and a morning without an address, with a password and a passkey.
var circumstances = []reach.Circumstance{
	{Name: "evening", SignOn: signon.SignOn{Time: time.Date(2026, 11, 23, 20, 0, 0, 0, time.UTC), IP: netip.MustParseAddr("192.0.2.24"), Presented: []string{"password"}}},
	{Name: "morning", SignOn: signon.SignOn{Time: time.Date(2026, 11, 24, 7, 0, 0, 0, time.UTC), Presented: []string{"password", "passkey"}}},
}

func outcome(t *testing.T, rules *briskwarden.Rulebook, c reach.Circumstance, user, app string) signon.Outcome {
	so := c.SignOn
	so.User, so.App = user, app
	d, err := rules.Decide(t.Context(), so)
	require.NoError(t, err)
	return d.Outcome
}

// TestFaresAreDecisions holds every cell of every view against a decision of its own, and
// looks for everybody who is not disabled once, and once alone.
func TestFaresAreDecisions(t *testing.T) {
	rules := skerry(t)
	apps := rules.Apps()
	var people []string
	for id, p := range bridge.Engine(rules).Rulebook().People {
		if p.Active != known.False {
			people = append(people, id)
		}
	}
	slices.Sort(people)
	everybodyOnce := func(groups []*reach.Alike) {
		var all []string
		for i, g := range groups {
			all = append(all, g.People...)
			if i > 0 {
				require.LessOrEqual(t, len(g.People), len(groups[i-1].People), "the largest group first")
			}
		}
		slices.Sort(all)
		require.Equal(t, people, all)
	}
	for _, app := range apps {
		of, err := reach.App(t.Context(), rules, app, circumstances)
		require.NoError(t, err)
		everybodyOnce(of.Alike)
		for _, g := range of.Alike {
			for i, c := range circumstances {
				for _, user := range g.People {
					require.Equal(t, outcome(t, rules, c, user, app), g.Fares[i].Outcome, "%s to %s in the %s", user, app, c.Name)
				}
			}
		}
	}
	for _, c := range circumstances {
		matrix, err := reach.All(t.Context(), rules, c)
		require.NoError(t, err)
		groups := matrix.Alike
		everybodyOnce(groups)
		require.Greater(t, len(groups), 1)
		for i, g := range groups {
			for j, app := range apps {
				require.Equal(t, outcome(t, rules, c, g.People[0], app), g.Fares[j].Outcome)
				require.Equal(t, outcome(t, rules, c, g.People[len(g.People)-1], app), g.Fares[j].Outcome)
			}
			for _, other := range groups[:i] {
				require.False(t, slices.EqualFunc(g.Fares, other.Fares, func(x, y reach.Fare) bool { return x.Outcome == y.Outcome }), "people who fare alike stand together")
			}
		}
	}
	of, err := reach.User(t.Context(), rules, "mira.holt", circumstances)
	require.NoError(t, err)
	require.Len(t, of.Apps, len(apps))
	for _, r := range of.Apps {
		for i, c := range circumstances {
			require.Equal(t, outcome(t, rules, c, "mira.holt", r.App), r.Fares[i].Outcome)
		}
	}
}

// TestFaresTellWhatMattered: without an address, the network is among what was left out.
func TestFaresTellWhatMattered(t *testing.T) {
	rules := skerry(t)
	so := circumstances[1].SignOn
	so.Presented = nil
	so.User, so.App = "mira.holt", "crew-roster"
	f, err := reach.Of(t.Context(), rules, so)
	require.NoError(t, err)
	require.Contains(t, f.Unknown, "network")
	require.NotEmpty(t, f.By)
}

// TestUsual: whoever names no circumstances learns of the usual ones, and which of them come to the same.
func TestUsual(t *testing.T) {
	rules, err := briskwarden.OpenFS(fstest.MapFS{"geo.csv": {Data: []byte("192.0.2.0/24,NO,,,\n198.51.100.0/24,NO,,,\n203.0.113.0/24,PT,,,\n")}, "rulebook.warden": {Data: []byte(`rulebook r { unmatched block  floor none  geo "geo.csv" }
user ann { methods password }
app news { }
app pay { }
network quay trusted { 192.0.2.0/24 }
network relays anonymous { 203.0.113.0/28 }
policy news { who everyone  to app news  case "abroad" when country not in NO => block  otherwise => grant }
policy pay { who everyone  to app pay  case "quay" when network in quay and device.managed => grant  otherwise => block }
`)}})
	require.NoError(t, err)
	of, err := reach.User(t.Context(), rules, "ann", reach.Usual(rules, "ann", time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC)))
	require.NoError(t, err)
	require.Equal(t, []string{"quay, own device", "quay, managed device", "elsewhere in NO, own device", "elsewhere in NO, managed device", "abroad, own device", "abroad, managed device", "nothing known"}, of.Columns)
	said := map[string]string{}
	for _, g := range of.Together() {
		said[g.Name] = fmt.Sprint(g.Fares[0].Outcome, " ", g.Fares[1].Outcome)
	}
	require.Equal(t, map[string]string{"elsewhere in NO; quay on one's own device": "grant block", "quay on a managed device": "grant grant", "abroad, nothing known": "block block"}, said)
}
