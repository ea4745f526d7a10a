package review_test

import (
	"crypto/ed25519"
	"crypto/sha256"
	"encoding/base64"
	"fmt"
	"maps"
	"reflect"
	"slices"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/require"

	"briskwarden.example/briskwarden"
	"briskwarden.example/briskwarden/internal/rulebook"
	"briskwarden.example/briskwarden/review"
)

func keyOf(seed string) string {
	digest := sha256.Sum256([]byte(seed))
	public := ed25519.NewKeyFromSeed(digest[:]).Public().(ed25519.PublicKey)
	return fmt.Sprintf(`{"keys":[{"kty":"OKP","crv":"Ed25519","kid":"k","x":%q}]}`, base64.RawURLEncoding.EncodeToString(public))
}

const outsideRules = `rulebook r { unmatched grant  floor none  directory "people.csv" }
attribute user.deck word
user ann { groups crew }
user bob { }
user cil { groups bosses }
group crew { }
group bosses { }
app roster { url "https://roster.skerry.example/*"  tags open }
app ledger { }
network quay trusted from "quay.txt"
method shore-code { kind possession  amr shore }
scopes s { "x.*" }
policy asked { who everyone  to app roster  doing consent  case "all" when scopes within s => review by group bosses  otherwise => block }
issuer desk { url "https://desk.skerry.example"  keys "desk.json"  audience "brisk"  audience "ledger" for app ledger  cookie "__Host-s"  who group crew  sign-on "https://desk.skerry.example/sign-on"  sessions ashore }
caller gate { token "sha256:3f79bb7b435b05321651daefd374cdc681dc06faa65e374e38337b88ca046dea" until 2027-01-01  certificate "sha256:1f79bb7b435b05321651daefd374cdc681dc06faa65e374e38337b88ca046dea"  may decide  for app roster  from network quay  sessions afloat }
signals fleet { from "https://fleet.skerry.example"  keys "fleet.json"  audience "brisk"  accept session-revoked, account-disabled  poll "https://fleet.skerry.example/poll" token-in FLEET_TOKEN }
alert relays { when network in quay  on block  who group crew  to app roster  at most 1 per user every 4h  tell "mailto:desk@skerry.example" }
`

var outsideFiles = map[string]string{"rulebook.warden": outsideRules, "desk.json": keyOf("desk"), "fleet.json": keyOf("fleet"), "quay.txt": "192.0.2.0/26\n", "people.csv": "id,groups\ndag,crew\n"}

func openFiles(t *testing.T, files map[string]string) *briskwarden.Rulebook {
	t.Helper()
	all := fstest.MapFS{}
	for name, text := range files {
		all[name] = &fstest.MapFile{Data: []byte(text)}
	}
	rules, err := briskwarden.OpenFS(all, briskwarden.WithClock(func() time.Time { return time.Date(2026, 11, 23, 7, 0, 0, 0, time.UTC) }))
	require.NoError(t, err)
	return rules
}

