package consent_test

import (
	"fmt"
	"strings"
	"sync"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/require"

	"briskwarden.example/briskwarden"
	"briskwarden.example/briskwarden/consent"
	"briskwarden.example/briskwarden/signon"
)

const rules = `rulebook r { timezone "Europe/Oslo" unmatched grant floor none }
user ann { groups deck  methods password, passkey }
user bob { groups deck  methods password }
user cat { methods password }
user rev { groups reviewers  methods password }
user two { groups reviewers, deck  methods password }
user off { groups reviewers  active no }
group deck { }
group galley { }
group reviewers { }
app roster { }
app pay { }
scopes basic weight 0 { openid, profile }
scopes crew weight 40 { "roster.*" }
policy consenting {
  who   everyone
  to    everything
  doing consent
  case "never" when scopes touch unclassified => block "No."
  case "harmless" when scopes within basic and publisher.verified => grant
  case "own" when consent.for is group and consent.owner and scopes.weight < 60 => step-up passkey every time
  otherwise => review by group reviewers
}
`

// bench is a ledger with a clock that a test sets.
type bench struct {
	*consent.Ledger
	store consent.Store
	t     *testing.T
	now   time.Time
}

func newBench(t *testing.T, store consent.Store, text string) *bench {
	b := &bench{store: store, t: t, now: time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC)}
	rules, err := briskwarden.OpenFS(fstest.MapFS{"rulebook.warden": {Data: []byte(text)}}, briskwarden.WithClock(func() time.Time { return b.now }))
	require.NoError(t, err)
	b.Ledger = consent.New(store, rules)
	return b
}

// request is a request of ann's; "scopes" stand with spaces between.
func request(client, scopes string, change ...func(*signon.SignOn)) signon.SignOn {
	so := signon.SignOn{User: "ann", App: "roster", Consent: &signon.Consent{Client: client, Publisher: "Fern", Verified: signon.Yes, Scopes: strings.Fields(scopes)}}
	for _, c := range change {
		c(&so)
	}
	return so
}

func of(user string) func(*signon.SignOn) { return func(so *signon.SignOn) { so.User = user } }
func to(app string) func(*signon.SignOn)  { return func(so *signon.SignOn) { so.App = app } }
func forGroup(owner signon.YesNo) func(*signon.SignOn) {
	return func(so *signon.SignOn) {
		so.Consent.For, so.Consent.Group, so.Consent.Owner = signon.ForGroup, "deck", owner
	}
}
func forAll(so *signon.SignOn) { so.Consent.For = signon.ForEveryone }
func proven(so *signon.SignOn) { so.Presented = []string{"passkey"} }

// ask gives the outcome, with the consent that is new or waits, and those that answered.
func (b *bench) ask(so signon.SignOn) string {
	a, err := b.Ask(b.t.Context(), so)
	if err != nil {
		return err.Error()
	}
	text := a.Outcome.String()
	if a.Consent != nil {
		text += " " + a.Consent.ID.String()
	}
	for _, c := range a.Held {
		text += " by " + c.ID.String()
	}
	return text
}

func (b *bench) settle(id consent.ID, s consent.Settlement) string {
	c, err := b.Settle(b.t.Context(), id, s)
	if err != nil {
		return err.Error()
	}
	return fmt.Sprint(c.State, c.Granted)
}

