package briskwarden_test

import (
	"context"
	"errors"
	"fmt"
	"math"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/require"

	"briskwarden.example/briskwarden"
	"briskwarden.example/briskwarden/findings"
	"briskwarden.example/briskwarden/signon"
)

const small = `rulebook small { floor none }
user ann { methods password }
app news { }
policy p { who everyone to everything otherwise => OUTCOME }
`

func write(t *testing.T, dir, name, text string) {
	t.Helper()
	path := filepath.Join(dir, filepath.FromSlash(name))
	require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
	require.NoError(t, os.WriteFile(path, []byte(text), 0o644))
}

func TestLiveKeepsTheLastGoodRulebook(t *testing.T) {
	dir := t.TempDir()
	_, err := briskwarden.OpenLive(dir)
	require.Error(t, err, "there is nothing to open yet")
	write(t, dir, "rulebook.warden", strings.ReplaceAll(small, "OUTCOME", "grant"))
	live, err := briskwarden.OpenLive(dir)
	require.NoError(t, err)
	ask := func() signon.Outcome {
		d, err := live.Decide(t.Context(), signon.SignOn{User: "ann", App: "news"})
		require.NoError(t, err)
		return d.Outcome
	}
	require.Equal(t, signon.Grant, ask())
	first := live.Rulebook()

	write(t, dir, "rulebook.warden", strings.ReplaceAll(small, "OUTCOME", "perhaps"))
	var check *briskwarden.CheckError
	require.ErrorAs(t, live.Reload(), &check)
	require.Equal(t, 4, check.Problems[0].Line)
	require.Equal(t, signon.Grant, ask(), "the last good one stays")

	write(t, dir, "rulebook.warden", strings.ReplaceAll(small, "OUTCOME", "block"))
	require.NoError(t, live.Reload())
	require.Equal(t, signon.Block, ask())
	require.NotEqual(t, first.Digest(), live.Rulebook().Digest())
	d, err := first.Decide(t.Context(), signon.SignOn{User: "ann", App: "news"})
	require.NoError(t, err)
	require.Equal(t, signon.Grant, d.Outcome, "a rulebook in hand never changes")
}

func TestConcurrentDecisionsAreThoseOfOne(t *testing.T) {
	dir := t.TempDir()
	write(t, dir, "rulebook.warden", strings.ReplaceAll(small, "OUTCOME", "grant"))
	live, err := briskwarden.OpenLive(dir)
	require.NoError(t, err)
	rules, list := openHarbour(t), sample()
	var want []signon.Decision
	for _, s := range list {
		d, err := rules.Explain(t.Context(), *s)
		require.NoError(t, err)
		want = append(want, d)
	}
	var group sync.WaitGroup
	for worker := range 8 {
		group.Go(func() {
			for i := range 200 {
				n := (i + worker) % len(list)
				d, err := rules.Explain(t.Context(), *list[n])
				if err != nil || d.Outcome != want[n].Outcome || !slices.Equal(d.Demands, want[n].Demands) ||
					!slices.Equal(d.Explanation.Policies, want[n].Explanation.Policies) {
					t.Errorf("sample %d came out differently: %+v", n, d)
					return
				}
				if i%50 == 0 {
					if err := live.Reload(); err != nil {
						t.Error(err)
					}
				}
				if d, err := live.Decide(t.Context(), signon.SignOn{User: "ann", App: "news"}); err != nil || d.Outcome != signon.Grant {
					t.Errorf("%v %v", d, err)
				}
			}
		})
	}
	group.Wait()
}

// staff is a directory outside the rulebook.
type staff map[string]briskwarden.Person

var errDown = errors.New("the directory is down")

func (s staff) Person(_ context.Context, id string) (briskwarden.Person, bool, error) {
	if id == "trouble" {
		return briskwarden.Person{}, false, errDown
	}
	p, found := s[id]
	return p, found, nil
}

