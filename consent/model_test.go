package consent_test

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"briskwarden.example/briskwarden/consent"
	"briskwarden.example/briskwarden/signon"
)

// plainRules have no fact but the scopes, so that a model can decide by itself: basic scopes
// are granted, crew data waits, and the rest is blocked.
const plainRules = `rulebook r { floor none }
user ann { groups deck }
user bob { groups deck }
user cat { }
user gone { active no }
user rev { groups reviewers }
group deck { }
group reviewers { }
app roster { }
app pay { }
scopes basic weight 0 { openid, profile }
scopes crew weight 40 { "roster.*" }
policy consenting {
  who   everyone
  to    everything
  doing consent
  case "never" when scopes touch unclassified => block
  case "harmless" when scopes within basic => grant
  otherwise => review by group reviewers
}
`

// model is the ledger as its documentation tells of it, without any cleverness.
type model struct {
	list   []*consent.Consent
	banned map[string]bool
}

var inDeck = map[string]bool{"ann": true, "bob": true}

// holds are the scopes that one consent holds for a request at an instant.
func (m *model) holds(c *consent.Consent, so signon.SignOn, at time.Time) []string {
	forWhom := false
	switch c.For {
	case signon.ForEveryone:
		forWhom = true
	case signon.ForGroup:
		forWhom = so.Consent.For == signon.ForSelf && inDeck[so.User] || so.Consent.For == signon.ForGroup && so.Consent.Group == c.Group
	case signon.ForSelf:
		forWhom = so.Consent.For == signon.ForSelf && so.User == c.User
	}
	over := !c.Until.IsZero() && !at.Before(c.Until)
	if c.State != consent.Granted || over || c.User == "gone" || c.Client != so.Consent.Client || c.App != so.App || !forWhom {
		return nil
	}
	return c.Granted
}

// ask tells the outcome, and the scopes that are new.
func (m *model) ask(so signon.SignOn, at time.Time) (outcome signon.Outcome, fresh []string) {
	if m.banned[so.Consent.Client] {
		return signon.Block, nil
	}
	for _, s := range so.Consent.Scopes {
		held := slices.ContainsFunc(m.list, func(c *consent.Consent) bool { return slices.Contains(m.holds(c, so, at), s) })
		if !held && !slices.Contains(fresh, s) {
			fresh = append(fresh, s)
		}
	}
	basic := func(s string) bool { return s == "openid" || s == "profile" }
	switch {
	case so.User == "gone", so.User == "nobody", slices.ContainsFunc(fresh, func(s string) bool { return s == "mail.read" }):
		return signon.Block, fresh
	case !slices.ContainsFunc(fresh, func(s string) bool { return !basic(s) }):
		return signon.Grant, fresh
	}
	return signon.Review, fresh
}

// waits finds a request that waits for all that is new.
func (m *model) waits(so signon.SignOn, fresh []string) bool {
	return slices.ContainsFunc(m.list, func(c *consent.Consent) bool {
		return c.State == consent.Waiting && c.User == so.User && c.Client == so.Consent.Client && c.App == so.App && c.For == so.Consent.For &&
			c.Group == so.Consent.Group && !slices.ContainsFunc(fresh, func(s string) bool { return !slices.Contains(c.Scopes, s) })
	})
}

func randomRequest(dice *rand.Rand) signon.SignOn {
	pick := func(from ...string) string { return from[dice.IntN(len(from))] }
	so := signon.SignOn{User: pick("ann", "bob", "cat", "gone", "nobody"), App: pick("roster", "pay"), Consent: &signon.Consent{Client: pick("x", "y"), For: signon.ForSelf}}
	for range 1 + dice.IntN(3) {
		so.Consent.Scopes = append(so.Consent.Scopes, pick("openid", "profile", "roster.read", "roster.write", "mail.read"))
	}
	switch dice.IntN(5) {
	case 0:
		so.Consent.For, so.Consent.Group = signon.ForGroup, "deck"
	case 1:
		so.Consent.For = signon.ForEveryone
	}
	return so
}

// TestLedgerAgreesWithModel asks, settles, withdraws, bans and lets time pass at random.
func TestLedgerAgreesWithModel(t *testing.T) {
	seen := map[string]int{}
	for seed := range uint64(40) {
		dice := rand.New(rand.NewPCG(seed, 3))
		b := newBench(t, consent.NewMemory(), plainRules)
		m := &model{banned: map[string]bool{}}
		for range 150 {
			b.now = b.now.Add(time.Duration(dice.IntN(6)) * time.Hour)
			switch dice.IntN(10) {
			case 0, 1, 2:
				m.settle(t, b, dice, seen)
			case 3:
				client := []string{"x", "y"}[dice.IntN(2)]
				if m.banned[client] = dice.IntN(4) == 0; m.banned[client] {
					_, _ = b.Ban(t.Context(), client, "rev", "so") // it may be banned already
				} else {
					_, _ = b.Unban(t.Context(), client, "rev", "so")
				}
			default:
				m.compare(t, b, randomRequest(dice), seen)
			}
		}
		_, err := consent.Verify(t.Context(), b.store)
		require.NoError(t, err)
	}
	for _, what := range []string{"grant, all held", "grant, some new", "review, some new", "review, waits", "block, some new", "block, all held", "settled", "withdrawn"} {
		require.Greater(t, seen[what], 20, "%s is hardly ever tried: %v", what, seen)
	}
}

