package digest_test

import (
	"context"
	"fmt"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/go-json-experiment/json"
	"github.com/stretchr/testify/require"

	"briskwarden.example/briskwarden"
	"briskwarden.example/briskwarden/consent"
	"briskwarden.example/briskwarden/digest"
	"briskwarden.example/briskwarden/replay"
	"briskwarden.example/briskwarden/signon"
)

const rules = `rulebook ferry { timezone "Europe/Oslo" floor none devices "fleet.csv" }
attribute user.contract-end date
user ann { groups crew methods password }
user bob { groups crew methods password attr contract-end 2026-12-10 }
user cai { groups crew methods password attr contract-end 2027-03-01 }
group crew { }
group reviewers { user ann }
app roster { }
app pay { }
risk model { add 90 when new.country band calm to 49, severe to 100 }
policy roster { who group crew to app roster case "abroad" when country is RU => block otherwise => step-up password }
policy away { who group crew to app roster case "far" when country is DK => block case "elsewhere" when country is FI => block otherwise => grant }
policy pay { who group crew to app pay stage enforce from 2026-12-01 otherwise => step-up passkey }
waiver winter { because "x" owner "harbour-it" who user ann to app roster lifts password until 2026-11-28 }
caller web { token "sha256:%s" until 2026-12-20 may decide }
promise "nobody from abroad" { who everyone to app roster when country is SE never grant }
promise "not from there" { who everyone to app roster when country is RU never grant }
`

var monday = time.Date(2026, 11, 23, 6, 0, 0, 0, time.UTC)

func open(t *testing.T) *briskwarden.Rulebook { return openAt(t, monday) }

func openAt(t *testing.T, now time.Time) *briskwarden.Rulebook {
	r, err := briskwarden.OpenFS(fstest.MapFS{"rulebook.warden": {Data: fmt.Appendf(nil, rules, strings.Repeat("ab", 32))},
		"fleet.csv": {Data: []byte("id,reported\nd1,2026-11-19T12:00:00Z\n")}}, briskwarden.WithClock(func() time.Time { return now }))
	require.NoError(t, err)
	return r
}

func line(user, country, outcome string, at time.Time) string {
	return fmt.Sprintf(`{"subject":{"id":%q},"resource":{"id":"roster"},"context":{"time":%q,"country":%q,"presented":["password"],"outcome":%q}}`+"\n",
		user, at.Format(time.RFC3339), country, outcome)
}

func make1(t *testing.T, o digest.Options, logs ...replay.Log) *digest.Digest {
	d, err := digest.Make(t.Context(), open(t), logs, o)
	require.NoError(t, err)
	return d
}

