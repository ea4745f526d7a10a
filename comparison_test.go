package briskwarden_test

import (
	"fmt"
	"net/netip"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/require"

	"briskwarden.example/briskwarden"
	"briskwarden.example/briskwarden/signon"
)

const compared = `rulebook r { floor none }
attribute user.step word from request
network relay { 192.0.2.0/24 }
scopes data weight 20 { "data.*" }
scopes basic weight 5 { openid }
user ann { methods password }
baseline safe { check "Encrypted" device.encrypted }
app news { }
risk model {
  add 49 when user.step is a
  add 50 when user.step is b
  add 79 when user.step is c
  add 80 when user.step is d
  add 30 when network in relay
  band low to 49, mid to 79, high to 100
}
`

// truths asks a condition about sign-ons: yes, no or unknown.
func truths(t *testing.T, condition string, list []signon.SignOn) (words []string) {
	t.Helper()
	doing := ""
	if list[0].Action != "" {
		doing = "doing " + list[0].Action + " "
	}
	rules, err := briskwarden.OpenFS(fstest.MapFS{"rulebook.warden": {Data: []byte(compared +
		"policy p { who everyone to everything " + doing + "case \"x\" when " + condition + " => block otherwise => grant }\n")}})
	require.NoError(t, err, condition)
	for _, s := range list {
		s.User, s.App = "ann", "news"
		d, err := rules.Explain(t.Context(), s)
		require.NoError(t, err)
		first := d.Explanation.Policies[0]
		words = append(words, map[bool]string{true: "unknown", false: map[bool]string{true: "yes", false: "no"}[first.Case == "x"]}[!first.Sure])
	}
	return words
}

// TestComparisonsAtTheirBounds tries every operator on both sides of what it compares with, and on it.
func TestComparisonsAtTheirBounds(t *testing.T) {
	var scores []signon.SignOn // 49, 50, 79, 80; then 49 to 79 and 50 to 80, without an address
	for _, step := range []string{"a", "b", "c", "d", "a", "b"} {
		s := signon.SignOn{Properties: map[string]any{"step": step}}
		if len(scores) < 4 {
			s.IP = netip.MustParseAddr("198.51.100.1")
		}
		scores = append(scores, s)
	}
	var versions []signon.SignOn
	for _, v := range []string{"14.1.9", "14.2", "14.2.0.0", "14.2.1", "14.10", "14.x", ""} {
		versions = append(versions, signon.SignOn{Device: &signon.Device{Version: v, Encrypted: []signon.YesNo{signon.Yes, signon.No, signon.Unknown}[len(versions)%3]}})
	}
	var asked []signon.SignOn
	for _, scopes := range [][]string{nil, {}, {"openid"}, {"data.read"}, {"openid", "data.read", "data.write"}} {
		asked = append(asked, signon.SignOn{Action: "consent", Consent: &signon.Consent{Client: "notes", Scopes: scopes}})
	}
	for condition, want := range map[string]string{
		"scopes.count > 1":                 "unknown no no no yes",
		"scopes.count < 1":                 "unknown yes no no no",
		"scopes.count is known":            "no yes yes yes yes",
		"scopes is known":                  "no yes yes yes yes",
		"scopes.weight > 20":               "unknown no no no yes",
		"scopes.weight <= 5":               "unknown yes yes no no",
		"scopes.weight >= 20":              "unknown no no yes yes",
		"scopes.weight is unknown":         "yes no no no no",
		"scopes touch data":                "unknown no no yes yes",
		"scopes within data":               "unknown unknown no yes no",
		"risk > 50":                        "no no yes yes unknown unknown",
		"risk >= 50":                       "no yes yes yes unknown yes",
		"risk < 50":                        "yes no no no unknown no",
		"risk <= 50":                       "yes yes no no unknown unknown",
		"risk < 80":                        "yes yes yes no yes unknown",
		"risk <= 79":                       "yes yes yes no yes unknown",
		"risk.band is low":                 "yes no no no unknown no",
		"risk.band is mid":                 "no yes yes no unknown unknown",
		"risk.band is high":                "no no no yes no unknown",
		"risk.band at least mid":           "no yes yes yes unknown yes",
		"risk.band at most mid":            "yes yes yes no yes unknown",
		"risk is known":                    "yes yes yes yes no no",
		"risk.band is known":               "yes yes yes yes no no",
		"device meets safe is known":       "yes yes no yes yes no yes",
		"device meets safe is unknown":     "no no yes no no yes no",
		"device meets safe is not known":   "no no yes no no yes no",
		"device meets safe is not unknown": "yes yes no yes yes no yes",
		"device.version > 14.2":            "no no no yes yes unknown unknown",
		"device.version >= 14.2":           "no yes yes yes yes unknown unknown",
		"device.version < 14.2":            "yes no no no no unknown unknown",
		"device.version <= 14.2":           "yes yes yes no no unknown unknown",
		"device.version is 14.2":           "no yes yes no no unknown unknown",
		"device.version is not 14.2":       "yes no no yes yes unknown unknown",
		"device.version is known":          "yes yes yes yes yes yes no",
		"surely device.version > 14.2":     "no no no yes yes no no",
	} {
		list := scores
		switch {
		case strings.Contains(condition, "device"):
			list = versions
		case strings.Contains(condition, "scopes"):
			list = asked
		}
		require.Equal(t, want, strings.Join(truths(t, condition, list), " "), condition)
	}
}

// TestReasonsOfWhatIsKnown: they say what was asked.
func TestReasonsOfWhatIsKnown(t *testing.T) {
	for condition, want := range map[string]string{
		"device meets safe is unknown":           "device meets safe is unknown",
		"user has passkey is known":              "user has passkey is known",
		"country in NO, DK, SE, FI and risk < 9": "country is NO and risk is 0",
	} {
		rules, err := briskwarden.OpenFS(fstest.MapFS{"rulebook.warden": {Data: []byte(compared +
			fmt.Sprintf("policy p { who everyone to everything case \"x\" when %s => block otherwise => grant }\n", condition))}})
		require.NoError(t, err, condition)
		d, err := rules.Explain(t.Context(), signon.SignOn{User: "ann", App: "news", Country: "NO", IP: netip.MustParseAddr("198.51.100.1"), Properties: map[string]any{"step": "z"}})
		require.NoError(t, err)
		require.Equal(t, want, d.Explanation.Policies[0].Why)
	}
}