func TestPeopleFromOutside(t *testing.T) {
	rules, err := briskwarden.OpenFS(fstest.MapFS{"rulebook.warden": {Data: []byte(`rulebook r { floor none }
attribute user.desk word
attribute user.ends date
user ann { methods password }
group sailors { group deck }
app news { }
policy p { who group sailors, user ann to everything
  case "over" when time after user.ends => block
  case "desk" when user.desk is north and user.risk at most low => grant
  otherwise => step-up password }
`)}}, briskwarden.WithPeople(staff{
		"odd":   {Groups: []string{"deck", "unheard-of"}, Methods: []string{"password", "tap"}, Attributes: map[string]any{"desk": "north", "ends": "2026-12-31", "other": 3}},
		"liv":   {Groups: []string{"sailors"}, Risk: "high", Methods: []string{"password"}, Attributes: map[string]any{"desk": "north", "ends": "2026-12-31"}},
		"past":  {Groups: []string{"sailors"}, Attributes: map[string]any{"ends": "2026-11-22"}},
		"gone":  {Groups: []string{"deck"}, Disabled: true},
		"ann":   {Groups: []string{"deck"}, Disabled: true},
		"wrong": {Groups: []string{"deck"}, Attributes: map[string]any{"ends": "soon"}},
		"robot": {Type: "android"},
	}), briskwarden.WithClock(func() time.Time { return oracleEpoch }))
	require.NoError(t, err)
	for user, want := range map[string]signon.Outcome{"odd": signon.Grant, "liv": signon.StepUp, "past": signon.Block, "gone": signon.Block,
		"ann": signon.Block, "nobody": signon.Block, "": signon.Block} {
		d, err := rules.Decide(t.Context(), signon.SignOn{User: user, App: "news"})
		require.NoError(t, err, user)
		require.Equal(t, want, d.Outcome, user)
	}
	for _, user := range []string{"trouble", "wrong", "robot"} {
		d, err := rules.Decide(t.Context(), signon.SignOn{User: user, App: "news"})
		require.Error(t, err, user)
		require.Equal(t, signon.Decision{Error: err.Error(), MaxAge: signon.NoMaxAge}, d, "an error comes with nothing but a block")
	}
	_, err = rules.Decide(t.Context(), signon.SignOn{User: "trouble", App: "news"})
	require.ErrorIs(t, err, errDown)
}

// TestDeclaredUsersAreNotLookedUp: a directory outside has no say on a user of the rulebook, an
// emergency account least of all.
func TestDeclaredUsersAreNotLookedUp(t *testing.T) {
	asked := map[string]int{}
	rules, err := briskwarden.OpenFS(fstest.MapFS{"rulebook.warden": {Data: []byte(`rulebook r { floor none  break-glass user root => password  directory "p.csv" }
user ann { methods password }
user root { methods password }
app news { }
policy p { who user ann, user bob to everything otherwise => step-up password }
policy q { who group bad to everything otherwise => block }
group bad { }`)}, "p.csv": {Data: []byte("id,methods\nbob,password\n")}}, briskwarden.WithPeople(peopleFunc(func(_ context.Context, id string) (briskwarden.Person, bool, error) {
		asked[id]++
		return briskwarden.Person{ID: id, Groups: []string{"bad"}, Disabled: true}, true, nil
	})))
	require.NoError(t, err)
	for _, user := range []string{"ann", "bob", "root"} {
		d, err := rules.Decide(t.Context(), signon.SignOn{User: user, App: "news", Presented: []string{"password"}})
		require.NoError(t, err)
		require.Equal(t, signon.Grant, d.Outcome, user)
	}
	require.Empty(t, asked)
	d, err := rules.Decide(t.Context(), signon.SignOn{User: "eve", App: "news", Presented: []string{"password"}})
	require.NoError(t, err)
	require.Equal(t, signon.Block, d.Outcome)
	require.Equal(t, map[string]int{"eve": 1}, asked)
}

