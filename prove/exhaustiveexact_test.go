package prove

import (
	"context"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/require"

	"briskwarden.example/briskwarden"
	"briskwarden.example/briskwarden/findings"
	"briskwarden.example/briskwarden/internal/bridge"
	"briskwarden.example/briskwarden/internal/condition"
	"briskwarden.example/briskwarden/internal/engine"
	"briskwarden.example/briskwarden/internal/known"
	"briskwarden.example/briskwarden/internal/possible/possibletest"
	"briskwarden.example/briskwarden/internal/rulebook"
	"briskwarden.example/briskwarden/signon"
)

// TestExactFindingsAgreeWithAllSignOns looks at all sign-ons of small rulebooks, by each with and without
// every policy and waiver.
func TestExactFindingsAgreeWithAllSignOns(t *testing.T) {
	const shards = 4
	found := make([]map[string]int, shards)
	t.Run("all", func(t *testing.T) {
		for shard := range uint64(shards) {
			found[shard] = map[string]int{}
			t.Run(fmt.Sprint(shard), func(t *testing.T) {
				t.Parallel()
				compared := 0
				for seed := shard + 7; compared < *rulebooks/shards; seed += shards {
					if s := possibletest.New(seed); s.Few() {
						agreeExactly(t, seed, s, found[shard])
						compared++
					}
				}
			})
		}
	})
	for _, code := range []string{findings.CaseNeverTaken, findings.PolicyWithoutEffect, findings.WaiverWithoutEffect, findings.LockedOut, findings.AppLocked} {
		all := 0
		for _, counts := range found {
			all += counts[code]
		}
		require.Positive(t, all, code)
	}
}

