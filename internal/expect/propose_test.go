package expect_test

import (
	"compress/gzip"
	"io/fs"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"briskwarden.example/briskwarden/demo"
	"briskwarden.example/briskwarden/internal/engine"
	"briskwarden.example/briskwarden/internal/expect"
	"briskwarden.example/briskwarden/internal/lines"
	"briskwarden.example/briskwarden/internal/rulebook"
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
	rb := rulebook.Load(demo.SkerryLine(), rulebook.Options{})
	require.NoError(t, rb.Diagnostics.Err())
	e := engine.New(rb, engine.Sources{})
	p := expect.NewProposer(e)
	f, err := demo.SkerryLine().Open("signons/2026-w47.jsonl.gz")
	require.NoError(t, err)
	defer f.Close()
	z, err := gzip.NewReader(f)
	require.NoError(t, err)
	cases := map[string]bool{} // a case taken, with the outcome
	note := func(so *signon.SignOn) {
		var d signon.Decision
		require.NoError(t, e.Decide(so, &d, true))
		for _, x := range d.Explanation.Policies {
			if x.Sure {
				cases[x.Policy+" "+x.Case+" "+d.Outcome.String()] = true
			}
		}
	}
	require.NoError(t, lines.Each(z, func(_ int, line []byte) error {
		l, err := signon.DecodeLogged(line)
		require.NoError(t, err)
		note(&l.SignOn)
		return p.Consider(&l.SignOn)
	}))
	seen := len(cases)
	again := rulebook.Load(added{demo.SkerryLine(), p.Expectations()}, rulebook.Options{})
	require.NoError(t, again.Diagnostics.Err())
	require.Less(t, len(again.Expects), 50, "of %d sign-ons", p.Seen)
	clear(cases)
	e = engine.New(again, engine.Sources{})
	for _, x := range again.Expects {
		r, err := expect.Run(e, x, time.Time{})
		require.NoError(t, err)
		require.Empty(t, r.Failed, x.Name)
		note(&r.SignOn)
	}
	require.GreaterOrEqual(t, len(cases), seen-2*p.Left, "every case and outcome seen is covered, but for what cannot be told")

	before := p.Left
	risk := 3.5
	for _, so := range []signon.SignOn{{User: "mira.holt", App: "nowhere", Time: time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC), Properties: map[string]any{"x": 1}},
		{User: "mira.holt", App: "no app", Time: time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC), Device: &signon.Device{Form: "mobile"}, Risk: &risk}} {
		require.NoError(t, p.Consider(&so))
	}
	require.Equal(t, before+2, p.Left, "there are no words for it")
	require.Equal(t, strings.Count(p.Expectations(), "expect "), len(again.Expects))
}
