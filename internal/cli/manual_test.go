package cli_test

import (
	"bytes"
	"io"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"briskwarden.example/briskwarden/demo"
	"briskwarden.example/briskwarden/internal/cli"
	"briskwarden.example/briskwarden/store/sqlite"
)

// words splits a command line with double quotes.
func words(line string) (list []string) {
	for _, w := range regexp.MustCompile(`"[^"]*"|\S+`).FindAllString(line, -1) {
		list = append(list, strings.Trim(w, `"`))
	}
	return list
}

// TestExamplesWork runs the examples of all --help in a copy of the demo's folder.
func TestExamplesWork(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "skerry")
	require.NoError(t, os.CopyFS(dir, demo.SkerryLine()))
	t.Chdir(dir)
	t.Setenv("TMPDIR", t.TempDir())
	t.Setenv("XDG_STATE_HOME", t.TempDir())
	begun, err := sqlite.Open("brisk.state") // which the examples look at, and a service goes on to use
	require.NoError(t, err)
	require.NoError(t, begun.Close())
	for _, path := range append(cli.CommandPaths(), "brisk", "brisk consent") {
		require.Equal(t, 2, cli.CountExamples(path), "examples of %s", path)
	}
	for _, part := range []string{"1", "2"} { // which the examples of merge add up
		var out bytes.Buffer
		require.Zero(t, cli.Main([]string{"replay", "signons/2026-w47.jsonl.gz", "--part", part + "/2"}, cli.Streams{In: strings.NewReader(""), Out: &out, Err: io.Discard}))
		require.NoError(t, os.WriteFile(part+".json", out.Bytes(), 0o600))
	}
	for _, call := range cli.HelpExamples() {
		var out, complaints bytes.Buffer
		stop := make(chan struct{})
		time.AfterFunc(time.Second, func() { close(stop) })
		status := cli.Main(words(call)[1:], cli.Streams{In: strings.NewReader(""), Out: &out, Err: &complaints, Stop: stop})
		require.Zero(t, status, "%s: %s", call, complaints.String())
	}
}

// TestDemoIsWalkedForthAndBack types what a reader would.
func TestDemoIsWalkedForthAndBack(t *testing.T) {
	t.Setenv("TMPDIR", t.TempDir())
	for typed, want := range map[string][]string{
		"\n\nq\n":   {"1", "2", "3"},
		"\nb\n\n\n": {"1", "2", "1", "2", "3"},
		"b\nB\nq\n": {"1", "1", "1"},
		"":          {"1"},
		"what?\nq":  {"1", "2"},
	} {
		var out bytes.Buffer
		require.NoError(t, cli.DemoTyped(filepath.Join(t.TempDir(), "skerry"), typed, &out))
		var shown []string
		for _, m := range regexp.MustCompile(`(?m)^(\d+)\. `).FindAllStringSubmatch(out.String(), -1) {
			shown = append(shown, m[1])
		}
		require.Equal(t, want, shown, "%q", typed)
		require.Contains(t, out.String(), "Three things to do next")
	}
}

// TestCompletion asks for what the shell would.
func TestCompletion(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "rulebook.warden"), []byte("rulebook r { }\nuser ann { groups crew }\nuser bob { }\nuser \"two words\" { }\nuser \"a\x1b[31m\" { }\nuser \"a\u202eb\" { }\ngroup crew { }\napp news { }\nnetwork quay { 192.0.2.0/24 }\nexpect fine { user ann app news => block }\n"), 0o600))
	for line, want := range map[string]string{
		"decide user ":         "ann bob",
		"decide user a":        "ann",
		"decide user ann app ": "news",
		"decide user ann p":    "presenting publisher",
		"decide user ann presenting password, passk": "passkey",
		"decide for group ":                          "crew",
		"reach ":                                     "user app",
		"reach app ":                                 "news",
		"reach --columns ":                           "quay",
		"consent ask user b":                         "bob",
		"consent ban x --by ":                        "ann bob",
		"replay --group ":                            "crew",
		"expect ":                                    "fine",
	} {
		begun := strings.Split("-r "+dir+" "+line, " ")
		var out bytes.Buffer
		require.Zero(t, cli.Main(append([]string{"__complete"}, begun...), cli.Streams{In: strings.NewReader(""), Out: &out, Err: &bytes.Buffer{}}), line)
		got := strings.Fields(out.String())
		require.Equal(t, want, strings.Join(got[:len(got)-1], " "), line)
	}
}