// TestWeek tells each thing that there is to tell, and what got worse first.
func TestWeek(t *testing.T) {
	var log, node strings.Builder
	for i := range 10 { // the week before, and before that
		log.WriteString(line("ann", "NO", "grant", monday.AddDate(0, 0, -8).Add(time.Duration(i)*time.Minute)))
		log.WriteString(line("bob", "NO", "grant", monday.AddDate(0, 0, -30).Add(time.Duration(i)*time.Minute)))
		log.WriteString(line("bob", "RU", "block", monday.AddDate(0, 0, -32).Add(time.Duration(i)*time.Minute))) // which teaches nothing
		log.WriteString(line("cai", "NO", "grant", monday.AddDate(0, 0, -31).Add(time.Duration(i)*time.Minute)))
	}
	log.WriteString(line("ann", "NO", "grant", monday.AddDate(0, 0, -7))) // the first instant of the week
	log.WriteString(line("bob", "RU", "block", monday.AddDate(0, 0, -2))) // new for him
	log.WriteString(line("bob", "NO", "grant", monday.AddDate(0, 0, -2).Add(time.Hour)))
	log.WriteString(line("bob", "RU", "block", monday.AddDate(0, 0, -2).Add(2*time.Hour)))
	log.WriteString(line("cai", "NO", "step-up", monday.Add(-time.Second)))
	log.WriteString(line("cai", "NO", "block", monday))                                                              // after it
	log.WriteString(strings.Replace(line("ann", "NO", "grant", monday.Add(-time.Minute)), `"country":"NO",`, "", 1)) // two cases are unknown
	log.WriteString("what?\n")
	node.WriteString(line("ann", "NO", "grant", monday.AddDate(0, 0, -3)))
	logs := []replay.Log{{Name: "all.jsonl", In: strings.NewReader(log.String())}, {Name: "signons/2026-11-20.harbour-1.jsonl", In: strings.NewReader(node.String())}}
	now := monday.AddDate(0, 0, -1)
	store := consent.NewMemory()
	for days, client := range map[int]string{-10: "long ago", -3: "tidy"} {
		asked := consent.New(store, openAt(t, monday.AddDate(0, 0, days)))
		_, err := asked.Import(t.Context(), nil, []*consent.Consent{{User: "ann", App: "roster", Client: client, Scopes: []string{"roster.read"}, Because: "x"}}, "past.csv")
		require.NoError(t, err)
	}
	ledger := consent.New(store, open(t))
	d := make1(t, digest.Options{Ledger: ledger, Before: "sha256:0123456789abcdef", Commits: []digest.Commit{{ID: "0123456789abcdef", Time: now, By: "Embla", Subject: "Open the roster"}},
		Accounts: []digest.Account{{User: "ann", Risk: "high", Since: now, By: "bob", Because: "Her phone was stolen"}}, Silent: []digest.Silent{{Source: "the signals of fleet"}},
		Ends: []digest.End{{What: "the certificate of the service", At: monday.AddDate(0, 0, 3)}, {What: "too late to tell", At: monday.AddDate(0, 0, 40)}, {What: "over already", At: monday}}}, logs...)

	require.Equal(t, 7, d.SignOns.All)
	require.Equal(t, 10, d.SignOns.AllBefore)
	require.Equal(t, replay.Outcomes{signon.Block: 2, signon.StepUp: 1, signon.Grant: 4}, d.SignOns.Now)
	require.Equal(t, []replay.Stop{{Policy: "roster", Blocked: 3}, {Policy: "away", Blocked: 1}}, d.Stopped)
	require.Equal(t, []digest.RiskyUser{{User: "bob", Count: 2, Score: 90, Time: monday.AddDate(0, 0, -2), App: "roster", Outcome: "block", Where: "all.jsonl:42", Granted: 1, Stopped: 1}}, d.Risky.Worst)
	require.Equal(t, []string{"nobody from abroad"}, []string{d.Broken[0].Promise})
	require.Len(t, d.Broken, 1)
	require.Empty(t, d.Unproved)
	var ends []string
	for _, e := range d.Ends {
		ends = append(ends, e.What+" "+e.Who)
	}
	require.Equal(t, []string{"the certificate of the service ", "the waiver winter harbour-it", "user.contract-end bob", "a token of the caller web "}, ends)
	require.Equal(t, 3, d.Unready.People)
	require.Zero(t, d.Unready.Now)
	require.Equal(t, []digest.Silent{{Source: "the signals of fleet"}, {Source: "the sign-on log of harbour-1", Since: monday.AddDate(0, 0, -3)},
		{Source: "the inventory of devices", Since: time.Date(2026, 11, 19, 12, 0, 0, 0, time.UTC)}}, d.Silent)
	require.Equal(t, 1, d.BadLines)
	require.Equal(t, &digest.Consents{Held: []digest.Held{{Client: "tidy", Consents: 1}}}, d.Consents)

	text := d.Text(80)
	require.True(t, strings.HasPrefix(text, "ferry, Mon 16 November 2026 to Mon 23 November 2026\n7 sign-ons, 3 not let in at once (0 of 10 the period before). To look at: 1\nbroken promise, 3 sources gone quiet,"), text)
	worse := strings.LastIndex(text, "\n! ")
	for _, whole := range []string{"\n! Promises that do not hold\n  nobody from abroad", "\n! Gone quiet\n", "\n! Accounts at risk\n  ann  risk high, by bob on Sun 2026-11-22: Her phone was stolen\n",
		"\n! Ends within 30 days\n  Thu 2026-11-26  the certificate of the service\n  Sat 2026-11-28  the waiver winter: harbour-it\n  Thu 2026-12-10  user.contract-end: bob\n"} {
		require.Contains(t, text[:worse+len(whole)], whole)
	}
	require.Contains(t, text[worse:], "The rulebook changed\n  digest          0123456789ab became ")
	require.Contains(t, text, "Open the roster, by Embla (0123456789)")
	for _, l := range strings.Split(text, "\n") {
		require.LessOrEqual(t, len(l), 80)
	}
	var told struct {
		SignOns struct {
			Outcomes map[string]struct {
				Now int `json:"now"`
			} `json:"outcomes"`
		} `json:"sign_ons"`
	}
	data, err := json.Marshal(d)
	require.NoError(t, err)
	require.NoError(t, json.Unmarshal(data, &told))
	require.Equal(t, 2, told.SignOns.Outcomes["block"].Now)
}

// TestQuietWeek fits one screen, and hostile names do nothing in it.
func TestQuietWeek(t *testing.T) {
	r, err := briskwarden.OpenFS(fstest.MapFS{"rulebook.warden": {Data: []byte("rulebook r { unmatched grant floor none }\nuser ann { methods password }\napp a { }\n")}},
		briskwarden.WithClock(func() time.Time { return monday }))
	require.NoError(t, err)
	log := strings.ReplaceAll(line("ann", "NO", "grant", monday.Add(-time.Hour)), "roster", "a")
	d, err := digest.Make(context.Background(), r, []replay.Log{{Name: "l", In: strings.NewReader(log)}}, digest.Options{})
	require.NoError(t, err)
	require.Equal(t, "r, Mon 16 November 2026 to Mon 23 November 2026\n1 sign-on, nobody stopped. Nothing got worse.\n\nSign-ons: 1, 0 before\n  grant  1, 0 before\n", d.Text(80))

	d.Accounts = []digest.Account{{User: "<b>eve</b>\x1b[31m\nFORGED", Risk: "high", Because: "<script>alert(1)</script>\u202e"}}
	require.NotContains(t, d.Text(80), "\nFORGED")
	require.NotContains(t, d.Text(80), "\x1b")
	page := string(d.HTML())
	for _, bad := range []string{"<b>", "<script", "\x1b", "\u202e"} {
		require.NotContains(t, page, bad)
	}
	require.Contains(t, page, "&lt;b&gt;eve")

	bare, err := briskwarden.OpenFS(fstest.MapFS{"rulebook.warden": {Data: []byte("rulebook r { floor none }\nuser ann { }\napp roster { }\nrisk model { add 100 when country is NO }\n")}})
	require.NoError(t, err)
	d, err = digest.Make(t.Context(), bare, []replay.Log{{Name: "l", In: strings.NewReader(line("ann", "NO", "grant", monday.Add(-time.Hour)))}}, digest.Options{To: monday})
	require.NoError(t, err)
	require.Nil(t, d.Risky, "a model without bands calls nothing risky")

	_, err = digest.Make(t.Context(), r, nil, digest.Options{From: monday, To: monday})
	require.ErrorContains(t, err, "ends before it begins")
}
