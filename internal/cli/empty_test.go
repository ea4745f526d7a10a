package cli_test

import (
	"bytes"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"briskwarden.example/briskwarden/internal/cli"
)

// emptyRuns are calls of every command where there is hardly anything: LOG is an empty log, or
// one of one line.
var emptyRuns = map[string][]string{
	"brisk check":            {"", "--json", "--sarif OUT/a.sarif"},
	"brisk fmt":              {"", "--diff", "--list"},
	"brisk decide":           {"user ann app news", "user ann", "--requests LOG", "--requests LOG --json", "--request LOG"},
	"brisk expect":           {"", "--json", "--junit OUT/a.xml", "--from LOG"},
	"brisk replay":           {"LOG", "LOG --json", "LOG --report OUT/r.html --charts OUT/r --out OUT/r.jsonl"},
	"brisk merge":            {"LOG"},
	"brisk prove":            {"", "--json", "--propose", "--junit OUT/p.xml --sarif OUT/p.sarif"},
	"brisk survey":           {"", "--json --log LOG", "--report OUT/s.html --charts OUT/s"},
	"brisk compare":          {". .", ". . --json", ". . --log LOG", ". . --log LOG --json", ". . --log LOG --report OUT/c.html --charts OUT/c"},
	"brisk review":           {".", ". --json", ". --log LOG --markdown OUT/r.md"},
	"brisk ready":            {"", "--json", "--csv", "--by 2027-01-01 --report OUT/y.html --charts OUT/y"},
	"brisk reach":            {"user ann", "app news", "--all", "--all --json", "--all --charts OUT/m"},
	"brisk risk":             {"LOG", "LOG --json", "--state OUT/none", "LOG --state OUT/none"},
	"brisk alerts":           {"LOG", "LOG --json", "LOG --out OUT/m.jsonl"},
	"brisk digest":           {"LOG", "LOG --json", "LOG --html OUT/d.html"},
	"brisk about":            {"user ann", "app news --json --log LOG", "country NO --log LOG", "method password", "client c", "group g"},
	"brisk alerts failed":    {"--state OUT/none"},
	"brisk risk raise":       {"ann --by ann --because x --state OUT/none"},
	"brisk risk settle":      {"ann --by ann --because x --state OUT/none"},
	"brisk risk journal":     {"--state OUT/none"},
	"brisk consent ask":      {"user ann app news client c scopes x", "--request LOG"},
	"brisk consent waiting":  {"", "--json"},
	"brisk consent show":     {"c-1", "c"},
	"brisk consent settle":   {"c-1 grant --by ann --because x"},
	"brisk consent withdraw": {"c-1 --by ann --because x"},
	"brisk consent clients":  {"", "--json"},
	"brisk consent ban":      {"c --by ann --because x"},
	"brisk consent unban":    {"c --by ann --because x"},
	"brisk consent audit":    {"", "--json"},
	"brisk consent journal":  {"", "--json", "--verify"},
	"brisk consent import":   {"LOG"},
	"brisk init":             {"OUT/new"},
	"brisk demo":             {"OUT/x OUT/y"},
	"brisk serve":            {"--open --listen 127.0.0.1:0 --operations 127.0.0.1:0 --state OUT/state --signons OUT/signons"},
	"brisk token":            {"", "--json"},
}

// stopped has a service end as soon as it has begun.
func stopped() <-chan struct{} {
	stop := make(chan struct{})
	close(stop)
	return stop
}

// TestHardlyAnything runs every command on rulebooks and logs that hold nothing, or one thing.
func TestHardlyAnything(t *testing.T) {
	rulebooks := []string{"rulebook r { }\n", "rulebook r { unmatched grant }\nuser ann { }\n", "rulebook r { }\napp news { }\n",
		"rulebook r { }\nuser ann { }\napp news { }\nrisk model { add 5 when new.country band any to 100 }\n",
		"rulebook r { unmatched grant }\nuser ann { }\napp news { }\npolicy p { who everyone to everything stage watch otherwise => block }\n"}
	const line = `{"subject":{"id":"ann"},"resource":{"id":"news"},"context":{"time":"2026-11-23T08:15:00Z"}}` + "\n"
	for i, rules := range rulebooks {
		for j, log := range []string{"", line, "\n\n", strings.Replace(line, "ann", "bob", 1), strings.Replace(line, "{", `{"action":{"name":"consent"},`, 1)} {
			dir, out := t.TempDir(), t.TempDir()
			t.Chdir(dir)
			require.NoError(t, os.WriteFile("rulebook.warden", []byte(rules), 0o600))
			require.NoError(t, os.WriteFile("log.jsonl", []byte(log), 0o600))
			for _, command := range cli.CommandPaths() {
				calls, there := emptyRuns[command]
				require.True(t, there, "%s is not tried with hardly anything", command)
				for k, call := range calls {
					call = strings.NewReplacer("LOG", "log.jsonl", "OUT", filepath.Join(out, string(rune('a'+k)))).Replace(call)
					if strings.Contains(call, out) {
						require.NoError(t, os.MkdirAll(filepath.Join(out, string(rune('a'+k))), 0o700))
					}
					args := append(strings.Fields(command)[1:], strings.Fields(call)...)
					var stdout, stderr bytes.Buffer
					status := cli.Main(args, cli.Streams{In: strings.NewReader(""), Out: &stdout, Err: &stderr, Stop: stopped()})
					require.LessOrEqual(t, status, 2, "rulebook %d, log %d, %q", i, j, args)
					require.True(t, status != 2 || strings.HasPrefix(stderr.String(), "brisk: ") || strings.HasPrefix(stderr.String(), "command line"), "%q says what is wrong: %s", args, stderr.String())
					if status != 2 && command != "brisk fmt" && !strings.Contains(call, "--requests") && !strings.Contains(call, "--from") && call != "--json" {
						require.NotEmpty(t, stdout.String(), "rulebook %d, log %d, %q", i, j, args)
					}
				}
			}
		}
	}
}