// outsides are changes of what is outside decisions: of which field of the resolved rulebook, in which file, and what then is said.
var outsides = []struct{ field, file, old, new, says string }{
	{"Issuer.Keys", "desk.json", keyOf("desk"), keyOf("somebody"), "issuer desk"},
	{"Keys.Keys", "fleet.json", keyOf("fleet"), keyOf("somebody"), "signals fleet"},
	{"Keys.URL", "rulebook.warden", `"desk.json"`, `"https://elsewhere.example/keys"`, "believes the keys at https://elsewhere.example/keys"},
	{"Issuer.URL", "rulebook.warden", `url "https://desk.skerry.example"`, `url "https://disk.skerry.example"`, "is named in tokens as"},
	{"Issuer.Audience", "rulebook.warden", `audience "brisk"  audience`, `audience "any"  audience`, `opens by tokens for "any" roster`},
	{"Issuer.Audiences", "rulebook.warden", `for app ledger`, `for app ledger, app roster`, `opens by tokens for "ledger" roster`},
	{"Audience.Name", "rulebook.warden", `"ledger" for`, `"other" for`, `opens by tokens for "other" ledger`},
	{"Audience.For", "rulebook.warden", `for app ledger`, `for app roster`, `opens by tokens for "brisk" ledger`},
	{"Issuer.Cookie", "rulebook.warden", `"__Host-s"`, `"s"`, "is believed in the cookie s"},
	{"Issuer.Who", "rulebook.warden", `who group crew  sign-on`, `who people  sign-on`, "speaks for bob, cil, people"},
	{"Person.Groups", "people.csv", "dag,crew", "dag,crew\neli,crew", "speaks for eli"},
	{"Person.Groups", "rulebook.warden", "user bob { }", "user bob { groups bosses }", "has among those who review consents bob"},
	{"Issuer.SignOn", "rulebook.warden", `example/sign-on"`, `example/elsewhere"`, "has people sign on at"},
	{"Issuer.Sessions", "rulebook.warden", "sessions ashore", "sessions afloat", "shares sessions with caller gate"},
	{"Caller.Sessions", "rulebook.warden", "sessions afloat", "sessions ashore", "shares sessions with issuer desk"},
	{"Caller.Tokens", "rulebook.warden", `"sha256:3f79bb7b`, `"sha256:4f79bb7b`, "proves itself by the token sha256:4f79bb7b"},
	{"Token.Digest", "rulebook.warden", `token "sha256:3f79bb7b435b05321651daefd374cdc681dc06faa65e374e38337b88ca046dea" until 2027-01-01  `, ``, "no longer proves itself by both a token and a certificate"},
	{"Token.Until", "rulebook.warden", "until 2027-01-01", "until 2027-02-01", "is longer believed by the token"},
	{"Caller.Certificates", "rulebook.warden", `certificate "sha256:1f79bb7b435b05321651daefd374cdc681dc06faa65e374e38337b88ca046dea"`, ``, "no longer proves itself by both"},
	{"Caller.May", "rulebook.warden", "may decide", "may decide, operate", "may operate"},
	{"Caller.For", "rulebook.warden", "for app roster  from", "from", "is for the app ledger"},
	{"Caller.From", "rulebook.warden", "from network quay", "", "may ask from anywhere"},
	{"Networks.Table", "quay.txt", "192.0.2.0/26", "192.0.2.0/25", "may ask from 192.0.2.64/26"},
	{"Signals.From", "rulebook.warden", `from "https://fleet.skerry.example"`, `from "https://fleet.example"`, "is named in signals as https://fleet.example"},
	{"Signals.Keys", "fleet.json", keyOf("fleet"), keyOf("somebody"), "signals fleet"},
	{"Signals.Audience", "rulebook.warden", `audience "brisk"  accept`, `audience "risk"  accept`, "hears what is for risk"},
	{"Signals.Accept", "rulebook.warden", "session-revoked, account-disabled", "account-disabled", "no longer accepts session-revoked"},
	{"Signals.Poll", "rulebook.warden", `poll "https://fleet.skerry.example/poll" token-in FLEET_TOKEN`, ``, "no longer is asked at"},
	{"Signals.TokenIn", "rulebook.warden", "FLEET_TOKEN", "FLEET", "is asked at https://fleet.skerry.example/poll with FLEET"},
	{"Method.AMR", "rulebook.warden", "amr shore", "amr otp", "is shown in tokens by otp"},
	{"Case.Group", "rulebook.warden", "review by group bosses", "review by group crew", "group crew"},
	{"Alert.When", "rulebook.warden", "when network in quay  on", "when network not in quay  on", "alert relays"},
	{"Alert.On", "rulebook.warden", "on block", "on grant", "alert relays"},
	{"Alert.Who", "rulebook.warden", "who group crew  to", "who user ann  to", "no longer tells of dag"},
	{"Alert.To", "rulebook.warden", "to app roster  at", "to app ledger  at", "no longer tells of the app roster"},
	{"Alert.Most", "rulebook.warden", "at most 1 per", "at most 2 per", "alert relays"},
	{"Alert.Per", "rulebook.warden", "per user every", "per app every", "alert relays"},
	{"Alert.Every", "rulebook.warden", "every 4h", "every 5h", "alert relays"},
	{"Alert.Tell", "rulebook.warden", `"mailto:desk@skerry.example"`, `"mailto:nobody@skerry.example"`, "alert relays"},
	{"App.Decl", "rulebook.warden", `https://roster.skerry.example/*`, `https://roster.skerry.example/crew/*`, "app roster"},
}

// harmless are changes that let nobody in.
var harmless = []struct{ file, old, new string }{
	{"rulebook.warden", "until 2027-01-01", "until 2026-12-31"}, {"quay.txt", "192.0.2.0/26", "192.0.2.0/27\n192.0.2.32/27"},
	{"quay.txt", "192.0.2.0/26", "192.0.2.0/27"}, {"rulebook.warden", "user bob { }", "user bob { }  # as ever"}, {"rulebook.warden", "alert relays {", `alert relays { about "Who comes from there" `},
	{"rulebook.warden", "policy asked", "policy asked-for"},
}

// TestWhatIsReached changes one thing at a time that no outcome shows, often without changing the words of what reaches it.
func TestWhatIsReached(t *testing.T) {
	before := openFiles(t, outsideFiles)
	look := func(file, old, new string) *review.Review {
		require.Contains(t, outsideFiles[file], old)
		files := maps.Clone(outsideFiles)
		files[file] = strings.Replace(files[file], old, new, 1)
		r, err := review.Change(t.Context(), before, openFiles(t, files), review.Options{})
		require.NoError(t, err)
		return r
	}
	for _, c := range outsides {
		r := look(c.file, c.old, c.new)
		require.NotEmpty(t, r.Outside, c.field)
		require.True(t, r.Loosens(), c.field)
		require.Contains(t, strings.ReplaceAll(r.Markdown(""), "\n", " "), c.says, c.field)
	}
	for _, c := range harmless {
		r := look(c.file, c.old, c.new)
		require.Empty(t, r.Outside, c.new)
	}
}

