package survey_test

import (
	"context"
	"flag"
	"fmt"
	"io/fs"
	"slices"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/require"

	"briskwarden.example/briskwarden"
	"briskwarden.example/briskwarden/demo"
	"briskwarden.example/briskwarden/internal/bridge"
	"briskwarden.example/briskwarden/internal/engine"
	"briskwarden.example/briskwarden/internal/possible/possibletest"
	"briskwarden.example/briskwarden/prove"
	"briskwarden.example/briskwarden/signon"
	"briskwarden.example/briskwarden/survey"
)

var rulebooks = flag.Int("rulebooks", 100, "how many random rulebooks are held against lists of all their sign-ons")

// added is a rulebook with one more file.
func added(t *testing.T, from fs.FS, text string) *briskwarden.Rulebook {
	files := fstest.MapFS{"zz-added.warden": {Data: []byte(text)}}
	require.NoError(t, fs.WalkDir(from, ".", func(name string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		data, err := fs.ReadFile(from, name)
		files[name] = &fstest.MapFile{Data: data}
		return err
	}))
	at := time.Date(2026, 11, 26, 8, 0, 0, 0, time.UTC)
	if _, small := from.(fstest.MapFS); small {
		at = possibletest.Start
	}
	rules, err := briskwarden.OpenFS(files, briskwarden.WithClock(func() time.Time { return at }))
	require.NoError(t, err, "%s", text)
	return rules
}

// TestStepsKeepTheirPromises enforces each step that is told, and proves the promise that it is to make true.
func TestStepsKeepTheirPromises(t *testing.T) {
	rules := added(t, demo.SkerryLine(), "")
	r, err := survey.Of(t.Context(), rules, prove.Span{})
	require.NoError(t, err)
	require.Len(t, r.Steps, 10)
	for _, step := range r.Steps {
		require.Positive(t, step.Closes)
		name := strings.Split(step.Promise, `"`)[1]
		before, err := prove.Promises(t.Context(), added(t, demo.SkerryLine(), step.Promise), prove.Span{}, name)
		require.NoError(t, err)
		require.Equal(t, prove.Broken, before.Promises[0].Answer, step.What)
		after, err := prove.Promises(t.Context(), added(t, demo.SkerryLine(), step.Policy+step.Promise), prove.Span{}, name)
		require.NoError(t, err)
		require.Equal(t, prove.Holds, after.Promises[0].Answer, step.What)
	}
}

// TestStepsOpenNothing: what a step asks for lets nobody in who is blocked since no policy has a say.
func TestStepsOpenNothing(t *testing.T) {
	const rules = `rulebook r { unmatched block }
network quay trusted { 192.0.2.0/24 }
user ann { groups crew  methods password, app-code }
user bob { groups crew  methods password, app-code }
user cil { methods password, app-code }
app roster { }
app ledger { }
app notes { }
group crew { }
policy roster { who group crew  to app roster  otherwise => step-up password }
policy ledger { who group crew  to app ledger  case "quay" when network in quay => step-up password  otherwise => abstain }
policy notes  { who everyone  to app notes  otherwise => step-up password }
`
	files := fstest.MapFS{"rulebook.warden": {Data: []byte(rules)}}
	r, err := survey.Of(t.Context(), added(t, files, ""), prove.Span{})
	require.NoError(t, err)
	told := map[string]string{}
	for _, step := range r.Steps {
		told[step.What] = step.Policy
		change, err := prove.Compare(t.Context(), added(t, files, ""), added(t, files, step.Policy), prove.Span{}, prove.Scope{})
		require.NoError(t, err)
		kept, err := prove.Promises(t.Context(), added(t, files, step.Policy+step.Promise), prove.Span{}, strings.Split(step.Promise, `"`)[1])
		require.NoError(t, err)
		require.Equal(t, prove.Holds, kept.Promises[0].Answer, step.What)
		for _, d := range change.Differences {
			require.False(t, d.From.StricterThan(d.To), "%s opens %s to %s for %v", step.What, d.From, d.To, d.People)
		}
	}
	require.Contains(t, told["roster: ask for two factors"], "who   group crew")
	require.NotContains(t, told, "ledger: ask for two factors", "elsewhere no policy has a say, and the step would be one")
	require.Contains(t, told["ledger: ask for a managed device"], "block")
	require.Contains(t, told["notes: ask for two factors"], "who   everyone")
}

