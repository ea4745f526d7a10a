package replay_test

import (
	"bytes"
	"fmt"
	"io/fs"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"briskwarden.example/briskwarden/demo"
	"briskwarden.example/briskwarden/replay"
	"briskwarden.example/briskwarden/signon"
)

// TestCompareAgreesWithTwoReplays holds a comparison against replaying the log twice.
func TestCompareAgreesWithTwoReplays(t *testing.T) {
	names, texts := demoLogs(t)
	all := ""
	for _, n := range names {
		all += texts[n]
	}
	asked, err := fs.ReadFile(demo.SkerryLine(), "consents/asked.jsonl")
	require.NoError(t, err)
	logs := func() []replay.Log {
		return []replay.Log{{Name: "all", In: strings.NewReader(all)}, {Name: "asked", In: bytes.NewReader(asked)}}
	}
	before := skerry(t)
	for _, c := range []struct{ file, old, new, because string }{
		{"rulebook.warden", "skerry-line", "skerry-line", ""},
		{"policies/crews.warden", "  stage enforce from 2027-01-11\n", "", `rosters-in-port "elsewhere" stands in a policy whose people, apps or stages are different`},
		{"policies/everyone.warden", "risk.band is guarded", "risk.band is severe", `risky-sign-ons "guarded" is different`},
		{"policies/shore.warden", `case "closed" when time not in office-hours => block "The desk is closed."`, "", `ticket-desks "closed" is gone`},
		{"policies/shore.warden", "policy payment-runs {", "policy night { who group finance to app ledger otherwise => block }\npolicy payment-runs {", `night "otherwise" is new with its policy`},
		{"policies/crews.warden", `case "aboard" when`, `case "ashore" when network not in ferries and network not in terminals => block case "aboard" when`, `roster-away "ashore" is new`},
		{"policies/shore.warden", "otherwise => review by group consent-reviewers", "otherwise => block", `client-consent "otherwise" is different`},
	} {
		after := open(t, overlay{demo.SkerryLine(), c.file, c.old, c.new})
		var out [2]bytes.Buffer
		var both [2]*replay.Comparison
		for i, workers := range []int{1, 6} {
			var err error
			both[i], err = replay.Compare(t.Context(), before, after, logs(), replay.Options{Workers: workers, Decisions: &out[i]})
			require.NoError(t, err)
		}
		require.Equal(t, both[0].Groups, both[1].Groups)
		require.Equal(t, both[0].People, both[1].People)
		require.True(t, bytes.Equal(out[0].Bytes(), out[1].Bytes()))
		got := both[0]
		was, is := run(t, before, replay.Options{}, logs()...), run(t, after, replay.Options{}, logs()...)
		changed := 0
		for o := range signon.Outcome(4) {
			from, to := 0, 0
			for p := range signon.Outcome(4) {
				from, to = from+got.From[o][p], to+got.From[p][o]
				if o != p {
					changed += got.From[o][p]
				}
			}
			require.Equal(t, []int{was.Outcomes[o], is.Outcomes[o]}, []int{from, to}, "%s %s", c.because, o)
		}
		require.Equal(t, []int{was.Outcomes.All(), was.Consents.Outcomes.All()}, []int{got.Compared, got.Consents.Compared})
		_, _, consents := got.Consents.From.Changes()
		require.Equal(t, consents > 0, strings.HasPrefix(c.because, "client-consent"))
		grouped, people := 0, 0
		var because []string
		for _, g := range got.Groups {
			grouped += g.Count
			because = append(because, g.Because...)
			require.LessOrEqual(t, len(g.Examples), 3)
			for i := range g.Examples[1:] {
				require.False(t, g.Examples[i+1].Time.Before(g.Examples[i].Time))
			}
		}
		for _, p := range got.People {
			people += p.Outcomes.All()
		}
		require.Equal(t, []int{changed, changed, changed + consents}, []int{grouped, people, strings.Count(out[0].String(), "\n")}, c.because)
		for _, g := range got.Consents.Groups {
			because = append(because, g.Because...)
		}
		if c.because == "" {
			require.Zero(t, changed)
			continue
		}
		require.Contains(t, because, c.because, fmt.Sprint(because))
	}
}