// How the fields of the resolved rulebook are compared: those of outside in the test above, those of decision by [prove.Compare], for every
// possible sign-on; the others let nobody in, for the reason that stands here.
var fields = map[string]string{
	"decision": `Rulebook.Zone Rulebook.Unmatched Rulebook.Floor Rulebook.BreakGlass Rulebook.Facts Rulebook.Methods Rulebook.Within Rulebook.Groups Rulebook.People Rulebook.Apps
		Rulebook.Tags Rulebook.Actions Rulebook.Networks Rulebook.Countries Rulebook.Atlas Rulebook.Devices Rulebook.Schedules Rulebook.Baselines Rulebook.Risk Rulebook.ScopeSets
		Rulebook.Policies Rulebook.Waivers Networks.Trusted Networks.Anonymous Person.ID Person.Type Person.Risk Person.Methods Person.Joined Person.JoinedDay Person.Active
		Person.BreakGlass Person.Attributes App.Name App.Tags Policy.Who Policy.To Policy.Doing Policy.Stages Policy.Cases Policy.Session Session.Lasts Session.Idle
		Case.When Case.Kind Case.Demand Waiver.Who Waiver.To Waiver.When Waiver.Lift Waiver.Until Who.Items Who.Except To.Items To.Except PersonSelector.Kind PersonSelector.Group
		PersonSelector.Name AppSelector.Kind AppSelector.Tag AppSelector.Name StageLine.Stage StageLine.For StageLine.From Method.Kind Method.Hardware
		Method.PhishingResistant Method.VerifiesUser`,
	"outside, by those they hold":                                       "Rulebook.Callers Rulebook.Issuers Rulebook.Signals Rulebook.Alerts Rulebook.Addresses",
	"it is a name, by which others are compared, or an order":           "Rulebook.Name Networks.Names Policy.Name Waiver.Name Issuer.Name Caller.Name Signals.Name Alert.Name Alert.ID Method.ID Method.Name Case.Number Case.Label",
	"all pasts are possible in what is compared":                        "Rulebook.Past Rulebook.PastLogs",
	"it is told to people, and decides nothing":                         "Rulebook.Texts Rulebook.Digests Rulebook.Logged Case.Message Case.Word Case.Text Session.LastsText Session.IdleText",
	"it asks, and decides nothing; its answers are compared":            "Rulebook.Expects Rulebook.Promises",
	"it tells of the text, whose resolved form is compared":             "Rulebook.Digest Rulebook.GroupPlaces Rulebook.Comparisons Rulebook.Diagnostics Rulebook.Loaded Rulebook.Files Person.Origin Policy.Decl Waiver.Decl Issuer.Decl Caller.Decl Signals.Decl Alert.Decl Alert.Text Case.Pos",
	"it says that a program states people too, and is not of the rules": "Rulebook.Open",
}

// TestEveryFieldIsCompared fails where the resolved rulebook gets a field of which nobody has said how it is compared.
func TestEveryFieldIsCompared(t *testing.T) {
	said := map[string]bool{}
	for _, list := range fields {
		for _, name := range strings.Fields(list) {
			said[name] = true
		}
	}
	for _, c := range outsides {
		said[c.field] = true
	}
	there := map[string]bool{}
	var visit func(reflect.Type)
	seen := map[reflect.Type]bool{}
	visit = func(of reflect.Type) {
		for slices.Contains([]reflect.Kind{reflect.Pointer, reflect.Slice, reflect.Map, reflect.Array}, of.Kind()) {
			of = of.Elem()
		}
		if of.Kind() != reflect.Struct || seen[of] || !strings.HasSuffix(of.PkgPath(), "internal/rulebook") && of.Name() != "Method" || strings.HasSuffix(of.PkgPath(), "ast") {
			return
		}
		seen[of] = true
		for i := range of.NumField() {
			if f := of.Field(i); f.IsExported() && !slices.Contains(apart, of.Name()) {
				there[of.Name()+"."+f.Name] = true
				visit(f.Type)
			}
		}
	}
	visit(reflect.TypeFor[rulebook.Rulebook]())
	for name := range there {
		require.True(t, said[name], "how is %s compared?", name)
	}
}

// apart are types that decide nothing themselves.
var apart = []string{"Loaded", "Tally", "File", "LoggedWords", "Comparison", "Promise", "Expect", "Want", "Origin", "WeekDigest", "Receiver", "Check", "Baseline", "ScopeSet"}