// TestInventoryAndSignOn: whose word stands for each field, where both state it or one does.
func TestInventoryAndSignOn(t *testing.T) {
	for field, inventoryWins := range map[string]bool{"managed": true, "compliant": true, "registered": true, "encrypted": false, "firewall": false, "screenlock": false, "jailbroken": false} {
		rules, err := briskwarden.OpenFS(fstest.MapFS{"rulebook.warden": {Data: []byte("rulebook r { unmatched block floor none devices \"d.jsonl\" }\nuser ann { methods pin }\napp news { }\n" +
			"policy p { who everyone to everything case \"yes\" when device." + field + " => grant case \"no\" when device." + field + " is no => step-up pin otherwise => block }")},
			"d.jsonl": {Data: []byte(`{"id":"yes","` + field + `":true}` + "\n" + `{"id":"no","` + field + `":false}` + "\n" + `{"id":"silent"}` + "\n")}})
		require.NoError(t, err)
		word := map[bool]signon.Outcome{true: signon.Grant, false: signon.StepUp}
		silent := signon.Block // unknown
		if inventoryWins {
			silent = signon.StepUp // no
		}
		for _, c := range []struct {
			inventory string
			stated    signon.YesNo
			want      signon.Outcome
		}{
			{"yes", signon.No, word[inventoryWins]}, {"no", signon.Yes, word[!inventoryWins]}, {"yes", signon.Unknown, signon.Grant}, {"no", signon.Unknown, signon.StepUp},
			{"silent", signon.Yes, signon.Grant}, {"silent", signon.No, signon.StepUp}, {"silent", signon.Unknown, silent}, {"unheard", signon.Unknown, silent},
		} {
			so := signon.SignOn{User: "ann", App: "news", Device: &signon.Device{ID: c.inventory}}
			flags := map[string]*signon.YesNo{"managed": &so.Device.Managed, "compliant": &so.Device.Compliant, "registered": &so.Device.Registered, "encrypted": &so.Device.Encrypted,
				"firewall": &so.Device.Firewall, "screenlock": &so.Device.ScreenLock, "jailbroken": &so.Device.Jailbroken}
			*flags[field] = c.stated
			d, err := rules.Decide(t.Context(), so)
			require.NoError(t, err)
			require.Equal(t, c.want, d.Outcome, "%s: the inventory says %s, the sign-on %d", field, c.inventory, c.stated)
		}
	}
}

// TestChallenges: acr_values is what every listed set reaches, and max_age the shortest of the ages.
func TestChallenges(t *testing.T) {
	for demand, want := range map[string]string{
		"passkey or password":                              "aal1 -1",
		"password or passkey":                              "aal1 -1",
		"passkey or security-key and password":             "aal3 -1",
		"(passkey or security-key and password) every 12h": "aal3 43200",
		"passkey every 12h and app-code every 1h":          "aal3 3600",
		"app-code every 1h and passkey every 12h":          "aal3 3600",
		"app-code every time and passkey every 12h":        "aal3 0",
		"password and app-code":                            "aal2 -1",
		"password and app-code or password every 2h":       "aal1 7200",
		"change-password every 1h and passkey every 2h":    "aal3 3600",
		"aal2 every 30m":                                   "aal2 1800",
	} {
		rules := open(t, "rulebook r { floor none }\nuser ann { methods password, passkey, app-code, security-key }\napp news { }\npolicy p { who everyone to everything otherwise => step-up "+demand+" }")
		d, err := rules.Decide(t.Context(), signon.SignOn{User: "ann", App: "news", Time: oracleEpoch})
		require.NoError(t, err)
		require.Equal(t, signon.StepUp, d.Outcome)
		require.Equal(t, want, fmt.Sprint(d.ACR, " ", d.MaxAge), demand)
	}
	for _, ages := range [][2]string{{"every 1h", "every 2h"}, {"every 2h", "every 1h"}, {"every session", "every 1h"}, {"every 1h", "every session"}} {
		d, err := open(t, `rulebook r { floor none }
user ann { methods password, passkey }
app news { }
policy a { who everyone to everything otherwise => step-up password `+ages[0]+` }
policy b { who everyone to everything otherwise => step-up passkey `+ages[1]+` }`).Decide(t.Context(), signon.SignOn{User: "ann", App: "news", Time: oracleEpoch})
		require.NoError(t, err)
		require.EqualValues(t, 3600, d.MaxAge, ages)
	}
}

func TestStatedAttributesAreCheckedAndLimited(t *testing.T) {
	rules := open(t, `rulebook r { floor none }
attribute user.mode word from request
attribute user.desk word
attribute device.patched yes-no from request
attribute device.owner-team word
user ann { attr desk south }
app news { }
policy p { who everyone to everything
  case "mode" when user.mode is ashore => block
  case "desk" when user.desk is north => block
  case "team" when device.owner-team is it => block
  case "patch" when device.patched => grant
  otherwise => step-up password }
`)
	s := signon.SignOn{User: "ann", App: "news", Properties: map[string]any{"mode": "afloat", "desk": "north"},
		Device: &signon.Device{Attributes: map[string]any{"patched": true, "owner-team": "it", "unheard": []any{}}}}
	d, err := rules.Explain(t.Context(), s)
	require.NoError(t, err)
	require.Equal(t, signon.Block, d.Outcome, "the owner's team is unknown: a sign-on may not state it")
	require.Equal(t, "team", d.Explanation.Deciding[0].Case)
	require.False(t, d.Explanation.Deciding[0].Sure)
	for field, wrong := range map[string]signon.SignOn{
		"subject.properties.mode": {User: "ann", App: "news", Properties: map[string]any{"mode": 3.0}},
		"context.device.patched":  {User: "ann", App: "news", Device: &signon.Device{Attributes: map[string]any{"patched": "yes"}}},
	} {
		d, err := rules.Decide(t.Context(), wrong)
		var bad *signon.FieldError
		require.ErrorAs(t, err, &bad)
		require.Equal(t, field, bad.Field)
		require.Equal(t, signon.Block, d.Outcome)
	}
}

