package replay_test

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/require"

	"briskwarden.example/briskwarden"
	"briskwarden.example/briskwarden/replay"
)

const alerting = `rulebook r { unmatched grant floor none }
user ann { groups crew } user bob { } user root.key { }
group crew { }
app news { tags open } app pay { }
network relays anonymous { 198.51.100.0/24 }
policy p { who everyone to app pay otherwise => block }
alert relay { when network.anonymous at most 2 per user every 4h tell "mailto:desk@skerry.example" }
alert stopped { when client is legacy or device.managed on block who group crew to app pay tell "mailto:desk@skerry.example", "https://hooks.example/x" secret-in HOOK }
alert any { when not network in relays to tag open at most 1 per rulebook every 1d }
alert apps { when time after 2026-11-01 at most 1 per app every 30m tell "mailto:a@b.example" }
`

func alertRules(t testing.TB) *briskwarden.Rulebook {
	r, err := briskwarden.OpenFS(fstest.MapFS{"rulebook.warden": {Data: []byte(alerting)}})
	require.NoError(t, err)
	return r
}

// line is a sign-on of a log.
func alertLine(user, app, at, more string) string {
	return fmt.Sprintf(`{"subject":{"id":%q},"resource":{"id":%q},"context":{"time":%q%s}}`, user, app, at, more) + "\n"
}

func tried(t testing.TB, o replay.AlertOptions, logs ...string) map[string]*replay.AlertTally {
	var list []replay.Log
	for i, log := range logs {
		list = append(list, replay.Log{Name: fmt.Sprint("log", i), In: strings.NewReader(log)})
	}
	a, err := replay.TryAlerts(t.Context(), alertRules(t), list, o)
	require.NoError(t, err)
	tallies := map[string]*replay.AlertTally{}
	for _, t := range a.Alerts {
		tallies[t.Name] = t
	}
	return tallies
}

// TestAlertsAreTried: what is true raises an alert, whoever it is, and what is held back is counted.
func TestAlertsAreTried(t *testing.T) {
	const relay, quay = `,"ip":"198.51.100.7"`, `,"ip":"192.0.2.7"`
	got := tried(t, replay.AlertOptions{}, alertLine("ann", "news", "2026-11-02T08:00:00Z", relay)+alertLine("ann", "news", "2026-11-02T09:00:00Z", relay)+
		alertLine("ann", "news", "2026-11-02T10:00:00Z", relay)+alertLine("bob", "pay", "2026-11-02T10:30:00Z", relay)+alertLine("nobody", "nowhere", "2026-11-02T11:00:00Z", relay)+
		alertLine("ann", "news", "2026-11-02T12:00:00Z", relay)+alertLine("ann", "news", "2026-11-02T12:30:00Z", relay)+alertLine("ann", "news", "2026-11-02T12:45:00Z", "")+
		alertLine("ann", "pay", "2026-11-02T13:00:00Z", quay+`,"client":"legacy"`)+alertLine("bob", "pay", "2026-11-02T13:00:00Z", quay+`,"client":"legacy"`)+
		alertLine("ann", "pay", "2026-11-02T13:01:00Z", quay+`,"device":{"managed":true}`)+alertLine("ann", "pay", "2026-11-02T13:01:30Z", quay)+
		alertLine("ann", "news", "2026-11-02T23:00:00Z", quay)+alertLine("bob", "news", "2026-11-03T22:59:59Z", quay)+alertLine("bob", "news", "2026-11-03T23:00:00Z", quay))
	relays := got["relay"]
	require.Equal(t, []int{7, 5, 2, 3}, []int{relays.Raised, relays.Sent, relays.Held, relays.Users})
	require.Equal(t, "2026-11-02T12:00:00Z", relays.Messages[4].Time.Format(time.RFC3339))
	require.Equal(t, 1, relays.Messages[4].Held, "the next one says how many were held back")
	require.Equal(t, []string{"nobody", "nowhere", "block", "log0:5"}, []string{relays.Messages[3].User, relays.Messages[3].App, relays.Messages[3].Outcome, relays.Messages[3].Where})
	require.Equal(t, 2, got["stopped"].Raised, "of the crew, to this app, that are blocked, and true for sure")
	require.Equal(t, []string{"mailto:desk@skerry.example", "https://hooks.example/x"}, got["stopped"].Tell)
	require.Equal(t, []int{3, 2, 1}, []int{got["any"].Raised, got["any"].Sent, got["any"].Held}, "a whole day has passed")
	require.Equal(t, 2, got["any"].Messages[0].Held+got["any"].Messages[1].Held+got["any"].Held)
	require.Zero(t, tried(t, replay.AlertOptions{Alerts: []string{"relay"}}, "")["relay"].Raised)
	_, err := replay.TryAlerts(t.Context(), alertRules(t), nil, replay.AlertOptions{Alerts: []string{"other"}})
	require.ErrorContains(t, err, `there is no alert "other"`)
	only := tried(t, replay.AlertOptions{Alerts: []string{"relay"}, From: time.Date(2026, 11, 2, 12, 0, 0, 0, time.UTC)}, alertLine("ann", "news", "2026-11-02T08:00:00Z", relay)+alertLine("ann", "news", "2026-11-02T12:00:00Z", relay))
	require.Len(t, only, 1)
	require.Equal(t, 1, only["relay"].Raised)
}