// TestProposalsHold proves all that is proposed, and that of the levels the next does not hold.
func TestProposalsHold(t *testing.T) {
	text, err := survey.Propose(t.Context(), added(t, demo.SkerryLine(), ""), prove.Span{})
	require.NoError(t, err)
	r, err := prove.Promises(t.Context(), added(t, demo.SkerryLine(), text), prove.Span{})
	require.NoError(t, err)
	require.Greater(t, len(r.Promises), 40)
	for _, p := range r.Promises {
		require.Equal(t, prove.Holds, p.Answer, p.Promise)
		require.False(t, p.Empty, p.Promise)
	}
	stronger := strings.NewReplacer("without aal1", "without aal2", "without aal2", "without aal3", "at most guarded", "at most calm").Replace(text)
	r, err = prove.Promises(t.Context(), added(t, demo.SkerryLine(), stronger), prove.Span{})
	require.NoError(t, err)
	for _, p := range r.Promises {
		if strings.Contains(p.Promise, "at least aal1") || strings.Contains(p.Promise, "at least aal2") || strings.Contains(p.Promise, "at guarded risk") {
			require.Equal(t, prove.Broken, p.Answer, p.Promise)
		}
	}
}

// TestSurveyAgreesWithAllSignOns lists all sign-ons of small rulebooks, and reads the columns off those granted.
func TestSurveyAgreesWithAllSignOns(t *testing.T) {
	const levels = "promise \"1\" { who everyone to everything never grant without aal1 }\npromise \"2\" { who everyone to everything never grant without aal2 }\n" +
		"promise \"3\" { who everyone to everything never grant without aal3 }\npromise \"4\" { who everyone to everything never grant without passkey or security-key or smart-card }\n" +
		"promise \"5\" { who everyone to everything when device.managed never grant }\npromise \"6\" { who everyone to everything when network not in quay, pier, relays never grant }\n" +
		"promise \"7\" { who everyone to everything when network in pier never grant }\npromise \"8\" { who everyone to everything when network is unknown never grant }\n"
	const shards = 4
	for shard := range uint64(shards) {
		t.Run(fmt.Sprint(shard), func(t *testing.T) {
			t.Parallel()
			open, compared := 0, 0
			for seed := shard; compared < *rulebooks/shards; seed += shards {
				s := possibletest.Begun(seed, 0)
				s.Complete(s.Text())
				if !s.Few() {
					continue
				}
				compared++
				open += agree(t, added(t, s.Files, levels), s)
			}
			require.Greater(t, open, compared)
		})
	}
}

// columns are what is asked about each person at each app: whether a grant is possible, and is without
// aal1, 2, 3 or a phishing-resistant method, and from where.
type columns [6]bool

func agree(t *testing.T, rules *briskwarden.Rulebook, s *possibletest.Small) (ways int) {
	e := bridge.Engine(rules)
	rb := e.Rulebook()
	asked := rb.Promises[len(rb.Promises)-8:]
	want := map[[2]string]columns{}
	s.Each(possibletest.Users, possibletest.Apps, func(so *signon.SignOn) {
		v, err := e.Judge(context.Background(), so, &engine.Question{})
		require.NoError(t, err)
		if v.Outcome != signon.Grant {
			return
		}
		key := [2]string{so.User, so.App}
		c := want[key]
		c[0] = true
		for i := range 4 {
			w, err := e.Judge(context.Background(), so, &engine.Question{Without: asked[i].Without})
			require.NoError(t, err)
			c[i+1] = c[i+1] || !w.Met
		}
		w, err := e.Judge(context.Background(), so, &engine.Question{When: asked[4].When})
		require.NoError(t, err)
		c[5] = c[5] || !w.When
		want[key] = c
	})
	r, err := survey.Of(context.Background(), rules, prove.Span{Until: possibletest.Start.AddDate(0, 0, 4)})
	require.NoError(t, err, s.Text())
	got := map[[2]string]columns{}
	for _, row := range r.Rows {
		level := slices.Index([]string{"none", "aal1", "aal2", "aal3"}, row.Least)
		for _, user := range row.People {
			got[[2]string{user, row.App}] = columns{true, level < 1, level < 2, level < 3, !row.Resistant, !row.Managed}
		}
	}
	require.Equal(t, want, got, s.Text())
	require.Equal(t, len(want), r.Ways)
	return r.Ways
}
