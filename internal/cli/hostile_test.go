package cli_test

import (
	"bytes"
	"encoding/base64"
	"encoding/csv"
	"encoding/json"
	"encoding/xml"
	"io"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"unicode"
	"unicode/utf8"

	"github.com/stretchr/testify/require"

	"briskwarden.example/briskwarden/internal/cli"
)

// evil is a name that breaks the line, steers a terminal, turns text around, is a formula, is
// markup, and hides what it is.
const evil = "=x\nFORGED\r\x1b[31m\x1b]0;t\x07\u202e\u2066\u200b\u2028<b>&\"'`${1}\U000e0041\u009b31m"

func goQuoted(name string) string { return strconv.Quote(name) }

func inJSON(name string) string {
	text, _ := json.Marshal(name)
	return string(text)
}

func base64Of(text string) string { return base64.StdEncoding.EncodeToString([]byte(text)) }

// hostileRulebook has evil for every name that anybody can give.
func hostileRulebook(t *testing.T) string {
	dir := filepath.Join(t.TempDir(), "rules\x1b[31m\u202e")
	write := func(name, text string) {
		name = filepath.Join(dir, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(name), 0o777))
		require.NoError(t, os.WriteFile(name, []byte(strings.ReplaceAll(text, "EVIL", strings.Trim(goQuoted(evil), `"`))), 0o666))
	}
	write("rulebook.warden", `rulebook "EVIL" {
  unmatched grant
  floor none
  break-glass user "EVIL root" => password
  directory "people.jsonl", "people.csv", "people.ldif"
  devices "fleet.jsonl"
  geo "geo\u202e\nFORGED.csv"
  history "log.jsonl"
}
attribute user.mark word
user "EVIL root" { methods password }
user "EVIL" { groups "EVIL", rev  methods password attr mark "EVIL" }
user "EVIL two" { methods password }
group "EVIL group" { user "EVIL", user "EVIL root" }
group rev { user "EVIL two" }
app "EVIL" { about "EVIL"  tags "EVIL"  url "https://x.example/*" }
action "EVIL" { about "EVIL" }
network "EVIL" trusted { 192.0.2.0/25 }
countries "EVIL" { NO }
schedule "EVIL" in "Europe/Oslo" { mon-sun 06:00-20:00 except calendar "c.ics" }
method "EVIL" { kind possession }
demand "EVIL demand" { "EVIL" }
baseline "EVIL" { check "EVIL" device.encrypted }
scopes "EVIL" weight 40 { "data.*" }
risk model { add 45 when new.country add 30 when user.mark is "EVIL" band calm to 24, severe to 100 }
policy "EVIL" {
  about "EVIL" owner "EVIL"
  who everyone  to everything
  case "EVIL" when network in "EVIL" and time in "EVIL" and country in "EVIL" => block "EVIL"
  case "EVIL 2" when user.mark is "EVIL" and risk.band is severe => step-up "EVIL demand"
  otherwise => step-up device meets "EVIL" and ("EVIL demand" or password)
}
policy "EVIL watch" { who group "EVIL" to app "EVIL" stage watch case "EVIL" when device.id is "EVIL" => block "EVIL" otherwise => step-up enrol passkey }
policy "EVIL consent" { who everyone to everything doing consent otherwise => review by group rev }
waiver "EVIL" { because "EVIL" owner "EVIL" who user "EVIL two" to app "EVIL" lifts "EVIL" until 2027-12-31 }
expect "EVIL" { user "EVIL" app "EVIL" ip 192.0.2.1 at 2026-11-23T08:15 => grant }
digest "EVIL" { about "EVIL" owner "EVIL" every mon at 07:00 tell "mailto:desk@x.example" }
alert "EVIL" { about "EVIL" owner "EVIL" when user.mark is "EVIL" or device.id is "EVIL" or network in "EVIL" on block, grant who user "EVIL" to app "EVIL" at most 1 per user every 4h tell "https://x.example/x", "mailto:desk@x.example" }
promise "EVIL" { who user "EVIL" to app "EVIL" doing sign-on, "EVIL" never grant without "EVIL demand" }
promise "EVIL locked" { who everyone to everything when user.mark is "EVIL" or time in "EVIL" never block }
expect "EVIL holds" { user "EVIL" app "EVIL" ip 192.0.2.1 at 2026-11-23T12:00 => block }
`)
	id := strings.Trim(inJSON(evil), `"`)
	write("people.jsonl", `{"id":"`+id+`","userName":"`+id+` scim","groups":[{"value":"`+id+` g","display":"`+id+` shown"}]}`+"\n"+
		`{"schemas":["urn:ietf:params:scim:schemas:core:2.0:Group"],"id":"`+id+` h","displayName":"`+id+` h","members":[{"value":"`+id+` nobody","display":"`+id+`"}]}`+"\n")
	write("people.csv", "id,groups,\"shoe\u202e\x1b\"\nann,\"deck\nFORGED\x1bx\",\"4\x1b\"\n")
	write("people.ldif", "dn: cn=g,dc=x\nobjectClass: groupOfNames\ncn:: "+base64Of(evil)+"\nmember:: "+base64Of("cn=no\x1b\u202e\nFORGED,dc=x")+"\n")
	write("fleet.jsonl", `{"id":"`+id+`","owner":"`+id+` gone","os":"`+id+`","encrypted":false,"`+id+` field":1}`+"\n")
	write("geo\u202e\nFORGED.csv", "198.51.100.0/24,NO\n")
	write("c.ics", "BEGIN:VCALENDAR\nBEGIN:VEVENT\nUID:\u202ee\nSUMMARY:x\\nFORGED\u202e\nDTSTART:20261123T070000Z\nDURATION:PT4H\nEND:VEVENT\nEND:VCALENDAR\n")
	line := func(user, app, at, more string) string {
		return `{"subject":{"id":"` + user + `"},"resource":{"id":"` + app + `"},"context":{"id":"` + id + at + `","time":"2026-11-23T` + at + `Z","ip":"192.0.2.9","device":{"id":"` + id + `","form":"` + id + `"}` + more + `}}` + "\n"
	}
	write("part.json", "{}")
	write("log.jsonl", line(id, id, "08:00:00", `,"outcome":"grant"`)+line(id+" two", id, "09:00:00", `,"outcome":"block"`)+line(id+" x", id+" x", "12:00:00", "")+
		line(id, id, "13:00:00", `,"consent":{"client":"`+id+`","name":"`+id+`","publisher":"`+id+`","scopes":["data.read"]},"presented":["`+id+` m"]`)+
		strings.Replace(line(id, id, "14:00:00", ""), `"resource"`, `"action":{"name":"consent"},"resource"`, 1))
	write("clients.json", `{"client_id":"`+id+`","client_name":"`+id+`","publisher":"`+id+`","client_uri":"`+id+`","contacts":["`+id+`"],"scope":"`+id+`","software_id":"`+id+`"}`)
	write("past.csv", "user,client,app,scopes,group,because\n\"a\nFORGED\x1b\",\"c\u202eFORGED\",\""+strings.ReplaceAll(evil, `"`, `""`)+"\",data.read,\"g\x1b\",\"b\x1b\nFORGED\"\n")
	return dir
}

