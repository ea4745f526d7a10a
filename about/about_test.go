package about_test

import (
	"fmt"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/require"

	"briskwarden.example/briskwarden"
	"briskwarden.example/briskwarden/about"
	"briskwarden.example/briskwarden/consent"
	"briskwarden.example/briskwarden/replay"
	"briskwarden.example/briskwarden/signon"
)

const rules = `rulebook ferry {
  unmatched grant
  floor     none
  break-glass user root.key => security-key every time
  devices   "fleet.csv"
}
user ann { groups deck  methods password, passkey }
user bob { methods password }
user cai { active no  methods passkey }
user root.key { methods security-key }
group deck { }
group crew { group deck, user bob }
group reviewers { user ann }
app roster { about "Who sails when"  tags rostering }
app pay { }
network quay trusted { 192.0.2.0/24 }
countries north { NO  SE }
demand second { passkey or security-key }
demand strong { second }
baseline sound { check "Encrypted" device.encrypted }
policy at-sea { who group crew except user bob to tag rostering case "ashore" when network in quay => grant case "far" when country in north => step-up strong otherwise => block }
policy roster { who group crew to app roster otherwise => step-up password }
policy all { who everyone to everything otherwise => step-up password }
policy sound { who group deck to app pay case "old" when device.encrypted is no => block otherwise => step-up device meets sound }
policy consents { who everyone to app roster doing consent otherwise => review by group reviewers }
waiver w { because "x" owner "y" who user ann to app roster lifts passkey until 2027-12-31 }
expect "ann ashore" { user ann app roster ip 192.0.2.7 presenting passkey at 2026-11-23T08:00 => grant }
expect "from SE" { user bob app roster country SE at 2026-11-23T08:00 device d1 => step-up }
alert a { when network in quay who user ann tell "mailto:desk@skerry.example" }
caller c { token "sha256:abababababababababababababababababababababababababababababababab" may decide for app roster from network quay }
`

func open(t *testing.T) *briskwarden.Rulebook {
	r, err := briskwarden.OpenFS(fstest.MapFS{"rulebook.warden": {Data: []byte(rules)}, "fleet.csv": {Data: []byte("id,owner,encrypted\nd1,ann,no\nd2,,yes\n")}},
		briskwarden.WithClock(func() time.Time { return time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC) }))
	require.NoError(t, err)
	return r
}

func find(t *testing.T, kind about.Kind, name string, o about.Options) *about.About {
	a, err := about.Find(t.Context(), open(t), kind, name, o)
	require.NoError(t, err)
	return a
}

func speaks(a *about.About) (list []string) {
	for _, m := range a.Speaks {
		list = append(list, fmt.Sprintf("%s %s: %s", m.What, m.Name, m.How))
	}
	return list
}

func said(list []about.Line) (texts []string) {
	for _, l := range list {
		texts = append(texts, l.Label+": "+l.Text)
	}
	return texts
}

// TestWhatSpeaks finds the declarations that speak of each kind of thing, and no others.
func TestWhatSpeaks(t *testing.T) {
	for _, c := range []struct {
		kind about.Kind
		name string
		want []string
	}{
		{about.User, "ann", []string{"user ann: declares it", "group reviewers: by name", "policy at-sea: among others", "policy roster: among others", "policy all: among others",
			"policy sound: among others", "policy consents: among others", "waiver w: by name", "expect ann ashore: by name", "alert a: by name"}},
		{about.User, "bob", []string{"user bob: declares it", "group crew: by name", "policy at-sea: excepted", "policy roster: among others", "policy all: among others",
			"policy consents: among others", "expect from SE: by name"}},
		{about.User, "root.key", []string{"rulebook ferry: as an emergency account", "user root.key: declares it", "policy all: among others", "policy consents: among others"}},
		{about.Group, "deck", []string{"user ann: is a member", "group deck: declares it", "group crew: by name", "policy sound: by name"}},
		{about.Group, "reviewers", []string{"group reviewers: declares it", "policy consents: its people review"}},
		{about.App, "roster", []string{"app roster: declares it", "policy at-sea: for it", "policy roster: for it", "policy all: for everything", "policy consents: for it", "waiver w: for it",
			"expect ann ashore: by name", "expect from SE: by name", "caller c: for it"}},
		{about.App, "pay", []string{"app pay: declares it", "policy all: for everything", "policy sound: for it"}},
		{about.Network, "quay", []string{"network quay: declares it", "policy at-sea: in a condition", "expect ann ashore: comes from it", "alert a: in a condition", "caller c: may ask from it alone"}},
		{about.Method, "passkey", []string{"demand second: asks for it", "demand strong: asks for it, by the demand second", "policy at-sea: asks for it, by the demand strong", "waiver w: lifts it", "expect ann ashore: presents it"}},
		{about.Method, "security-key", []string{"rulebook ferry: asks for it", "demand second: asks for it", "demand strong: asks for it, by the demand second", "policy at-sea: asks for it, by the demand strong"}},
		{about.Device, "d1", []string{"policy sound: asks of devices, for its owner", "expect from SE: by name"}},
		{about.Country, "SE", []string{"countries north: names it", "policy at-sea: in a condition: country in north", "expect from SE: comes from it"}},
		{about.Country, "north", []string{"countries north: declares it", "policy at-sea: in a condition: country in north", "expect from SE: comes from it"}},
		{about.Country, "RU", []string{"policy at-sea: asks for the country"}},
	} {
		require.Equal(t, c.want, speaks(find(t, c.kind, c.name, about.Options{})), "%s %s", c.kind, c.name)
	}
}

