package review_test

import (
	"context"
	"fmt"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/require"

	"briskwarden.example/briskwarden"
	"briskwarden.example/briskwarden/prove"
	"briskwarden.example/briskwarden/replay"
	"briskwarden.example/briskwarden/review"
)

const small = `rulebook r { floor password }
user ann { methods password, app-code }
app payroll { }
policy inside { about "x"  owner "x"  who everyone  to everything  otherwise => step-up password and app-code  session lasts 10h, idle 30m }
promise "two factors" { who everyone  to everything  never grant without app-code }
expect "asked" { user ann  app payroll  at 2026-11-23T12:00 => step-up }
`

func open(t *testing.T, text string) *briskwarden.Rulebook {
	t.Helper()
	rules, err := briskwarden.OpenFS(fstest.MapFS{"rulebook.warden": {Data: []byte(text)}},
		briskwarden.WithClock(func() time.Time { return time.Date(2026, 11, 23, 7, 0, 0, 0, time.UTC) }))
	require.NoError(t, err)
	return rules
}

// TestWhatLoosens changes one thing at a time.
func TestWhatLoosens(t *testing.T) {
	const signals = `signals posture { from "https://posture.skerry.example"  keys "https://posture.skerry.example/keys"  audience "brisk"  accept session-revoked }
`
	const issuer = `
issuer desk { url "https://desk.skerry.example"  keys "https://desk.skerry.example/keys"  audience "brisk"  cookie "session"  who people  sign-on "https://desk.skerry.example/sign-on" }
`
	const token = `
caller desk { about "x"  token "sha256:3f79bb7b435b05321651daefd374cdc681dc06faa65e374e38337b88ca046dea" until 2027-01-01  may decide }
`
	for _, c := range []struct {
		name, old, new string // what stands in small, and what instead
		loosens        bool
		says           string
	}{
		{"nothing but layout and comments", "policy inside {", "policy   inside {  # a comment\n", false, "No declaration changes"},
		{"a weaker demand", "password and app-code", "password", true, "It loosens in 1 way (1 person, 1 app)"},
		{"a stronger demand", "=> step-up password and app-code", "=> block", false, "It tightens in "},
		{"a promise gone", `promise "two factors" { who everyone  to everything  never grant without app-code }`, "", true, "1 promise gone"},
		{"a longer session", "lasts 10h", "lasts 11h", true, "lets sessions last longer in 1 way (1 person, 1 app)"},
		{"no idle end", "lasts 10h, idle 30m", "lasts 10h", true, "lets sessions last longer in 1 way"},
		{"a shorter session", "lasts 10h, idle 30m", "lasts 9h, idle 29m", false, "It tightens"},
		{"another name", "policy inside", "policy elsewhere", false, "The words change"},
		{"a say less of nobody", "otherwise", `case "known" when user.type is guest => abstain  otherwise`, false, "The words change"},
		{"an address that is another app", "app payroll { }", `app payroll { url "https://pay.skerry.example/" }`, true, "1 declaration of what comes from outside changed"},
		{"an app that is about something else", "app payroll { }", `app payroll { about "Pay" }`, false, "The words change"},
		{"a source of signals that is heard no longer", `promise "two`, signals + `promise "two`, true, "1 declaration of what comes from outside changed"},
		{"another issuer", "app payroll { }", "app payroll { }" + issuer, true, "1 declaration of what comes from outside changed"},
		{"an expectation that never held", "=> step-up }", "=> step-up }\nexpect \"more\" { user ann  app payroll  at 2026-11-23T12:00 => grant }", false, "1 expectation not met"},
		{"another caller", "app payroll { }", "app payroll { }" + token, true, "1 declaration of what comes from outside changed"},
		{"an expectation that fails", "=> step-up }", "=> grant }", false, "1 expectation not met"},
	} {
		t.Run(c.name, func(t *testing.T) {
			require.Contains(t, small, c.old)
			before, after := open(t, small), open(t, strings.Replace(small, c.old, c.new, 1))
			r, err := review.Change(t.Context(), before, after, review.Options{})
			require.NoError(t, err)
			require.Equal(t, c.loosens, r.Loosens(), r.Sentence())
			require.Contains(t, r.Sentence(), c.says)
			if c.new == signals+c.old {
				back, err := review.Change(t.Context(), after, before, review.Options{})
				require.NoError(t, err)
				require.True(t, back.Loosens())
			}
			if c.name == "another caller" {
				back, err := review.Change(t.Context(), after, before, review.Options{})
				require.NoError(t, err)
				require.False(t, back.Loosens(), "a caller that is gone lets nobody in")
				require.Equal(t, review.Gone, back.Declarations[0].Change)
			}
		})
	}
}

// TestWhatIsNotWorkedOutLoosens has no time at all: nobody may take silence for a yes.
func TestWhatIsNotWorkedOutLoosens(t *testing.T) {
	r, err := review.Change(t.Context(), open(t, small), open(t, strings.Replace(small, "app-code }", "password }", 1)), review.Options{Within: 1})
	require.NoError(t, err)
	require.True(t, r.Loosens())
	require.Contains(t, r.Sentence(), "not all of it worked out in time")
}