// hostileRuns are calls of every command, in a folder of that rulebook.
var hostileRuns = map[string][][]string{
	"brisk check": {{}, {"--json"}, {"--sarif", "OUT/a.sarif"}, {"--exact"}, {"--exact", "--json"}},
	"brisk fmt":   {{"--diff"}, {"--list"}},
	"brisk decide": {{"user " + goQuoted(evil) + " app " + goQuoted(evil) + " ip 192.0.2.1 at 2026-11-23T12:00"}, {"user " + goQuoted(evil) + " app " + goQuoted(evil) + " at 2026-11-23T12:00"},
		{"user", evil + "x", "app", evil}, {"user", evil, "frobnicate", evil}, {"--requests", "log.jsonl"}, {"--requests", "log.jsonl", "--json"}, {"--request", evil}},
	"brisk expect":  {{}, {evil}, {"--json"}, {"--junit", "OUT/a.xml"}, {"--from", "log.jsonl"}},
	"brisk replay":  {{"log.jsonl"}, {"log.jsonl", "--json"}, {"log.jsonl", "--report", "OUT/r.html", "--charts", "OUT/r", "--out", "OUT/r.jsonl"}, {evil}, {"log.jsonl", "--user", evil + " zz"}, {"log.jsonl", "--part", evil}, {"log.jsonl", "--part", "1/1"}},
	"brisk prove":   {{}, {"--json"}, {"--propose"}, {"--junit", "OUT/p.xml", "--sarif", "OUT/p.sarif"}, {evil}, {"--that", "who user " + goQuoted(evil) + " to app " + goQuoted(evil) + " never grant"}, {"--that", evil}},
	"brisk survey":  {{}, {"--json", "--log", "log.jsonl"}, {"--report", "OUT/s.html", "--charts", "OUT/s"}, {"--log", evil}},
	"brisk compare": {{".", "."}, {".", ".", "--who", "user " + goQuoted(evil), "--to", evil, "--json"}, {".", ".", "--log", "log.jsonl", "--report", "OUT/c.html", "--charts", "OUT/c"}, {evil, evil, "--log", evil}},
	"brisk ready":   {{"--by", "2027-12-31"}, {"--csv", "--by", "2027-12-31"}, {"--json"}, {"--report", "OUT/y.html", "--charts", "OUT/y"}},
	"brisk reach": {{"user", evil}, {"app", evil}, {"app", evil, "--columns", evil}, {"--all"}, {"--all", "--charts", "OUT/m"}, {"user", evil + "?"},
		{"user", evil, "--json"}},
	"brisk merge":  {{"part.json"}, {"part.json", "--json"}, {evil}, {"log.jsonl"}},
	"brisk review": {{"."}, {".", "--json"}, {"OUT/past", "--log", "log.jsonl", "--markdown", "OUT/r.md"}, {evil}, {".", "--accept", evil}},
	"brisk alerts": {{"log.jsonl"}, {"log.jsonl", "--json"}, {"log.jsonl", "--alert", evil}, {"log.jsonl", "--alert", evil + "?"}, {"log.jsonl", "--out", "OUT/m.jsonl"}},
	"brisk digest": {{"log.jsonl", "--to", "2026-11-23"}, {"log.jsonl", "--to", "2026-11-23", "--json"}, {"log.jsonl", "--html", "OUT/d.html", "--to", "2026-11-23"}, {"log.jsonl", "--from", evil}, {evil}, {"log.jsonl", "--state", "consent.ledger"}},
	"brisk about": {{"user", evil, "--log", "log.jsonl"}, {"user", evil, "--log", "log.jsonl", "--json"}, {"app", evil, "--log", "log.jsonl"}, {"group", evil}, {"network", evil, "--log", "log.jsonl"}, {"method", evil}, {"device", evil, "--log", "log.jsonl"},
		{"country", evil}, {"client", evil}, {"user", evil + "?"}, {evil, evil}, {"user", evil, "--state", "consent.ledger"}, {"client", evil, "--log", "log.jsonl"}},
	"brisk alerts failed":    {{"--state", "consent.ledger"}, {"--state", "consent.ledger", "--json"}, {"--state", evil}},
	"brisk risk raise":       {{evil, "--by", evil + " two", "--because", evil, "--state", "consent.ledger"}, {evil + "?", "--by", evil, "--because", "x", "--state", "consent.ledger"}},
	"brisk risk settle":      {{evil, "--by", evil + " two", "--because", evil, "--state", "consent.ledger"}},
	"brisk risk journal":     {{"--state", "consent.ledger"}, {"--state", "consent.ledger", "--json"}, {"--state", evil}},
	"brisk risk":             {{"--state", "consent.ledger"}, {"--state", "consent.ledger", "--json"}, {"log.jsonl"}, {"log.jsonl", "--json"}, {"log.jsonl", "--band", evil + "?"}},
	"brisk consent ask":      {{"user " + goQuoted(evil) + " app " + goQuoted(evil) + " client " + goQuoted(evil) + " publisher " + goQuoted(evil) + " scopes data.read, other"}, {"--request", "log.jsonl"}},
	"brisk consent waiting":  {{}, {"--json"}},
	"brisk consent show":     {{"c-1"}, {evil}, {evil + "?"}},
	"brisk consent settle":   {{"c-1", "grant", "--by", evil + " two", "--because", evil}, {"c-1", "grant", "--by", evil, "--because", evil}},
	"brisk consent withdraw": {{"c-1", "--by", evil, "--because", evil}, {evil, "--by", evil, "--because", evil}},
	"brisk consent clients":  {{}, {"--json"}},
	"brisk consent ban":      {{evil, "--by", evil + " two", "--because", evil}},
	"brisk consent unban":    {{evil, "--by", evil + " two", "--because", evil}},
	"brisk consent audit":    {{}, {"--json"}},
	"brisk consent journal":  {{}, {"--json"}, {"--verify"}},
	"brisk consent import":   {{"clients.json"}, {"past.csv"}, {evil}},
	"brisk init":             {{"OUT/" + "new\x1b[31m"}},
	"brisk demo":             {{evil, evil}},
	"brisk serve":            {{"--open", "--listen", "127.0.0.1:0", "--operations", "127.0.0.1:0", "--state", "a.state"}, {"--state", evil + "/" + evil}, {"--listen", evil}, {"--open", "--signons", evil + "\x00"}},
	"brisk token":            {{}, {"--json"}},
}

