package replay_test

import (
	"bytes"
	"fmt"
	"io/fs"
	"slices"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/go-json-experiment/json"
	"github.com/stretchr/testify/require"

	"briskwarden.example/briskwarden"
	"briskwarden.example/briskwarden/demo"
	"briskwarden.example/briskwarden/replay"
)

// allLogs opens the logs of the demo.
func allLogs(t *testing.T) (list []replay.Log) {
	names, err := fs.Glob(demo.SkerryLine(), "signons/*.gz")
	require.NoError(t, err)
	for _, name := range append(names, "consents/asked.jsonl") {
		data, err := fs.ReadFile(demo.SkerryLine(), name)
		require.NoError(t, err)
		list = append(list, replay.Log{Name: name, In: bytes.NewReader(data)})
	}
	list = append(list, replay.Log{Name: "odd.jsonl", In: strings.NewReader("nonsense\n" + alertLine("nobody", "nowhere", "2026-11-20T08:00:00Z", `,"outcome":"grant"`) + alertLine("mira.holt", "payroll", "2026-11-20T09:00:00Z", `,"device":{"edr":7}`))})
	return list
}

// TestPartsComeToTheWhole divides the demo's logs in all sorts of ways: together the parts count the very same.
func TestPartsComeToTheWhole(t *testing.T) {
	rules, err := briskwarden.OpenFS(demo.SkerryLine())
	require.NoError(t, err)
	run := func(o replay.Options) *replay.Summary {
		s, err := replay.Run(t.Context(), rules, allLogs(t), o)
		require.NoError(t, err)
		return s
	}
	said := func(s *replay.Summary) string {
		text, err := json.Marshal(s)
		require.NoError(t, err)
		return string(text)
	}
	write := func(s *replay.Summary, o replay.Options) string {
		var b bytes.Buffer
		require.NoError(t, s.WritePart(&b, o))
		return b.String()
	}
	logs := func(parts ...string) (list []replay.Log) {
		for i, p := range parts {
			list = append(list, replay.Log{Name: fmt.Sprint("part ", i+1), In: strings.NewReader(p)})
		}
		return list
	}
	var halves []string
	for _, o := range []replay.Options{{}, {App: "crew-roster"}, {AsDecided: true, Outcome: "block"}} {
		whole := run(o)
		for _, of := range []int{1, 2, 7} {
			var parts []string
			for n := range of {
				o.Part = replay.Part{Number: n + 1, Of: of}
				parts = append(parts, write(run(o), o))
			}
			slices.Reverse(parts)
			merged, err := replay.Merge(rules, logs(parts...))
			require.NoError(t, err)
			require.Equal(t, said(whole), said(merged), "%+v in %d", o, of)
			require.Equal(t, write(whole, replay.Options{}), write(merged, replay.Options{}), "and all that is counted")
			if of == 2 && halves == nil {
				halves = parts
			}
		}
	}
	other, err := briskwarden.OpenFS(fstest.MapFS{"rulebook.warden": {Data: []byte("rulebook r { }")}})
	require.NoError(t, err)
	_, err = replay.Merge(other, logs(halves...))
	require.ErrorContains(t, err, "part 1: it is of another rulebook")
	for want, parts := range map[string][]string{"there are no parts": {}, "part 1/2 is missing": halves[:1], "the same part, 2/2": {halves[0], halves[0]}, "it is no part of a replay": {halves[0], "{"},
		"of the format 9": {strings.Replace(halves[0], `"format":1`, `"format":9`, 1)}, "no part: write 3/8": {strings.Replace(halves[0], `"part":"2/2"`, `"part":"3/2"`, 1)},
		"another replay than part 1": {halves[0], strings.Replace(halves[1], `user \"\"`, `user \"x\"`, 1)}, "other logs than part 1": {halves[0], strings.Replace(halves[1], `"bad_lines":`, `"bad_lines":9`, 1)},
		"no part of a replay: json": {strings.Replace(halves[0], `"refused"`, `"refusd"`, 1)}} {
		_, err := replay.Merge(rules, logs(parts...))
		require.ErrorContains(t, err, want, want)
	}
}