// TestTheWorstStandsFirst has a change that does several things.
func TestTheWorstStandsFirst(t *testing.T) {
	before := small + "app news { }\napp wiki { }\npolicy shut { about \"x\"  owner \"x\"  who everyone  to app news, app wiki  otherwise => block }\n" +
		"expect \"a\" { user ann  app wiki  at 2026-11-23T12:00 => grant }\nexpect \"b\" { user ann  app news  at 2026-11-23T12:00 => block }\n"
	after := strings.NewReplacer(`to app news, app wiki  otherwise => block`, `to app news, app wiki  case "wiki" when app.id is wiki => step-up app-code  otherwise => step-up password`,
		`app wiki  at 2026-11-23T12:00 => grant`, `app wiki  at 2026-11-23T12:00 => step-up`).Replace(before)
	after = strings.Replace(after, `to app news, app wiki  case "wiki" when app.id is wiki => step-up app-code  otherwise => step-up password`, `to app wiki  otherwise => step-up password`, 1)
	r, err := review.Change(t.Context(), open(t, before), open(t, after), review.Options{})
	require.NoError(t, err)
	text := r.Markdown("")
	require.Contains(t, text, "### Loosened\n\n```text\nblock to grant")
	require.Contains(t, text, "\nblock to step-up")
	require.Contains(t, text, "answer\n\n```text\nholds to fails  b")
	require.Contains(t, text, "\nfails to holds  a")
	require.Less(t, strings.Index(text, "### Loosened"), strings.Index(text, "### Expectations"))
}

// TestWhoIsNoLongerReady asks for a method that ann does not have; who was stopped already is not told again.
func TestWhoIsNoLongerReady(t *testing.T) {
	after := open(t, strings.Replace(small, "step-up password and app-code", "step-up passkey", 1))
	for _, before := range []*briskwarden.Rulebook{open(t, small), after} {
		r, err := review.Change(t.Context(), before, after, review.Options{})
		require.NoError(t, err)
		require.Equal(t, before != after, strings.Contains(r.Markdown(""), "### No longer ready\n\n```text\nann  already, by inside\n"), r.Markdown(""))
	}
}

// TestTheSameFindingOnceMore is new, though there was one like it.
func TestTheSameFindingOnceMore(t *testing.T) {
	twice := func(n int) string {
		text := small
		for i := range n {
			text += fmt.Sprintf("policy p%d { about \"x\"  owner \"x\"  who user ann, user ann  to everything  otherwise => step-up app-code every %dh }\n", i, i+1)
		}
		return text
	}
	r, err := review.Change(t.Context(), open(t, twice(2)), open(t, twice(3)), review.Options{})
	require.NoError(t, err)
	require.Len(t, r.New, 1)
	require.Equal(t, "repeated-item", r.New[0].Code)
	require.Empty(t, r.Gone)
}

// TestTheLogIsFelt counts what past sign-ons would have come to, and the lines that nobody could read.
func TestTheLogIsFelt(t *testing.T) {
	log := `{"subject":{"id":"ann"},"resource":{"id":"payroll"},"context":{"time":"2026-11-20T08:00:00Z","presented":["password","app-code"]}}` + "\nnot a line\n"
	r, err := review.Change(t.Context(), open(t, small), open(t, strings.Replace(small, "=> step-up password and app-code", "=> block", 1)),
		review.Options{Logs: []replay.Log{{Name: "log", In: strings.NewReader(log)}}})
	require.NoError(t, err)
	text := r.Markdown("")
	require.Contains(t, text, "of 1 sign-on, 1 change, of 1 person\n    1      from grant to block")
	require.Contains(t, text, "1 line of the log could not be read")
}

// TestMarkdownHoldsNothingButText gives names that would close a fence, be markup or mention somebody.
func TestMarkdownHoldsNothingButText(t *testing.T) {
	evil := "````\n<img src=x onerror=alert(1)> @everyone [x](javascript:1)\u202e"
	r := &review.Review{Expectations: []review.Changed{{Name: evil, After: "fails", Why: "````"}}, Declarations: []review.Declared{{What: "everyone"}}, Differences: &prove.Comparison{Undecided: evil}}
	text := r.Markdown(evil)
	require.Contains(t, r.Markdown("```"), "````text\n```\n````\n")
	fence := ""
	for line := range strings.Lines(text) {
		line = strings.TrimSuffix(line, "\n")
		if marks := len(line) - len(strings.TrimLeft(line, "`")); fence == "" && marks >= 3 {
			fence = line[:marks]
			continue
		} else if fence != "" && line == fence {
			fence = ""
			continue
		}
		require.NotContains(t, line, "\u202e")
		if fence == "" {
			require.NotContains(t, line, "everyone", "outside of every fence")
		}
	}
	require.Empty(t, fence)
}

// TestManyDeclarations takes about as much more time as there are more.
func TestManyDeclarations(t *testing.T) {
	took := func(n int) time.Duration {
		var b strings.Builder
		b.WriteString(small)
		for i := range n {
			fmt.Fprintf(&b, "user u%d { active no }\n", i)
		}
		rules := open(t, b.String())
		start := time.Now()
		_, err := review.Change(context.Background(), rules, rules, review.Options{})
		require.NoError(t, err)
		return time.Since(start)
	}
	least := func(n int) time.Duration { return min(took(n), took(n), took(n)) }
	require.Less(t, least(16000), 24*least(2000), "8 times as many; 64 times as long would be each beside each")
}