// TestNoNameReachesAnythingRaw tries every command with evil in every place.
func TestNoNameReachesAnythingRaw(t *testing.T) {
	dir := hostileRulebook(t)
	t.Chdir(dir)
	out := t.TempDir()
	require.NoError(t, os.Mkdir(filepath.Join(out, "past"), 0o700))
	require.NoError(t, os.WriteFile(filepath.Join(out, "past", "rulebook.warden"), []byte("rulebook past { }\n"), 0o600))
	for _, command := range cli.CommandPaths() {
		calls, there := hostileRuns[command]
		require.True(t, there, "%s is not tried with hostile names", command)
		for _, call := range calls {
			args := strings.Fields(command)[1:]
			for _, a := range call {
				args = append(args, strings.ReplaceAll(a, "OUT", out))
			}
			if command != "brisk init" && command != "brisk demo" && command != "brisk serve" {
				args = append(args, "--at", "2026-11-23T18:00")
			}
			var stdout, stderr bytes.Buffer
			status := cli.Main(args, cli.Streams{In: strings.NewReader(""), Out: &stdout, Err: &stderr, Stop: stopped()})
			require.LessOrEqual(t, status, 2, "%q", args)
			text := stdout.String()
			for _, said := range []string{text, stderr.String()} {
				requireHarmless(t, said, "%q", args)
			}
			switch {
			case strings.Contains(strings.Join(args, " "), "--json") && status != 2:
				for line := range strings.Lines(text) {
					require.True(t, json.Valid([]byte(line)), "%q\n%s", args, line)
				}
			case strings.Contains(strings.Join(args, " "), "--csv"):
				rows, err := csv.NewReader(strings.NewReader(text)).ReadAll()
				require.NoError(t, err)
				require.Greater(t, len(rows), 2)
				for _, row := range rows {
					for _, cell := range row {
						require.False(t, strings.ContainsAny(cell[:min(1, len(cell))], "=+-@"), "%q", cell)
					}
				}
			}
		}
	}
	files := 0
	require.NoError(t, filepath.WalkDir(out, func(name string, _ os.DirEntry, _ error) error {
		text, err := os.ReadFile(name)
		switch ext := filepath.Ext(name); {
		case err != nil || ext == ".png" || ext == ".jsonl" || strings.Contains(name, "new\x1b"):
			return nil
		case ext == ".svg" || ext == ".xml":
			d := xml.NewDecoder(bytes.NewReader(text))
			for err == nil {
				_, err = d.Token()
			}
			require.ErrorIs(t, err, io.EOF, name)
		case ext == ".sarif":
			require.True(t, json.Valid(text), name)
		}
		files++
		for _, r := range string(text) {
			require.False(t, r != '\n' && r != '\t' && (unicode.IsControl(r) || unicode.Is(unicode.Cf, r)) && filepath.Ext(name) != ".sarif", "%s holds %U", name, r)
		}
		return nil
	}))
	require.Greater(t, files, 12)
}