func TestAnswersOfTheLedger(t *testing.T) {
	b := newBench(t, consent.NewMemory(), rules)
	require.Equal(t, "grant c-1", b.ask(request("widget", "openid")))
	require.Equal(t, "grant by c-1", b.ask(request("widget", "openid")), "what is held is not asked anew")
	require.Equal(t, "grant c-2 by c-1", b.ask(request("widget", "openid profile")), "what is new is")
	require.Equal(t, "grant by c-1 by c-2", b.ask(request("widget", "profile openid")))
	require.Equal(t, "grant c-3", b.ask(request("widget", "openid", of("bob"))), "what ann gave is hers alone")
	require.Equal(t, "grant c-4", b.ask(request("widget", "openid", to("pay"))), "and of that app alone")
	require.Equal(t, "grant c-5", b.ask(request("other", "openid")), "and that client's")
	require.Equal(t, "block by c-1", b.ask(request("widget", "openid mail.read")))
	require.Equal(t, "block", b.ask(request("widget", "openid", of("zoe"))))

	require.Equal(t, "step-up", b.ask(request("notes", "roster.read", forGroup(signon.Yes))), "the proof first")
	require.Equal(t, "grant c-6", b.ask(request("notes", "roster.read", forGroup(signon.Yes), proven)))
	require.Equal(t, "grant by c-6", b.ask(request("notes", "roster.read", of("bob"))), "who is in the group has it")
	require.Equal(t, "grant by c-6", b.ask(request("notes", "roster.read", of("two"), forGroup(signon.No))), "whoever asks for the group")
	require.Equal(t, "review c-7", b.ask(request("notes", "roster.read", of("cat"))), "who is not, asks anew")
	galley := func(so *signon.SignOn) {
		so.Consent.For, so.Consent.Group, so.Consent.Owner = signon.ForGroup, "galley", signon.No
	}
	require.Equal(t, "review c-8", b.ask(request("notes", "roster.read", forAll)), "a group is not everyone")
	require.Equal(t, "review c-8", b.ask(request("notes", "roster.read", forAll)), "what waits is not asked twice")
	require.Equal(t, "review c-9", b.ask(request("notes", "roster.read roster.write", forAll)), "unless for more")

	require.Equal(t, "review c-10", b.ask(request("notes", "roster.read", galley)), "nor another group")

	require.Equal(t, "granted[roster.read]", b.settle(8, consent.Settlement{Grant: true, By: "rev", Because: "fine"}))
	require.Equal(t, "grant by c-8", b.ask(request("notes", "roster.read", of("cat"))), "what everyone has answers cat too")
	waiting, err := b.Waiting(t.Context())
	require.NoError(t, err)
	require.Len(t, waiting, 3)
	_, err = consent.Verify(t.Context(), b.store)
	require.NoError(t, err)
}

func TestEnds(t *testing.T) {
	b := newBench(t, consent.NewMemory(), rules)
	require.Equal(t, "review c-1", b.ask(request("notes", "roster.read roster.write")))
	until := b.now.Add(48 * time.Hour)
	require.Equal(t, "granted[roster.read]", b.settle(1, consent.Settlement{Grant: true, By: "rev", Because: "reads alone", Only: []string{"roster.read", "roster.read"}, Until: until}))
	require.Equal(t, "grant by c-1", b.ask(request("notes", "roster.read")))
	require.Equal(t, "review c-2 by c-1", b.ask(request("notes", "roster.read roster.write")), "what was struck out is asked anew")
	b.now = until
	require.Equal(t, "review c-3", b.ask(request("notes", "roster.read")), "the consent has ended")
	so := request("notes", "roster.read")
	so.Time = until.Add(-time.Hour)
	require.Equal(t, "review c-3", b.ask(so), "and a request that says it is of earlier revives it not")
	b.now = until.Add(-time.Second)
	so.Time = until
	require.Equal(t, "review c-3", b.ask(so), "nor does a clock that is behind the request")

	_, err := b.Ban(t.Context(), "notes", "rev", "sells data")
	require.NoError(t, err)
	a, err := b.Ask(t.Context(), request("notes", "roster.read"))
	require.NoError(t, err)
	require.Equal(t, signon.Block, a.Outcome)
	require.Equal(t, "sells data", a.Client.Banned.Because)
	require.Equal(t, "block", b.ask(request("notes", "openid")), "whatever the policies say")
	last := lastEntry(t, b.store)
	require.Equal(t, []string{"ann", "block", "notes", "banned by rev: sells data"}, []string{last.Who, last.What, last.Client, last.Why})
	require.Contains(t, b.settle(2, consent.Settlement{Grant: true, By: "rev", Because: "?"}), "is banned")
	_, err = b.Unban(t.Context(), "notes", "two", "mended")
	require.NoError(t, err)
	require.Equal(t, "grant by c-1", b.ask(request("notes", "roster.read")))

	_, err = b.Withdraw(t.Context(), 1, "ann", "no use")
	require.NoError(t, err)
	require.Equal(t, "review c-3", b.ask(request("notes", "roster.read")))
	_, err = b.Withdraw(t.Context(), 3, "rev", "asked by mistake")
	require.NoError(t, err)
	require.Contains(t, b.settle(3, consent.Settlement{Grant: true, By: "rev", Because: "?"}), "c-3 does not wait: it is withdrawn by rev")

	// The giver leaves: what she gave for the group ends with her.
	require.Equal(t, "grant c-4", b.ask(request("times", "roster.read", forGroup(signon.Yes), proven)))
	require.Equal(t, "grant by c-4", b.ask(request("times", "roster.read", of("bob"))))
	left := newBench(t, b.store, strings.Replace(rules, "methods password, passkey }", "methods password, passkey  active no }", 1))
	require.Equal(t, "review c-5", left.ask(request("times", "roster.read", of("bob"))))
	file, err := left.File(t.Context(), "times")
	require.NoError(t, err)
	require.Equal(t, "ended: ann is no longer active", file.Standing[4])
	_, err = consent.Verify(t.Context(), b.store)
	require.NoError(t, err)
}

