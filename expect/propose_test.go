package expect_test

import (
	"bytes"
	"compress/gzip"
	"io"
	"io/fs"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"briskwarden.example/briskwarden"
	"briskwarden.example/briskwarden/demo"
	"briskwarden.example/briskwarden/expect"
	"briskwarden.example/briskwarden/replay"
	"briskwarden.example/briskwarden/signon"
)

// added is the demo rulebook with one more file.
type added struct {
	fs.FS
	text string
}

func (a added) ReadFile(name string) ([]byte, error) {
	data, err := fs.ReadFile(a.FS, name)
	if name == "expectations.warden" {
		data = []byte(a.text)
	}
	return data, err
}

// TestProposalsHold proposes expectations from a week of the demo, and runs them.
func TestProposalsHold(t *testing.T) {
	rules, err := briskwarden.OpenFS(demo.SkerryLine())
	require.NoError(t, err)
	packed, err := fs.ReadFile(demo.SkerryLine(), "signons/2026-w47.jsonl.gz")
	require.NoError(t, err)
	z, err := gzip.NewReader(bytes.NewReader(packed))
	require.NoError(t, err)
	text, err := io.ReadAll(z)
	require.NoError(t, err)
	cases := map[string]bool{} // a case taken, with the outcome
	note := func(d *signon.Decision) {
		for _, x := range d.Explanation.Policies {
			if x.Sure {
				cases[x.Policy+" "+x.Case+" "+d.Outcome.String()] = true
			}
		}
	}
	for line := range strings.Lines(string(text)) {
		l, err := signon.DecodeLogged([]byte(line))
		require.NoError(t, err)
		d, err := rules.Explain(t.Context(), l.SignOn)
		require.NoError(t, err)
		note(&d)
	}
	propose := func(text string) *expect.Proposal {
		lines := 0
		p, err := expect.Propose(t.Context(), rules, []replay.Log{{Name: "log", In: strings.NewReader(text)}}, func(n int) { lines = n })
		require.NoError(t, err)
		require.Equal(t, []int{p.Seen, strings.Count(text, "\n")}, []int{lines, lines})
		return p
	}
	p := propose(string(text))
	seen := len(cases)
	again, err := briskwarden.OpenFS(added{demo.SkerryLine(), p.Text})
	require.NoError(t, err)
	clear(cases)
	results, err := expect.Run(t.Context(), again)
	require.NoError(t, err)
	require.Less(t, len(results.Expectations), 50, "of %d sign-ons", p.Seen)
	for _, r := range results.Expectations {
		require.Empty(t, r.Failed, r.Name)
		note(&r.Decision)
	}
	require.GreaterOrEqual(t, len(cases), seen-2*p.Left, "every case and outcome seen is covered, but for what cannot be told")

	const untellable = `{"subject":{"id":"mira.holt","properties":{"x":1}},"resource":{"id":"nowhere"},"context":{"time":"2026-11-23T08:00:00Z"}}
{"subject":{"id":"mira.holt"},"resource":{"id":"no app"},"context":{"time":"2026-11-23T08:00:00Z","device":{"form":"mobile"},"risk":3.5}}
`
	more := propose(string(text) + untellable)
	require.Equal(t, p.Left+2, more.Left, "there are no words for it")
	require.Equal(t, p.Text, more.Text)
}