// TestAlertsAgree holds many alerts against counting one by one, whatever the order of the logs.
func TestAlertsAgree(t *testing.T) {
	beyond := 0
	for seed := range uint64(30) {
		r := rand.New(rand.NewPCG(seed, 5))
		logs := make([]strings.Builder, 3)
		at := time.Date(2026, 11, 2, 0, 0, 0, 0, time.UTC)
		sent, raised, held, capped := map[string][]time.Time{}, 0, 0, 0
		var hour []time.Time
		for range 500 {
			at = at.Add(time.Duration(r.IntN([]int{240, 30}[seed%2])) * time.Second)
			user := fmt.Sprint("u", r.IntN(3*int(seed+1)))
			ip := []string{"198.51.100.1", "192.0.2.1"}[r.IntN(2)]
			logs[r.IntN(3)].WriteString(alertLine(user, "news", at.Format(time.RFC3339), `,"ip":"`+ip+`"`))
			if ip != "198.51.100.1" {
				continue
			}
			raised++
			inHour := 0
			for _, s := range hour {
				if at.Sub(s) < time.Hour {
					inHour++
				}
			}
			if inHour >= 60 { // and does not count for the user
				capped++
				continue
			}
			recent := 0
			for _, s := range sent[user] {
				if at.Sub(s) < 4*time.Hour {
					recent++
				}
			}
			if recent >= 2 {
				held++
				continue
			}
			sent[user] = append(sent[user], at)
			hour = append(hour, at)
		}
		texts := []string{logs[0].String(), logs[1].String(), logs[2].String()}
		r.Shuffle(3, func(i, j int) { texts[i], texts[j] = texts[j], texts[i] })
		got := tried(t, replay.AlertOptions{Alerts: []string{"relay"}}, texts...)["relay"]
		beyond += capped
		require.Equal(t, []int{raised, held, capped, len(hour)}, []int{got.Raised, got.Held, got.Capped, got.Sent}, "seed %d", seed)
	}
	require.Positive(t, beyond, "sixty an hour")
}

// TestMessagesTellTheDay tells what else somebody did that day, in the rulebook's zone, and what else is in a mail.
func TestMessagesTellTheDay(t *testing.T) {
	log := alertLine("ann", "pay", "2026-11-01T23:59:00Z", `,"outcome":"grant"`)
	for i := range 10 {
		log += alertLine("ann", "news", fmt.Sprintf("2026-11-02T0%d:00:00Z", i), `,"country":"NO","outcome":"grant"`)
	}
	log += alertLine("bob", "news", "2026-11-02T09:30:00Z", "") + alertLine("ann", "pay", "2026-11-02T10:00:00Z", `,"id":"s1","ip":"198.51.100.7"`)
	m := tried(t, replay.AlertOptions{Alerts: []string{"relay"}, Messages: true}, log)["relay"].Messages[0]
	require.Equal(t, []string{`p "otherwise"`, "relay: ann was blocked at pay"}, []string{m.Why, m.Subject})
	require.True(t, strings.HasPrefix(m.Text, "ann was blocked at pay: p \"otherwise\"\nMon 2026-11-02 10:00 UTC, "), m.Text)
	require.Equal(t, 8, strings.Count(m.Text, "  grant    news  NO\n"), "the last of them: %s", m.Text)
	require.Contains(t, m.Text, "\n  02:00  grant    news  NO\n")
	early := tried(t, replay.AlertOptions{Alerts: []string{"relay"}, Messages: true}, alertLine("ann", "pay", "2026-11-01T23:59:00Z", "")+alertLine("ann", "pay", "2026-11-02T00:01:00Z", `,"ip":"198.51.100.7"`))
	require.NotContains(t, early["relay"].Messages[0].Text, "What else", "yesterday is another day")
	require.Empty(t, tried(t, replay.AlertOptions{Alerts: []string{"relay"}}, log)["relay"].Messages[0].Text)
}
