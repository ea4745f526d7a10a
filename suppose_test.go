package briskwarden_test

import (
	"math"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/require"

	"briskwarden.example/briskwarden"
	"briskwarden.example/briskwarden/consent"
	"briskwarden.example/briskwarden/signon"
)

const supposing = `rulebook r { timezone "Europe/Oslo" floor none HISTORY }
attribute user.team word default deck
attribute user.level number
attribute user.since date
attribute device.kiosk yes-no default no
user ann { risk low joined 2026-11-20 methods password attr level 3 }
app news { }
risk model { add 40 when new.country band low to 100 }
policy p { who everyone to everything
  case "x" when CONDITION => block
  otherwise => grant }
`

// TestSuppose: what is supposed counts, whatever history and directory say.
func TestSuppose(t *testing.T) {
	at := time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC)
	open := func(history, condition string) *briskwarden.Rulebook {
		text := strings.NewReplacer("HISTORY", history, "CONDITION", condition).Replace(supposing)
		rules, err := briskwarden.OpenFS(fstest.MapFS{"rulebook.warden": {Data: []byte(text)}, "log.jsonl": {Data: []byte(
			`{"subject":{"id":"ann"},"context":{"time":"2026-11-20T08:00:00Z","country":"NO","device":{"id":"tab"}}}` + "\n")}}, briskwarden.WithClock(func() time.Time { return at }))
		require.NoError(t, err, condition)
		return rules
	}
	for _, c := range []struct{ condition, clauses, want string }{
		{"new.country", "", "no"}, {"new.country", "suppose new.country yes", "yes"}, {"new.country", "suppose new.country unknown", "unknown"},
		{"new.device", "suppose new.device yes, new.country no", "yes"}, {"odd.hour", "suppose odd.hour yes", "yes"},
		{"travel.speed > 900", "suppose travel.speed 950", "yes"}, {"travel.speed > 900", "suppose travel.speed 900", "no"}, {"travel.speed > 900", "", "unknown"},
		{"risk >= 40", "suppose new.country yes", "yes"}, {"risk >= 40", "suppose new.country unknown", "unknown"}, {"risk >= 40", "", "no"},
		{"user.risk at least medium", "", "no"}, {"user.risk at least medium", "suppose user.risk high", "yes"}, {"user.risk at least medium", "suppose user.risk unknown", "unknown"},
		{"user.joined within 7d", "", "yes"}, {"user.joined within 7d", "suppose user.joined 2026-11-01", "no"}, {"user.joined within 7d", "suppose user.joined 2026-11-16T09:00", "yes"},
		{"user.joined is known", "suppose user.joined unknown", "no"},
		{"user.team is deck", "", "yes"}, {"user.team is deck", "suppose user.team bridge", "no"}, {"user.team is deck", "suppose user.team unknown", "unknown"},
		{"user.team is \"unknown\"", "suppose user.team \"unknown\"", "yes"}, {"user.level > 2", "", "yes"}, {"user.level > 2", "suppose user.level 2", "no"},
		{"time after user.since", "suppose user.since 2026-11-22", "yes"}, {"time after user.since", "suppose user.since 2026-11-23", "no"},
		{"device.kiosk", "device tab suppose device.kiosk yes", "yes"}, {"device.kiosk", "device tab", "no"},
		{"user.compromised", "", "unknown"}, {"user.compromised", "suppose user.compromised yes", "unknown"}, // no source tells
	} {
		rules := open(`history "log.jsonl"`, c.condition)
		s, err := rules.SignOn("user ann app news country NO " + map[bool]string{true: "device tab "}[len(c.clauses) < 7 || c.clauses[:7] != "device "] + c.clauses)
		require.NoError(t, err, c.clauses)
		text, err := s.MarshalJSON()
		require.NoError(t, err)
		read, err := signon.Decode(text)
		require.NoError(t, err)
		for _, s := range []signon.SignOn{s, read} {
			d, err := rules.Explain(t.Context(), s)
			require.NoError(t, err)
			first := d.Explanation.Policies[0]
			got := map[bool]string{true: "unknown", false: map[bool]string{true: "yes", false: "no"}[first.Case == "x"]}[!first.Sure]
			require.Equal(t, c.want, got, "%s, %s: %s", c.condition, c.clauses, first.Why)
			if len(s.Suppose) > 0 {
				require.Contains(t, d.Explanation.Known[0], "supposed: ")
			}
			if c.condition == "new.country" && c.want == "yes" {
				require.Equal(t, "new.country is yes: supposed", first.Why)
			}
		}
	}
	without := open("", "new.country")
	s, err := without.SignOn("user ann app news suppose new.country no")
	require.NoError(t, err)
	d, err := without.Explain(t.Context(), s)
	require.NoError(t, err)
	require.False(t, d.Explanation.Policies[0].Sure, "without a history nothing is known of the past")

	for clauses, want := range map[string]string{"suppose new.contry yes": `there is no fact "new.contry"`, "suppose new.country 3": "neither yes nor no", "suppose country NO": `"country" cannot be supposed`,
		"suppose user.risk severe": "expected one of none, low", "suppose travel.speed -1": "no speed", "suppose user.joined soon": "user.joined", "suppose odd.hour yes, odd.hour no": "supposed twice"} {
		_, err := without.SignOn("user ann app news " + clauses)
		require.ErrorContains(t, err, want)
	}
	for name, junk := range map[string]any{"new.country": "maybe", "travel.speed": math.NaN(), "user.risk": true, "user.joined": 7.0, "user.level": "3", "device.kiosk": []any{}, "country": "NO", "": true, "user.team": "\xff"} {
		d, err := without.Decide(t.Context(), signon.SignOn{User: "ann", App: "news", Suppose: map[string]any{name: junk}})
		var field *signon.FieldError
		require.ErrorAs(t, err, &field, name)
		require.Contains(t, field.Field, "context.suppose", name)
		require.Equal(t, signon.Block, d.Outcome)
	}

	supposed := signon.SignOn{User: "ann", App: "news", Time: at, Suppose: map[string]any{"new.country": false}}
	_, err = signon.DecodeLogged([]byte(`{"subject":{"id":"ann"},"context":{"suppose":{"new.country":false}}}`))
	require.ErrorContains(t, err, "context.suppose: what really happened is not supposed")
	_, err = signon.Logged{SignOn: supposed}.MarshalJSON()
	require.ErrorContains(t, err, "not supposed")
	supposed.Consent = &signon.Consent{Client: "notes", Scopes: []string{"openid"}}
	_, err = consent.New(consent.NewMemory(), without).Ask(t.Context(), supposed)
	require.ErrorContains(t, err, "not supposed")
}

// TestSupposedJoining: a grace counts from the day that is supposed.
func TestSupposedJoining(t *testing.T) {
	rules, err := briskwarden.OpenFS(fstest.MapFS{"rulebook.warden": {Data: []byte(`rulebook r { timezone "Europe/Oslo" floor none }
user ann { joined 2026-01-01 methods password }
app news { }
policy p { who everyone to everything otherwise => step-up password and enrol passkey grace 14d }
`)}}, briskwarden.WithClock(func() time.Time { return time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC) }))
	require.NoError(t, err)
	for clauses, want := range map[string]signon.Outcome{"": signon.Block, "suppose user.joined 2026-11-10": signon.Grant, "suppose user.joined 2026-11-09": signon.Block, "suppose user.joined unknown": signon.Block} {
		s, err := rules.SignOn("user ann app news presenting password " + clauses)
		require.NoError(t, err)
		d, err := rules.Decide(t.Context(), s)
		require.NoError(t, err)
		require.Equal(t, want, d.Outcome, clauses)
	}
}