// TestWhatIsKnown tells why somebody is in a group, what she gets to, who has what, and who would feel it.
func TestWhatIsKnown(t *testing.T) {
	ann := find(t, about.User, "ann", about.Options{Standing: []string{"high, by bob on 2026-11-20"}})
	require.Equal(t, []string{"is: employee", "methods: password, passkey", "risk: high, by bob on 2026-11-20", "group: deck: directly", "group: crew: since deck is in it",
		"group: reviewers: directly", "device: d1, not encrypted"}, said(ann.Known))
	require.Equal(t, []string{"group deck: would have nobody", "group reviewers: would have nobody"}, said(ann.Felt))
	require.Equal(t, []string{"from quay: block: pay", "from quay: step-up, password: roster", "from elsewhere: block: pay, roster"}, said(ann.Reach))
	require.Equal(t, []string{"is: employee, disabled", "methods: passkey"}, said(find(t, about.User, "cai", about.Options{}).Known))
	require.Equal(t, []string{"members: 2: ann, bob", "groups in it: deck"}, said(find(t, about.Group, "crew", about.Options{}).Known))
	require.Equal(t, []string{"enrolled: 1, of whom 0 have nothing else"}, said(find(t, about.Method, "passkey", about.Options{}).Felt))
	require.Equal(t, []string{"enrolled: 2, of whom 1 have nothing else: bob"}, said(find(t, about.Method, "password", about.Options{}).Felt))
	require.Equal(t, []string{"is: d1, not encrypted", "owner: ann", "baseline sound: not met: Encrypted"}, said(find(t, about.Device, "d1", about.Options{}).Known))
	require.Equal(t, []string{"people: 1, for whom policies are that ask for it"}, said(find(t, about.Network, "quay", about.Options{}).Felt))

	for _, wrong := range []struct {
		kind       about.Kind
		name, want string
	}{{about.User, "an", `there is no user "an": did you mean "ann"?`}, {about.Country, "xx", "two letters"}, {about.Client, "c", "in the ledger"}, {about.Device, "d7", `there is no device "d7"`}, {"shoe", "x", "it is one of user, group, app"}} {
		_, err := about.Find(t.Context(), open(t), wrong.kind, wrong.name, about.Options{})
		require.ErrorContains(t, err, wrong.want)
	}
}

// TestLastSignOns tells the newest of those that concern a thing, whatever the order of the logs.
func TestLastSignOns(t *testing.T) {
	line := func(user, hour, more string) string {
		return fmt.Sprintf(`{"subject":{"id":%q},"resource":{"id":"roster"},"context":{"time":"2026-11-20T%s:00:00Z"%s}}`+"\n", user, hour, more)
	}
	log := line("ann", "11", `,"ip":"192.0.2.9","outcome":"grant","device":{"id":"d1"}`) + "{\n" + line("bob", "10", `,"country":"SE","presented":["password"]`) + line("ann", "09", `,"country":"NO","outcome":"block"`) +
		line("ann", "12", `,"device":{"id":"d7"}`)
	last := func(kind about.Kind, name string, n int) (hours []string, all int) {
		a := find(t, kind, name, about.Options{Last: n, Logs: []replay.Log{{Name: "l", In: strings.NewReader(log)}}})
		require.Equal(t, 1, a.Bad)
		for _, s := range a.SignOns {
			hours = append(hours, s.Time.Format("15 ")+s.User+" "+s.Outcome+" "+s.From+" "+s.Where)
		}
		return hours, a.All
	}
	for _, c := range []struct {
		kind about.Kind
		name string
		want []string
		all  int
	}{
		{about.User, "ann", []string{"12 ann   l:5", "11 ann grant quay l:1"}, 3}, {about.Group, "crew", []string{"12 ann   l:5", "11 ann grant quay l:1"}, 4}, {about.Network, "quay", []string{"11 ann grant quay l:1"}, 1},
		{about.Country, "north", []string{"10 bob  SE l:3", "09 ann block NO l:4"}, 2}, {about.Method, "password", []string{"10 bob  SE l:3"}, 1}, {about.Device, "d1", []string{"11 ann grant quay l:1"}, 1}, {about.Device, "d7", []string{"12 ann   l:5"}, 1}, {about.App, "pay", nil, 0},
	} {
		hours, all := last(c.kind, c.name, 2)
		require.Equal(t, c.want, hours, c.kind)
		require.Equal(t, c.all, all, c.kind)
	}
}

// TestClients tells what a client application holds, and what of a user or an app is held.
func TestClients(t *testing.T) {
	store := consent.NewMemory()
	_, err := consent.New(store, open(t)).Ask(t.Context(), signon.SignOn{User: "ann", App: "roster", Presented: []string{"password"},
		Consent: &signon.Consent{Client: "tidy", Name: "Tidy", Scopes: []string{"roster.read"}}})
	require.NoError(t, err)
	o := about.Options{Consents: store}
	require.Contains(t, said(find(t, about.Client, "tidy", o).Known), "waiting: 1 requests")
	require.Equal(t, []string{"policy consents: decides on consents"}, speaks(find(t, about.Client, "tidy", o)))
	const held = "consent: c-1, waiting: tidy may, of ann at roster, roster.read"
	require.Contains(t, said(find(t, about.User, "ann", o).Known), held)
	require.Contains(t, said(find(t, about.App, "roster", o).Known), held)
	require.NotContains(t, said(find(t, about.App, "pay", o).Known), held)
}