// TestPublisherThatChanges: a record is verified for its publisher alone.
func TestPublisherThatChanges(t *testing.T) {
	b := newBench(t, consent.NewMemory(), rules)
	says := func(publisher string, verified signon.YesNo) func(*signon.SignOn) {
		return func(so *signon.SignOn) { so.Consent.Publisher, so.Consent.Verified = publisher, verified }
	}
	require.Equal(t, "grant c-1", b.ask(request("widget", "openid")))
	require.Equal(t, "grant c-2", b.ask(request("widget", "openid", of("bob"), says("", signon.Unknown))), "what the request leaves out, the record says")
	require.Equal(t, "review c-3", b.ask(request("widget", "openid", of("cat"), says("Other", signon.Unknown))), "another publisher was not verified")
	require.Equal(t, "review c-4", b.ask(request("widget", "openid", of("two"), says("", signon.Unknown))), "and that is what the record says now")
}

// TestGiverWhoLeft: a disabled user gets nothing, though everyone does.
func TestGiverWhoLeft(t *testing.T) {
	b := newBench(t, consent.NewMemory(), rules)
	require.Equal(t, "review c-1", b.ask(request("notes", "roster.read", forAll)))
	b.settle(1, consent.Settlement{Grant: true, By: "rev", Because: "fine"})
	require.Equal(t, "grant by c-1", b.ask(request("notes", "roster.read", of("cat"))))
	require.Equal(t, "block by c-1", b.ask(request("notes", "roster.read", of("off"))))
}

// TestImportKeepsBans: what is registered anew stays banned.
func TestImportKeepsBans(t *testing.T) {
	b := newBench(t, consent.NewMemory(), rules)
	_, err := b.Ban(t.Context(), "notes", "rev", "sells data")
	require.NoError(t, err)
	n, err := b.Import(t.Context(), []*consent.Client{{ID: "notes", Name: "Notes"}}, nil, "file")
	require.NoError(t, err)
	require.Equal(t, 1, n.Clients)
	require.Equal(t, "block", b.ask(request("notes", "openid")))
}

// TestProofBeforeReview asks for a proof first, then for a review.
func TestProofBeforeReview(t *testing.T) {
	b := newBench(t, consent.NewMemory(), rules+`policy proving { who everyone to everything doing consent case "data" when scopes touch crew => step-up passkey every time otherwise => abstain }`)
	require.Equal(t, "step-up", b.ask(request("notes", "roster.read")))
	waiting, err := b.Waiting(t.Context())
	require.NoError(t, err)
	require.Empty(t, waiting, "the queue comes after the proof")
	require.Equal(t, "review c-1", b.ask(request("notes", "roster.read", proven)))
}

