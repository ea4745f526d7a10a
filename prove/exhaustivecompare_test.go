package prove

import (
	"cmp"
	"context"
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"briskwarden.example/briskwarden"
	"briskwarden.example/briskwarden/internal/bridge"
	"briskwarden.example/briskwarden/internal/possible/possibletest"
	"briskwarden.example/briskwarden/language/parser"
	"briskwarden.example/briskwarden/signon"
)

// goes is how some sign-on of somebody comes out, before and now.
type goes struct {
	user, app, action string
	from, to          signon.Outcome
	session           string // what becomes of its limits
}

// TestComparisonsAgreeWithAllSignOns decides all sign-ons of small rulebooks by two variants of each.
func TestComparisonsAgreeWithAllSignOns(t *testing.T) {
	const shards = 4
	for shard := range uint64(shards) {
		t.Run(fmt.Sprint(shard), func(t *testing.T) {
			t.Parallel()
			different, compared := 0, 0
			for seed := shard; compared < *rulebooks/shards; seed += shards {
				if !possibletest.New(seed).Few() {
					continue
				}
				a, b := possibletest.Begun(seed, 0), possibletest.Begun(seed, 1)
				text := a.Text() + b.Text()
				if a.Complete(text); a.Few() {
					different += agreeBoth(t, a, b, fmt.Sprintf("seed %d\n%s", seed, text))
					compared++
				}
			}
			require.Greater(t, different, compared/3)
		})
	}
}

// becomes tells whether a limit, as it is written, stays (=), grows or goes (+), or comes or shrinks (-).
func becomes(before, after string) string {
	long := func(text string) time.Duration {
		if text == "" {
			return time.Duration(1<<63 - 1)
		}
		d, err := parser.ParseDuration(text)
		if err != nil {
			panic(err)
		}
		return d.Elapsed()
	}
	return map[int]string{0: "=", -1: "+", 1: "-"}[cmp.Compare(long(before), long(after))]
}

func agreeBoth(t *testing.T, a, b *possibletest.Small, message string) (different int) {
	var rules [2]*briskwarden.Rulebook
	for i, s := range []*possibletest.Small{a, b} {
		var err error
		rules[i], err = briskwarden.OpenFS(s.Files, briskwarden.WithClock(func() time.Time { return possibletest.Start }))
		require.NoError(t, err, message)
	}
	want := map[goes]bool{}
	action := a.Pick("sign-on", "sign-on", "enrol-method")
	a.Each(possibletest.Users, possibletest.Apps, func(so *signon.SignOn) {
		so.Action = action
		var out [2]signon.Outcome
		var limits [2]signon.SessionLimits
		for i := range rules {
			var d signon.Decision
			require.NoError(t, bridge.Engine(rules[i]).Decide(context.Background(), so, &d, false))
			out[i], limits[i] = d.Outcome, d.Session
		}
		session := ""
		if out[0] == signon.Grant && out[1] == signon.Grant {
			session = becomes(limits[0].Lifetime, limits[1].Lifetime) + becomes(limits[0].Idle, limits[1].Idle)
		}
		if out[0] != out[1] || session != "" && session != "==" {
			want[goes{so.User, so.App, action, out[0], out[1], session}] = true
		}
	})
	c, err := Compare(context.Background(), rules[0], rules[1], Span{Until: possibletest.Start.AddDate(0, 0, 4)}, Scope{})
	require.NoError(t, err, message)
	got := map[goes]bool{}
	for _, d := range c.Differences {
		session := ""
		if d.Session != nil {
			for _, x := range []*Change{d.Session.Lasts, d.Session.Idle} {
				if x == nil {
					x = &Change{}
				}
				session += becomes(x.Before, x.After)
			}
		}
		for _, user := range d.People {
			for _, app := range d.Apps {
				for _, x := range d.Actions {
					if x == action {
						got[goes{user, app, x, d.From, d.To, session}] = true
					}
				}
			}
		}
	}
	require.Equal(t, want, got, message)
	require.Equal(t, len(c.Differences) == 0, c.Same, message)
	if len(want) > 0 {
		return 1
	}
	return 0
}