// requireHarmless holds what came out against what may reach a terminal.
func requireHarmless(t *testing.T, text, format string, args ...any) {
	t.Helper()
	require.True(t, utf8.ValidString(text), append([]any{format}, args...)...)
	for line := range strings.Lines(text) {
		require.False(t, strings.HasPrefix(strings.TrimLeft(line, " \t"), "FORGED"), append([]any{format + "\n" + text}, args...)...)
		for _, r := range strings.TrimSuffix(line, "\n") {
			require.False(t, r != '\t' && (unicode.IsControl(r) || unicode.In(r, unicode.Cf, unicode.Zl, unicode.Zp)), append([]any{format + "\n" + line}, args...)...)
		}
	}
}

// TestBytesThatAreNoText are in files of every kind: JSON stays JSON.
func TestBytesThatAreNoText(t *testing.T) {
	dir := t.TempDir()
	for name, text := range map[string]string{
		"rulebook.warden": "rulebook r { directory \"a.ldif\", \"a.csv\" devices \"d.jsonl\" geo \"g.mmdb\", \"g.csv\" history \"h.jsonl\" }\nschedule s { mon-sun 06:00-20:00 except calendar \"c.ics\" }\nnetwork n from \"n.txt\"\n",
		"a.ldif":          "dn: cn=g,dc=x\nobjectClass: groupOfNames\ncn: g\nmember:: " + base64Of("cn=\xff\x1b,dc=x") + "\nmember: \xff\n",
		"a.csv":           "id,\xff\na,b\n", "d.jsonl": "{\"id\":\"\xff\"}\n", "g.mmdb": "\xab\xcd\xefMaxMind.com\xff\xff\x1b", "g.csv": "\xff,NO\n",
		"h.jsonl": "{\"subject\":{\"id\":\"\xff\x1b\"}}\n", "c.ics": "BEGIN:VCALENDAR\nX:\xff\n", "n.txt": "\xff\n", "b\xff.warden": "policy \"\xff\" {",
	} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o666))
	}
	sarif := filepath.Join(t.TempDir(), "a.sarif")
	for _, args := range [][]string{{"check", "-r", dir}, {"check", "-r", dir, "--json"}, {"check", "-r", dir, "--sarif", sarif}} {
		var stdout, stderr bytes.Buffer
		require.Equal(t, 1, cli.Main(args, cli.Streams{In: strings.NewReader(""), Out: &stdout, Err: &stderr}), "%s", stderr.String())
		requireHarmless(t, stdout.String()+stderr.String(), "%q", args)
		if args[len(args)-1] == "--json" {
			require.True(t, json.Valid(stdout.Bytes()))
		}
	}
	text, err := os.ReadFile(sarif)
	require.NoError(t, err)
	require.True(t, json.Valid(text))
	require.Greater(t, bytes.Count(text, []byte(`"ruleId"`)), 8)
}