func TestWhoMaySettle(t *testing.T) {
	b := newBench(t, consent.NewMemory(), rules)
	require.Equal(t, "review c-1", b.ask(request("notes", "roster.read", of("two"))))
	for _, c := range []struct {
		s     consent.Settlement
		wrong string
	}{
		{consent.Settlement{Grant: true, By: "rev"}, "say why"},
		{consent.Settlement{Grant: true, By: "rev", Because: " \t"}, "say why"},
		{consent.Settlement{Grant: true, By: "rev", Because: "\u00a0\u200b\u202e\ufeff\u2060"}, "say why"},
		{consent.Settlement{Grant: true, By: "rev", Because: "\u3164\u115f\u2800\u0301\U000e0041"}, "say why"},
		{consent.Settlement{Grant: true, By: "nobody", Because: "x"}, `there is no user "nobody"`},
		{consent.Settlement{Grant: true, By: "off", Because: "x"}, "off is disabled"},
		{consent.Settlement{Grant: true, By: "ann", Because: "x"}, "ann is not in reviewers, which reviews c-1"},
		{consent.Settlement{Grant: true, By: "two", Because: "x"}, "two asked for c-1: nobody settles a request of her own"},
		{consent.Settlement{Grant: true, By: "rev", Because: "x", Only: []string{"openid"}}, "openid was not asked for"},
		{consent.Settlement{Grant: true, By: "rev", Because: "x", Until: b.now}, "over already"},
		{consent.Settlement{By: "rev", Because: "x", Only: []string{"roster.read"}}, "a refusal is of everything"},
	} {
		require.Contains(t, b.settle(1, c.s), c.wrong)
	}
	require.Equal(t, "refused[]", b.settle(1, consent.Settlement{By: "rev", Because: "no"}))
	require.Contains(t, b.settle(1, consent.Settlement{Grant: true, By: "rev", Because: "yes"}), "c-1 does not wait: it is refused by rev")
	require.Contains(t, b.settle(2, consent.Settlement{Grant: true, By: "rev", Because: "yes"}), "there is no consent c-2")
	_, err := b.Ban(t.Context(), "notes", "ann", "x")
	require.ErrorContains(t, err, "ann is no reviewer: those are in reviewers")
	require.Equal(t, "grant c-2", b.ask(request("widget", "openid")))
	_, err = b.Withdraw(t.Context(), 2, "bob", "x")
	require.ErrorContains(t, err, "c-2 was given by ann, and bob is no reviewer")
	v, err := consent.Verify(t.Context(), b.store)
	require.NoError(t, err)
	require.Equal(t, int64(3), v.Entries, "what was refused to be done left nothing")
}

func TestRequestsThatCannotBe(t *testing.T) {
	b := newBench(t, consent.NewMemory(), rules)
	many := strings.Repeat("roster.read ", 10_000)
	for want, so := range map[string]signon.SignOn{
		"subject.id: is missing":                  request("c", "openid", of("")),
		"resource.id: is missing":                 request("c", "openid", to("")),
		"context.consent.client: is missing":      request(" ", "openid"),
		"context.consent.scopes: is missing":      request("c", ""),
		"asks for 10000 scopes":                   request("c", many),
		`scopes[1]: "a\"b" is no scope`:           request("c", `openid a"b`),
		`scopes[0]: "a\x1b[31m" is no scope`:      request("c", "a\x1b[31m"),
		`action.name: "sign-on" is no request`:    request("c", "openid", func(so *signon.SignOn) { so.Action = "sign-on" }),
		"context.consent.group: is missing":       request("c", "openid", func(so *signon.SignOn) { so.Consent.For = signon.ForGroup }),
		`group: "deck" is named, but the consent`: request("c", "openid", func(so *signon.SignOn) { so.Consent.Group = "deck" }),
	} {
		_, err := b.Ask(t.Context(), so)
		require.ErrorContains(t, err, want)
	}
	_, err := b.Ask(t.Context(), request("c", "", func(so *signon.SignOn) { so.Consent.Scopes = []string{"two words"} }))
	require.ErrorContains(t, err, "without spaces")
	v, err := consent.Verify(t.Context(), b.store)
	require.NoError(t, err)
	require.Zero(t, v.Entries)
}

func lastEntry(t *testing.T, s consent.Store) (last *consent.Entry) {
	require.NoError(t, s.View(t.Context(), func(tx consent.Tx) (err error) { last, err = tx.LastEntry(); return err }))
	return last
}

// TestNothingIsDatedBack: people's changes follow each other in time, as far as clocks agree.
func TestNothingIsDatedBack(t *testing.T) {
	b := newBench(t, consent.NewMemory(), rules)
	require.Equal(t, "review c-1", b.ask(request("notes", "roster.read")))
	now := b.now
	b.now = now.Add(-24 * time.Hour)
	require.Contains(t, b.settle(1, consent.Settlement{Grant: true, By: "rev", Because: "fine", Until: now.Add(-time.Hour)}), "nothing is dated back")
	_, err := b.Withdraw(t.Context(), 1, "ann", "no use")
	require.ErrorContains(t, err, "nothing is dated back")
	_, err = b.Ban(t.Context(), "notes", "rev", "sells data")
	require.ErrorContains(t, err, "nothing is dated back")
	b.now = now.Add(-time.Second)
	require.Equal(t, "granted[roster.read]", b.settle(1, consent.Settlement{Grant: true, By: "rev", Because: "fine"}), "two clocks")
}

