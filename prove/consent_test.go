package prove

import (
	"context"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/require"

	"briskwarden.example/briskwarden"
	"briskwarden.example/briskwarden/internal/possible/possibletest"
	"briskwarden.example/briskwarden/signon"
)

// consentAsks are conditions about what client applications ask for.
var consentAsks = []string{"scopes within sign-in", "scopes touch crew", "scopes within crew, sign-in", "scopes touch unclassified", "scopes is unknown", "scopes.count > 2",
	"scopes.count >= 1", "scopes.weight < 41", "scopes.weight > 70", "scopes.weight is known", "publisher.verified", "publisher.name is Fernwood", "client-app.id in notes, tides",
	"consent.for is group", "consent.for in self, everyone", "consent.owner", "consent.owner is no", "client is legacy"}

// eachConsent gives all consents that small rulebooks can tell apart.
func eachConsent(r *rand.Rand, text string, give func(*signon.Consent)) {
	lists := [][]string{nil, {}}
	scopes := []string{"openid", "roster.read", "roster.all", "roster.write", "mail.read"}
	for set := 1; set < 1<<len(scopes); set++ {
		var list []string
		for i, s := range scopes {
			if set>>i&1 == 1 {
				list = append(list, s)
			}
		}
		for len(list) < 6 { // a list may say the same twice
			lists = append(lists, append([]string(nil), list...))
			list = append(list, list[0])
		}
	}
	asked := func(word string, all ...string) []string {
		if strings.Contains(text, word) {
			return all
		}
		return all[:1]
	}
	yesNo := func(word string) []signon.YesNo {
		if strings.Contains(text, word) {
			return []signon.YesNo{signon.Unknown, signon.Yes, signon.No}
		}
		return []signon.YesNo{signon.Unknown}
	}
	for _, list := range lists {
		for _, verified := range yesNo("publisher.verified") {
			for _, publisher := range asked("publisher.name", "", "Fernwood", "Gearwright") {
				for _, client := range asked("client-app.id", "", "notes", "tides", "figures") {
					for _, whom := range asked("consent.for", "", "self", "group", "everyone") {
						for _, owner := range yesNo("consent.owner") {
							give(&signon.Consent{Client: client, Publisher: publisher, Verified: verified, Scopes: list, For: signon.ConsentFor(whom), Owner: owner})
						}
					}
				}
			}
		}
	}
}

// TestConsentProofsAgreeWithAllConsents does for consents what is done for sign-ons.
func TestConsentProofsAgreeWithAllConsents(t *testing.T) {
	brokenOnes := 0
	for seed := range uint64(*rulebooks) {
		r := rand.New(rand.NewPCG(seed, 9))
		pick := func(list ...string) string { return list[r.IntN(len(list))] }
		asks := []string{pick(consentAsks...), pick(consentAsks...), pick(consentAsks...)}
		when := func() string { return pick(asks...) + pick("", " and "+pick(asks...), " or "+pick(asks...)) }
		outcome := func() string {
			return pick("grant", "block", "review by group crew", "step-up password every time", "abstain")
		}
		text := "rulebook small {\n" + pick("", "unmatched grant\n") + "floor none\n}\nuser ada { groups crew methods password }\nuser ben { type guest }\napp roster { }\napp ledger { }\n" +
			"scopes sign-in weight 0 { openid }\nscopes crew weight 40 { \"roster.*\" }\nscopes all weight 30 { roster.all, roster.read }\n"
		for i := range 1 + r.IntN(2) {
			text += fmt.Sprintf("policy p%d {\nwho %s\nto %s\ndoing consent\ncase \"c\" when %s => %s\notherwise => %s\n}\n", i, pick("everyone", "group crew"), pick("everything", "app roster"), when(), outcome(), outcome())
		}
		for i := range 2 {
			text += fmt.Sprintf("promise \"q%d\" { who everyone to everything doing consent when %s %s }\n", i, when(), pick("never grant", "always block", "never review", "never grant without password", "never block"))
		}
		rules, err := briskwarden.OpenFS(fstest.MapFS{"rulebook.warden": {Data: []byte(text)}}, briskwarden.WithClock(func() time.Time { return possibletest.Start }))
		require.NoError(t, err, text)
		m := newModel(rules)
		eachConsent(r, text, func(c *signon.Consent) {
			for _, client := range []signon.Client{"", signon.Legacy, signon.Browser}[:1+2*strings.Count(text, "client is")/max(1, strings.Count(text, "client is"))] {
				for _, presented := range [][]string{nil, {"password"}} {
					for _, user := range []string{"ada", "ben"} {
						for _, app := range possibletest.Apps {
							m.consider(&signon.SignOn{User: user, App: app, Action: "consent", Time: possibletest.Start, Client: client, Presented: presented, Consent: c})
						}
					}
				}
			}
		})
		report, err := Promises(context.Background(), rules, Span{})
		require.NoError(t, err, text)
		for i := range report.Promises {
			p := &report.Promises[i]
			got := map[broke]bool{}
			for k := range p.Broken {
				for _, u := range p.Broken[k].People {
					for _, a := range p.Broken[k].Apps {
						got[broke{u, a}] = true
					}
				}
				m.checkWay(t, i, &p.Broken[k], fmt.Sprintf("seed %d %s\n%s", seed, p.Promise, text))
			}
			require.Equal(t, m.brokenOf(i), got, "seed %d %s\n%s", seed, p.Promise, text)
			if len(got) > 0 {
				brokenOnes++
			}
		}
	}
	require.Greater(t, brokenOnes, *rulebooks/2)
}