// TestNumbersOfAnyKind: a program states a number as whatever it has.
func TestNumbersOfAnyKind(t *testing.T) {
	rules := open(t, `rulebook r { floor none }
attribute user.level number from request
user ann { }
app news { }
policy p { who everyone to everything case "high" when user.level >= 5 => grant otherwise => block }
`)
	for _, level := range []any{7, int64(7), uint8(7), int32(7), float32(7.5), 7.0} {
		d, err := rules.Decide(t.Context(), signon.SignOn{User: "ann", App: "news", Properties: map[string]any{"level": level}})
		require.NoError(t, err)
		require.Equal(t, signon.Grant, d.Outcome, "%T", level)
	}
	for _, level := range []any{float32(math.NaN()), math.Inf(1), "7", true, []any{7}} {
		_, err := rules.Decide(t.Context(), signon.SignOn{User: "ann", App: "news", Properties: map[string]any{"level": level}})
		require.Error(t, err, "%T", level)
	}
}

func TestFilesStayInsideTheFolder(t *testing.T) {
	outside, dir := t.TempDir(), t.TempDir()
	write(t, outside, "list.txt", "192.0.2.0/24\n")
	write(t, outside, "more.warden", "user eve { }\n")
	write(t, dir, "lists/a.txt", "\ufeff192.0.2.0/25  # the port\r\n\r\n198.51.100.1-198.51.100.9\r\n")
	write(t, dir, "lists/b.txt", "2001:db8::/48\n")
	write(t, dir, "places/places.warden", "network port from \"../lists/*.txt\"\n")
	write(t, dir, "rulebook.warden", `rulebook r { floor none }
user ann { } app news { }
policy p { who everyone to everything case "x" when network in port => grant otherwise => block }
expect "in" { user ann app news ip 198.51.100.9 => grant }
`)
	_, err := briskwarden.Open(dir)
	require.NoError(t, err)
	for link, target := range map[string]string{"lists/c.txt": filepath.Join(outside, "list.txt"), "more.warden": filepath.Join(outside, "more.warden")} {
		path := filepath.Join(dir, filepath.FromSlash(link))
		require.NoError(t, os.Symlink(target, path))
		_, err := briskwarden.Open(dir)
		require.Error(t, err, "a link out of the folder is not followed: %s", link)
		require.NoError(t, os.Remove(path))
	}
	for clause, want := range map[string]string{`"/etc/hosts"`: "does not stay inside", `"../../x.txt"`: "leads out", `"nowhere.txt"`: "cannot be read",
		`"none-*.txt"`: "no file is named like", `"../lists"`: "is a folder"} {
		write(t, dir, "places/more.warden", "network more from "+clause+"\n")
		_, err := briskwarden.Open(dir)
		require.ErrorContains(t, err, want)
		require.ErrorContains(t, err, "places/more.warden:1:19", "the place of the clause")
	}
	require.NoError(t, os.Remove(filepath.Join(dir, "places", "more.warden")))
	write(t, dir, "lists/b.txt", "2001:db8::/48\n192.0.2.1/24\nnonsense\n")
	_, err = briskwarden.Open(dir)
	var check *briskwarden.CheckError
	require.ErrorAs(t, err, &check)
	require.Equal(t, []string{"lists/b.txt:2:1", "lists/b.txt:3:1"}, []string{place(check.Problems[0]), place(check.Problems[1])})
}