// TestAskLeavesItsRequest asks with one request from many sides at once.
func TestAskLeavesItsRequest(t *testing.T) {
	b := newBench(t, consent.NewMemory(), rules)
	so := request("widget", "openid")
	var wg sync.WaitGroup
	for range 8 {
		wg.Go(func() { _, _ = b.Ask(t.Context(), so) })
	}
	wg.Wait()
	require.Equal(t, request("widget", "openid"), so)
}

func TestAudit(t *testing.T) {
	b := newBench(t, consent.NewMemory(), rules)
	require.Equal(t, "grant c-1", b.ask(request("widget", "openid")))
	require.Equal(t, "grant c-2", b.ask(request("times", "roster.read", forGroup(signon.Yes), proven)))
	require.Equal(t, "review c-3", b.ask(request("notes", "roster.write")))
	b.settle(3, consent.Settlement{Grant: true, By: "rev", Because: "fine"})
	require.Equal(t, "review c-4", b.ask(request("notes", "roster.read", of("bob"))))
	b.settle(4, consent.Settlement{Grant: true, By: "two", Because: "fine"})
	require.Equal(t, "grant c-5", b.ask(request("bad", "openid", of("bob"))))
	_, err := b.Ban(t.Context(), "bad", "rev", "x")
	require.NoError(t, err)
	audit := func(b *bench) (found []string) {
		checked, list, err := b.Audit(t.Context())
		require.NoError(t, err)
		require.Equal(t, 4, checked, "of five, one client is banned")
		for _, f := range list {
			found = append(found, fmt.Sprint(f.Consent.ID, " ", f.Outcome, " ", f.Policy))
		}
		return found
	}
	require.Empty(t, audit(b), "nothing has changed")
	elsewhere := rules + `network quay { 192.0.2.0/24 }
policy away { who everyone to everything doing consent case "elsewhere" when network not in quay => block otherwise => abstain }`
	require.Empty(t, audit(newBench(t, b.store, elsewhere)), "where somebody was is not known today")
	stricter := strings.NewReplacer(`"never" when scopes touch unclassified`, `"never" when scopes touch unclassified or client-app.id is widget`,
		"user two { groups reviewers, deck", "user two { groups deck", "scopes.weight < 60", "scopes.weight < 30").Replace(rules)
	require.Equal(t, []string{`c-1 block consenting "never"`, `c-2 review consenting "otherwise"`, `c-4 review consenting "otherwise"`}, audit(newBench(t, b.store, stricter)),
		"widget is struck out, group owners have less of a say, and two reviews no more")
}

// TestWhyIsKept: the journal says what gave each answer, policies or not.
func TestWhyIsKept(t *testing.T) {
	text := strings.Replace(rules, "unmatched grant floor none", "unmatched block floor passkey every time break-glass user two => passkey every time", 1)
	text = strings.Replace(text, "  who   everyone\n", "  who   people except group galley\n", 1)
	text = strings.Replace(text, "user cat { methods password }", "user cat { groups galley  methods password }", 1)
	text = strings.Replace(text, `scopes within basic and publisher.verified => grant`, `scopes within basic => grant`, 1)
	b := newBench(t, consent.NewMemory(), text)
	for _, c := range []struct {
		so            signon.SignOn
		what, because string
	}{
		{request("notes", "openid"), "step-up", "floor"},
		{request("notes", "openid", proven), "grant", `consenting "harmless"`},
		{request("mail", "openid", of("cat")), "block", "unmatched"},
		{request("clock", "openid", of("two"), proven), "grant", "break-glass"},
		{request("crews", "roster.read", of("off")), "block", `The user "off" is disabled.`},
	} {
		_, err := b.Ask(t.Context(), c.so)
		require.NoError(t, err)
		last := lastEntry(t, b.store)
		require.Equal(t, []string{c.what, c.because}, []string{last.What, last.Why}, "%s of %s", c.so.Consent.Client, c.so.User)
		require.Equal(t, c.so.User, last.Who)
	}
}
