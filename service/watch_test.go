package service_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"briskwarden.example/briskwarden/about"
	weekly "briskwarden.example/briskwarden/digest"
	"briskwarden.example/briskwarden/service"
)

// TestWhatIsRemembered tells of one thing, and of the week, what the service remembers.
func TestWhatIsRemembered(t *testing.T) {
	s := serve(t, ferryRules()+"\nuser boss { methods password }\n", service.Options{})
	for _, ask := range [][3]string{{"ann", "roster", `"id":"d1"`}, {"ann", "roster", `"id":"d2"`}, {"bob", "roster", `"id":"d1"`}} {
		require.Equal(t, "grant", s.outcome("web", ask[0], ask[1], `"session":{"id":"`+ask[0]+ask[2][6:8]+`"},"country":"NO","device":{`+ask[2]+`},"presented":["password"]`))
		soon()
	}
	b, err := service.NewBeside(t.Context(), s.rules, s.state)
	require.NoError(t, err)
	defer b.Close()
	granted := func(kind about.Kind, name string, last int) (list []string) {
		o := about.Options{Last: last}
		require.NoError(t, b.About(t.Context(), kind, name, &o))
		a, err := about.Find(t.Context(), b.Rulebook, kind, name, o)
		require.NoError(t, err)
		for _, g := range a.SignOns {
			list = append(list, g.User+" "+g.App+" "+g.From+" "+g.Device+" "+g.Outcome)
		}
		return list
	}
	ann1, ann2, bob := "ann roster NO d1 grant", "ann roster NO d2 grant", "bob roster NO d1 grant"
	require.Equal(t, []string{ann2, ann1}, granted(about.User, "ann", 10))
	require.Equal(t, []string{bob, ann2, ann1}, granted(about.Group, "crew", 10))
	require.Equal(t, []string{bob, ann2}, granted(about.App, "roster", 2))
	require.Equal(t, []string{bob, ann1}, granted(about.Device, "d1", 10)[:2])
	require.Equal(t, []string{bob, ann2, ann1}, granted(about.Country, "NO", 10))
	require.Empty(t, granted(about.App, "vault", 10))
	require.Empty(t, granted(about.Country, "SE", 10))

	require.NoError(t, b.RaiseRisk(t.Context(), "ann", "boss", "Seen in a list"))
	raised, err := service.NewBeside(t.Context(), s.rules, s.state)
	require.NoError(t, err)
	defer raised.Close()
	var o weekly.Options
	require.NoError(t, raised.Watch(t.Context(), &o))
	require.Len(t, o.Accounts, 1)
	require.Equal(t, []string{"ann", "high", "boss", "Seen in a list"}, []string{o.Accounts[0].User, o.Accounts[0].Risk, o.Accounts[0].By, o.Accounts[0].Because})
	require.NotNil(t, o.Ledger)
}