func agreeExactly(t *testing.T, seed uint64, s *possibletest.Small, counts map[string]int) {
	text := s.Text()
	message := fmt.Sprintf("seed %d\n%s", seed, text)
	open := func(text string) *engine.Engine {
		files := fstest.MapFS{}
		for name, f := range s.Files {
			files[name] = f
		}
		files["rulebook.warden"] = &fstest.MapFile{Data: []byte(text)}
		rules, err := briskwarden.OpenFS(files, briskwarden.WithClock(func() time.Time { return possibletest.Start }))
		require.NoError(t, err, text)
		return bridge.Engine(rules)
	}
	e := open(text)
	rb := e.Rulebook()
	without := map[string]*engine.Engine{}
	for _, block := range regexp.MustCompile(`(?ms)^(policy p\d|waiver w) \{.*?\}\n`).FindAllString(text, -1) {
		without[strings.Fields(block)[1]] = open(strings.Replace(text, block, "", 1))
	}
	taken, effect, force, in, reached := map[string]bool{}, map[string]bool{}, map[string]bool{}, map[string]bool{}, map[string]bool{}
	look := func(so *signon.SignOn) {
		v, err := e.Judge(context.Background(), so, &engine.Question{})
		if err != nil {
			require.NoError(t, err)
		}
		p := rb.People[so.User]
		for name, other := range without {
			w, err := other.Judge(context.Background(), so, &engine.Question{})
			if err != nil {
				require.NoError(t, err)
			}
			effect[name] = effect[name] || w.Outcome != v.Outcome
		}
		_ = e.Probe(context.Background(), so, func(f condition.Facts) {
			if !p.BreakGlass {
				lookAt(rb, p, so, f, taken, force)
			}
		})
		own := func(method string) bool {
			m, is := rb.Methods.Lookup(method)
			return !is || p.Methods.Has(m.ID)
		}
		proves := !slices.ContainsFunc(so.Presented, func(m string) bool { return !own(m) }) &&
			!slices.ContainsFunc(so.Evidence, func(x signon.Evidence) bool { return !own(x.Method) })
		if so.Action == "sign-on" && v.Outcome != signon.Block && proves && !p.BreakGlass {
			in[so.User], reached[so.App] = true, true
		}
	}
	s.Each(possibletest.Users, possibletest.Apps, func(so *signon.SignOn) {
		for _, action := range []string{"sign-on", "enrol-method"} {
			so.Action = action
			look(so)
		}
	})
	var want []string
	for _, p := range rb.Policies {
		for i := range p.Cases[:len(p.Cases)-1] {
			label := p.Cases[i].Label
			switch {
			case alwaysDraft(p) || taken[p.Name+label+" surely"]:
			case taken[p.Name+label]:
				want = append(want, fmt.Sprintf("%s %s %s open", findings.CaseNeverTaken, p.Name, label))
			default:
				want = append(want, fmt.Sprintf("%s %s %s", findings.CaseNeverTaken, p.Name, label))
			}
		}
		if force[p.Name] && !effect[p.Name] && p.Session == (rulebook.Session{}) {
			want = append(want, findings.PolicyWithoutEffect+" "+p.Name)
		}
	}
	for _, w := range rb.Waivers {
		if force[w.Name] && !effect[w.Name] {
			want = append(want, findings.WaiverWithoutEffect+" "+w.Name)
		}
	}
	for _, user := range []string{"ada", "ben", "eli"} {
		if !in[user] {
			want = append(want, findings.LockedOut+" "+user)
		}
	}
	if p := rb.People["key"]; !p.BreakGlass && !in["key"] {
		want = append(want, findings.LockedOut+" key")
	}
	for _, app := range []string{"ledger", "roster"} {
		if !reached[app] {
			want = append(want, findings.AppLocked+" "+app)
		}
	}
	report, err := findings.Read(context.Background(), s.Files, findings.Options{At: possibletest.Start.Format(time.RFC3339), Exact: true, Span: findings.Span{Until: "2026-12-01"}})
	require.NoError(t, err, message)
	require.Empty(t, report.Undecided)
	var got []string
	for _, f := range report.Findings {
		words := regexp.MustCompile(`"c\d"|p\d|\bw\b|\bada\b|\bben\b|\beli\b|\bcil\b|\bkey\b|\bledger\b|\broster\b`).FindAllString(f.Message, -1)
		switch f.Code {
		case findings.CaseNeverTaken:
			got = append(got, fmt.Sprintf("%s %s %s", f.Code, words[1], strings.Trim(words[0], `"`))+map[bool]string{true: " open"}[strings.Contains(f.Message, "some only")])
		case findings.PolicyWithoutEffect, findings.WaiverWithoutEffect, findings.LockedOut, findings.AppLocked:
			got = append(got, f.Code+" "+words[0])
		default:
			continue
		}
		counts[f.Code]++
	}
	require.ElementsMatch(t, want, got, message)
}

// lookAt notes the cases that are taken or left open, and what is in force.
func lookAt(rb *rulebook.Rulebook, p *rulebook.Person, so *signon.SignOn, f condition.Facts, taken, force map[string]bool) {
	for _, x := range rb.Policies {
		if !x.Who.Holds(p) || !x.To.Holds(rb.Apps[so.App]) || !x.Within(so.Action) {
			continue
		}
		force[x.Name] = force[x.Name] || x.StageOf(p, so.Time) == rulebook.Enforce
		for i := range x.Cases {
			is := known.True
			if when := x.Cases[i].When; when != nil {
				is = when.Eval(f)
			}
			if is != known.False {
				taken[x.Name+x.Cases[i].Label] = true
			}
			if is == known.True {
				taken[x.Name+x.Cases[i].Label+" surely"] = true
			}
			if is == known.True {
				break
			}
		}
	}
	for _, w := range rb.Waivers {
		if w.Who.Holds(p) && w.To.Holds(rb.Apps[so.App]) && so.Time.Before(w.Until) && (w.When == nil || w.When.Eval(f) == known.True) {
			force[w.Name] = true
		}
	}
}

func alwaysDraft(p *rulebook.Policy) bool {
	for _, s := range p.Stages {
		if s.Stage != rulebook.Draft {
			return false
		}
		if s.For == nil && s.From.IsZero() {
			return true
		}
	}
	return false
}
