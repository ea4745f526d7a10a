package prove_test

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
)

// TestEachSideByItsOwn compares rulebooks that differ in what a value means, where it comes from, or when it is.
func TestEachSideByItsOwn(t *testing.T) {
	const rules = `rulebook r { timezone "Europe/Oslo"  unmatched block  floor none }
attribute user.level word from request
user ann { methods password  joined 2026-12-02 }
app a { }
schedule day { mon-fri 08:00-16:00 }
policy p { who everyone  to app a  case "c" when CONDITION => grant  otherwise => block }
`
	const signals = `signals f { from "https://f.example"  keys "https://f.example/keys"  audience "b"  accept EVENT }
`
	open := func(condition string, change ...string) *briskwarden.Rulebook {
		text := strings.NewReplacer(change...).Replace(strings.Replace(rules, "CONDITION", condition, 1))
		book, err := briskwarden.OpenFS(fstest.MapFS{"rulebook.warden": {Data: []byte(text)}}, briskwarden.WithClock(func() time.Time { return time.Date(2026, 12, 1, 0, 0, 0, 0, time.UTC) }))
		require.NoError(t, err)
		return book
	}
	for _, c := range []struct {
		name, before, after string
		change              []string
		says                string // the outcomes that change, before and after; what is not decided
	}{
		{"a zone", "time in day", "time in day", []string{"Europe/Oslo", "Europe/Lisbon"}, "block to grant, grant to block"},
		{"the zone of a day of joining", "user.joined within 7d", "user.joined within 7d", []string{"Europe/Oslo", "America/New_York"}, "block to grant, grant to block"},
		{"where it comes from", "user.level is high", "user.level is high", []string{" from request", ""}, "grant to block"},
		{"its type", "user.level is high", "user.level >= 5", []string{"level word", "level number"}, "not decided"},
		{"signals of risk", "not (user.risk is high)", "not (user.risk is high)", []string{"app a { }", "app a { }\n" + strings.Replace(signals, "EVENT", "risk-level-change", 1)}, "grant to block"},
		{"signals of compromise", "user.compromised is known", "user.compromised is known", []string{"app a { }", "app a { }\n" + strings.Replace(signals, "EVENT", "credential-compromise", 1)}, "block to grant"},
		{"nothing", "user.level is high", "user.level is high", nil, ""},
	} {
		said := func(before, after *briskwarden.Rulebook) string {
			r, err := prove.Compare(t.Context(), before, after, prove.Span{}, prove.Scope{})
			require.NoError(t, err, c.name)
			var list []string
			for _, d := range r.Differences {
				list = append(list, fmt.Sprintf("%s to %s", d.From, d.To))
			}
			if r.Undecided != "" {
				list = append(list, "not decided")
			}
			require.Equal(t, len(list) == 0, r.Same, c.name)
			return strings.Join(list, ", ")
		}
		require.Equal(t, c.says, said(open(c.before), open(c.after, c.change...)), c.name)
		back := said(open(c.after, c.change...), open(c.before))
		require.Equal(t, len(c.says), len(back), "%s: %s", c.name, back)
	}
}

// TestValuesAtTheEdge: of no time at all, beyond all whole numbers, and of wildcards that take every common word.
func TestValuesAtTheEdge(t *testing.T) {
	const rules = `rulebook r { unmatched block  floor none }
attribute user.level number from request
user ann { methods password  joined 2026-12-02T10:00 }
user "a} {3 0 b" { methods password }
app a { }
scopes s { "o*" }
policy consents { who everyone  to app a  doing consent  case "s" when scopes within s => grant  otherwise => block }
policy joined { who everyone  to app a  case "now" when user.joined within 0m => grant  otherwise => abstain }
policy large { who everyone  to app a  case "more" when user.level > 9007199254740992 => grant  case "less" when user.level < -9007199254740992 => grant  otherwise => abstain }
promise "s" { who everyone  to app a  doing consent  when scopes is known  always grant }
promise "joined" { who user ann  to app a  when user.level is unknown  never grant }
promise "more" { who everyone  to app a  when user.level > 0  never grant }
promise "less" { who everyone  to app a  when user.level < 0  never grant }
promise "nobody" { who user "a} {3 0 b"  to app a  when user.level is unknown  never grant }
`
	book, err := briskwarden.OpenFS(fstest.MapFS{"rulebook.warden": {Data: []byte(rules)}}, briskwarden.WithClock(func() time.Time { return time.Date(2026, 12, 1, 0, 0, 0, 0, time.UTC) }))
	require.NoError(t, err)
	r, err := prove.Promises(t.Context(), book, prove.Span{})
	require.NoError(t, err)
	for _, p := range r.Promises {
		require.Equal(t, p.Promise != "nobody", p.Answer == prove.Broken, p.Promise)
	}
}

// TestTimeIsKept: whatever is asked of many schedules over many years ends soon after its time, and says that it is not decided.
func TestTimeIsKept(t *testing.T) {
	var b strings.Builder
	b.WriteString("rulebook r { timezone \"Europe/Oslo\"  unmatched block }\nuser ann { methods password }\napp a { }\n")
	for i := range 200 {
		fmt.Fprintf(&b, "schedule s%d { mon-fri %02d:%02d-23:58 }\npolicy p%d { who everyone  to app a  case \"c\" when time in s%d => grant  otherwise => abstain }\n", i, i%23, i%60, i, i)
	}
	b.WriteString("promise \"q\" { who everyone  to everything  never grant }\n")
	book, err := briskwarden.OpenFS(fstest.MapFS{"rulebook.warden": {Data: []byte(b.String())}})
	require.NoError(t, err)
	for _, years := range []int{2, 70} {
		from := time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC)
		span := prove.Span{From: from, Until: from.AddDate(years, 0, 0)}
		ctx, cancel := context.WithTimeout(t.Context(), 50*time.Millisecond)
		begun := time.Now()
		r, err := prove.Promises(ctx, book, span)
		require.NoError(t, err)
		require.Equal(t, prove.Undecided, r.Promises[0].Answer)
		c, err := prove.Compare(ctx, book, book, span, prove.Scope{})
		require.NoError(t, err)
		require.NotEmpty(t, c.Undecided)
		require.False(t, c.Same)
		require.Less(t, time.Since(begun), 4*time.Second, "%d years", years)
		cancel()
	}
}

// TestTurnsCountOnce: schedules that open and close at the same time take no more memory than one.
func TestTurnsCountOnce(t *testing.T) {
	var b strings.Builder
	b.WriteString("rulebook r { unmatched block }\nuser ann { methods password }\napp a { }\n")
	for i := range 15 {
		fmt.Fprintf(&b, "schedule s%d { mon-fri 08:00-16:00 }\npolicy p%d { who everyone  to app a  case \"c\" when time in s%d => grant  otherwise => abstain }\n", i, i, i)
	}
	b.WriteString("promise \"q\" { who everyone  to everything  when time not in s0  never grant }\n")
	book, err := briskwarden.OpenFS(fstest.MapFS{"rulebook.warden": {Data: []byte(b.String())}})
	require.NoError(t, err)
	from := time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC)
	r, err := prove.Promises(t.Context(), book, prove.Span{From: from, Until: from.AddDate(99, 0, 0)})
	require.NoError(t, err)
	require.Equal(t, prove.Holds, r.Promises[0].Answer, r.Promises[0].Hard)
}