// compare asks the ledger and the model, and notes what the ledger keeps.
func (m *model) compare(t *testing.T, b *bench, so signon.SignOn, seen map[string]int) {
	outcome, fresh := m.ask(so, b.now)
	again := outcome == signon.Review && m.waits(so, fresh)
	a, err := b.Ask(t.Context(), so)
	require.NoError(t, err)
	told := fmt.Sprint(so.User, " ", so.App, " ", *so.Consent)
	require.Equal(t, outcome, a.Outcome, told)
	require.Equal(t, again, a.Again, told)
	what := "all held"
	switch {
	case again:
		what = "waits"
	case len(fresh) > 0:
		what = "some new"
	}
	seen[outcome.String()+", "+what]++
	keeps := !again && len(fresh) > 0 && (outcome == signon.Grant || outcome == signon.Review)
	require.Equal(t, keeps || again, a.Consent != nil, told)
	if keeps {
		require.Equal(t, fresh, a.Consent.Scopes, told)
		kept := *a.Consent
		m.list = append(m.list, &kept)
		require.Equal(t, len(m.list), int(kept.ID))
	}
}

// settle settles or withdraws one of the consents, in both.
func (m *model) settle(t *testing.T, b *bench, dice *rand.Rand, seen map[string]int) {
	if len(m.list) == 0 {
		return
	}
	c := m.list[dice.IntN(len(m.list))]
	if dice.IntN(5) == 0 {
		_, err := b.Withdraw(t.Context(), c.ID, "rev", "so")
		require.Equal(t, c.State == consent.Granted || c.State == consent.Waiting, err == nil, "%v", err)
		if err == nil {
			c.State = consent.Withdrawn
			seen["withdrawn"]++
		}
		return
	}
	s := consent.Settlement{Grant: dice.IntN(4) > 0, By: "rev", Because: "so"}
	if s.Grant && dice.IntN(2) == 0 {
		s.Only = c.Scopes[:1]
	}
	if s.Grant && dice.IntN(3) == 0 {
		s.Until = b.now.Add(time.Duration(1+dice.IntN(48)) * time.Hour)
	}
	settled, err := b.Settle(t.Context(), c.ID, s)
	require.Equal(t, c.State == consent.Waiting && !(s.Grant && m.banned[c.Client]), err == nil, "%v", err)
	if err == nil {
		*c = *settled
		seen["settled"]++
	}
}

// FuzzImport reads whatever a file may hold: it never panics, what it takes in is whole, and
// the ledger holds after it.
func FuzzImport(f *testing.F) {
	f.Add(`[{"client_id":"a","client_name":"A","scope":"openid","publisher_verified":true},{"client_id":"b"}]`, true)
	f.Add("user,client,app,scopes,for,group,given,until\nann,a,roster,openid roster.read,group,deck,2026-01-02,2027-01-02T03:04\n", false)
	f.Add("user,client,app,scopes\n\"an\nn\",a,roster,openid\n", false)
	f.Fuzz(func(t *testing.T, text string, clients bool) {
		b := newBench(t, consent.NewMemory(), plainRules)
		var records []*consent.Client
		var past []*consent.Consent
		var err error
		if clients {
			records, err = consent.ReadClients(strings.NewReader(text))
		} else {
			past, err = consent.ReadPast(strings.NewReader(text), time.UTC, b.Apps())
		}
		if err != nil {
			require.Regexp(t, `^line \d+: `, err.Error(), "an error tells the line")
			return
		}
		for _, c := range past {
			require.NotEmpty(t, c.User)
			require.NotEmpty(t, c.Granted)
		}
		n, err := b.Import(t.Context(), records, past, "fuzz")
		require.NoError(t, err)
		require.Equal(t, len(records)+len(past), n.Clients+n.Consents+n.Same)
		_, err = consent.Verify(t.Context(), b.store)
		require.NoError(t, err)
		twice, err := b.Import(t.Context(), records, past, "fuzz")
		require.NoError(t, err)
		require.Zero(t, twice.Consents, "nothing is doubled")
	})
}