func TestWarningsAreThoseOfCheck(t *testing.T) {
	rules := open(t, `rulebook r { }
user ann { groups crew, crew }
app news { }
policy p { who type service to everything otherwise => block }
waiver w { because "x" owner "y" who everyone to everything lifts pin until 2020-01-01 }
`)
	var codes []string
	warnings := func(rules *briskwarden.Rulebook) []findings.Finding {
		r, err := findings.Of(t.Context(), rules, findings.Options{})
		require.NoError(t, err)
		require.Zero(t, r.Errors)
		return r.Findings
	}
	for _, w := range warnings(rules) {
		codes = append(codes, w.Code)
	}
	require.Equal(t, []string{"repeated-item", "policy-for-nobody", "waiver-over"}, codes)
	require.Empty(t, warnings(open(t, strings.ReplaceAll(small, "OUTCOME", "grant"))))
	require.Equal(t, "skerry-line", openHarbour(t).Name())
}

func place(p briskwarden.Problem) string {
	at, _, _ := strings.Cut(p.String(), ": ")
	return at
}

// rooms are the packages from the top of the house to its ground: imports point downward.
var rooms = [][]string{
	{"cmd/brisk", "demo/generate"}, {"internal/cli"}, {"service"}, {"internal/memory", "internal/raise"}, {"internal/provision", "internal/outbox", "service/state/statetest"}, {"store/sqlite", "store/postgres"}, {"service/state"},
	{"middleware", "report", "consent/consenttest", "internal/postgrestest"}, {"survey", "review", "digest", "about"}, {"expect", "ready", "reach", "prove", "findings"}, {"replay", "consent"}, {"explain"},
	{"."}, {"internal/bridge"}, {"internal/search"}, {"internal/possible/possibletest"}, {"internal/possible"}, {"internal/engine", "internal/secevent", "internal/alert"}, {"internal/rulebook"},
	{"internal/risk", "internal/posture", "internal/history"}, {"internal/condition"}, {"internal/demand"}, {"internal/fact"},
	{"internal/directory", "internal/place", "internal/schedule", "internal/appurl", "internal/jwt", "internal/texts"}, {"internal/diag", "internal/known", "internal/set", "internal/logic"},
	{"language"}, {"language/printer"}, {"language/parser"}, {"language/ast"}, {"language/scanner"}, {"language/token"}, {"internal/screen", "internal/fastlog"}, {"signon"},
	{"internal/junit", "internal/sarif"}, {"internal/lines", "internal/plainjson", "internal/gather", "internal/allowance", "internal/chain", "internal/revision"}, {"internal/spell"}, {"demo", "demo/mailbox"},
}

func TestImportsPointDownward(t *testing.T) {
	const module = "briskwarden.example/briskwarden"
	floor := map[string]int{}
	for i, room := range rooms {
		for _, p := range room {
			floor[p] = i
		}
	}
	out, err := exec.Command("go", "list", "-f", `{{.ImportPath}}:{{join .Imports " "}}`, "./...").CombinedOutput()
	require.NoError(t, err, "%s", out)
	seen := 0
	for line := range strings.Lines(string(out)) {
		from, imports, _ := strings.Cut(strings.TrimSpace(line), ":")
		name := room(from, module)
		if strings.HasPrefix(name, "examples/") {
			for imported := range strings.FieldsSeq(imports) {
				require.NotContains(t, imported, module+"/internal", "examples use what is public")
			}
			continue
		}
		at, known := floor[name]
		require.True(t, known, "%s has no place in the house: add it to the rooms here and in docs/architecture.md", name)
		seen++
		for imported := range strings.FieldsSeq(imports) {
			if below, ours := floor[room(imported, module)]; ours && strings.HasPrefix(imported, module) {
				require.Greater(t, below, at, "%s imports %s", name, imported)
			}
		}
	}
	require.Equal(t, len(floor), seen, "a room of the list is gone")
}

// TestRootStaysSmall: who embeds the library brings in nothing but what reading a rulebook needs.
func TestRootStaysSmall(t *testing.T) {
	out, err := exec.Command("go", "list", "-deps", "-f", `{{with .Module}}{{.Path}}{{end}}`, ".").CombinedOutput()
	require.NoError(t, err, "%s", out)
	modules := slices.Compact(slices.Sorted(strings.FieldsSeq(string(out))))
	require.Equal(t, []string{"briskwarden.example/briskwarden", "github.com/gaissmai/bart", "github.com/go-jose/go-jose/v4", "github.com/go-json-experiment/json", "github.com/klauspost/compress",
		"github.com/oschwald/maxminddb-golang/v2", "go4.org/netipx", "golang.org/x/sys", "golang.org/x/text"}, modules)
}

func room(path, module string) string {
	if path == module {
		return "."
	}
	return strings.TrimPrefix(path, module+"/")
}
