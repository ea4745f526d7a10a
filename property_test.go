package briskwarden_test

import (
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"briskwarden.example/briskwarden/language"
	"briskwarden.example/briskwarden/signon"
)

// removals are the sign-ons that lack one thing which s has.
func removals(s signon.SignOn) map[string]signon.SignOn {
	less := map[string]signon.SignOn{}
	with := func(name string, change func(*signon.SignOn)) {
		c := s
		c.Presented, c.Evidence = slices.Clone(s.Presented), slices.Clone(s.Evidence)
		if s.Device != nil {
			d := *s.Device
			c.Device = &d
		}
		change(&c)
		less[name] = c
	}
	with("address", func(c *signon.SignOn) { c.IP = signon.SignOn{}.IP })
	with("country", func(c *signon.SignOn) { c.Country = "" })
	with("client", func(c *signon.SignOn) { c.Client = "" })
	with("session", func(c *signon.SignOn) { c.Session = signon.Session{} })
	with("session start", func(c *signon.SignOn) { c.Session.Started = signon.SignOn{}.Time })
	with("risk", func(c *signon.SignOn) { c.Risk = nil })
	with("device", func(c *signon.SignOn) { c.Device = nil })
	if s.Device != nil {
		with("device id", func(c *signon.SignOn) { c.Device.ID = "" })
		with("device os", func(c *signon.SignOn) { c.Device.OS = "" })
		with("device form", func(c *signon.SignOn) { c.Device.Form = "" })
		with("device version", func(c *signon.SignOn) { c.Device.Version = "" })
		with("device encrypted", func(c *signon.SignOn) { c.Device.Encrypted = signon.Unknown })
		with("device reported", func(c *signon.SignOn) { c.Device.Reported = signon.SignOn{}.Time })
	}
	for i := range s.Presented {
		with("presented "+s.Presented[i], func(c *signon.SignOn) { c.Presented = slices.Delete(c.Presented, i, i+1) })
	}
	for i := range s.Evidence {
		with("evidence "+s.Evidence[i].Method, func(c *signon.SignOn) { c.Evidence = slices.Delete(c.Evidence, i, i+1) })
		with("evidence session", func(c *signon.SignOn) { c.Evidence[i].Session = "" })
		with("evidence device", func(c *signon.SignOn) { c.Evidence[i].Device = "" })
		with("evidence app", func(c *signon.SignOn) { c.Evidence[i].App = "" })
	}
	return less
}

func TestMissingFactsOnlyTighten(t *testing.T) {
	tightened := 0
	for seed := range uint64(150) {
		m := newOracleModel(seed, true)
		rules := m.open(t)
		for range 60 {
			s := m.signOn().forEngine()
			full, err := rules.Decide(t.Context(), s)
			require.NoError(t, err)
			for what, less := range removals(s) {
				d, err := rules.Decide(t.Context(), less)
				require.NoError(t, err)
				switch {
				case d.Outcome > full.Outcome:
					t.Fatalf("seed %d: without its %s the sign-on gets further\n%s\n%+v", seed, what, m.source(), s)
				case d.Outcome < full.Outcome:
					tightened++
				}
			}
		}
	}
	require.Greater(t, tightened, 1000, "the sample must hold facts that matter")
}

func TestAddedPolicyOnlyTightens(t *testing.T) {
	tightened := 0
	for seed := range uint64(300) {
		m := newOracleModel(seed, false)
		before := m.open(t)
		added := m.policy("q0")
		added.doing, added.stages = "sign-on", nil
		extended := *m
		extended.policies = append(slices.Clone(m.policies), added)
		after := extended.open(t)
		for range 60 {
			c := m.signOn()
			c.action = "sign-on"
			if c.user == nil || c.user.glass || !c.decide().spoken {
				continue
			}
			s := c.forEngine()
			a, err := before.Decide(t.Context(), s)
			require.NoError(t, err)
			b, err := after.Decide(t.Context(), s)
			require.NoError(t, err)
			switch {
			case b.Outcome > a.Outcome:
				t.Fatalf("seed %d: the policy q0 loosens\n%s\n%+v", seed, extended.source(), s)
			case b.Outcome < a.Outcome:
				tightened++
			}
		}
	}
	require.Greater(t, tightened, 150, "the sample must hold policies that matter")
}

var lineNumbers = regexp.MustCompile(`(\.warden):\d+`)

// TestFormattingKeepsDecisions decides by random rulebooks before and after they are laid out.
func TestFormattingKeepsDecisions(t *testing.T) {
	for seed := range uint64(80) {
		m := newOracleModel(seed, false)
		tidy, err := language.Format("rulebook.warden", []byte(m.source()))
		require.NoError(t, err)
		before, after := m.open(t), open(t, string(tidy))
		for range 30 {
			s := m.signOn().forEngine()
			a, err := before.Explain(t.Context(), s)
			require.NoError(t, err)
			b, err := after.Explain(t.Context(), s)
			require.NoError(t, err)
			for _, d := range []*signon.Decision{&a, &b} {
				d.Rulebook = ""
				for i := range d.Explanation.Policies {
					e := &d.Explanation.Policies[i]
					e.At, e.Why = "", lineNumbers.ReplaceAllString(e.Why, "") // lines move
				}
				if r := d.Explanation.Risk; r != nil {
					for i := range r.Factors {
						r.Factors[i].Why = lineNumbers.ReplaceAllString(r.Factors[i].Why, "")
					}
				}
				d.Explanation.Deciding = nil
				if w := d.Explanation.Watch; w != nil {
					w.Policies = nil
				}
			}
			require.Equal(t, a, b, "seed %d\n%s", seed, tidy)
		}
	}
}

// TestVerifyListsEverySmallestSet holds the sets in "verify" against all sets of the methods
// that the person is enrolled in.
func TestVerifyListsEverySmallestSet(t *testing.T) {
	checked := 0
	for seed := range uint64(400) {
		m := newOracleModel(seed, false)
		rules := m.open(t)
		for range 40 {
			c := m.signOn()
			d, err := rules.Decide(t.Context(), c.forEngine())
			require.NoError(t, err)
			if d.Outcome != signon.StepUp || len(d.Next) != 1 || d.Next[0].Do != signon.Verify {
				continue
			}
			var want []string
			for _, set := range subsets(c.user.methods) {
				smaller := slices.ContainsFunc(want, func(w string) bool { return subset(strings.Split(w, "+"), set) })
				if len(set) > 0 && !smaller && c.presenting(set).decide().outcome == signon.Grant {
					want = append(want, strings.Join(set, "+"))
				}
			}
			var got []string
			for _, set := range d.Next[0].AnyOf {
				slices.Sort(set)
				got = append(got, strings.Join(set, "+"))
			}
			require.ElementsMatch(t, want, got, "seed %d\n%s\n%+v", seed, m.source(), c.forEngine())
			checked++
		}
	}
	require.Greater(t, checked, 500)
}

// presenting is the same sign-on with more methods presented.
func (c *oracleCase) presenting(methods []string) *oracleCase {
	more := *c
	more.enrolling = 0
	more.presented = map[string]bool{}
	for m := range c.presented {
		more.presented[m] = true
	}
	for _, m := range methods {
		more.presented[m] = true
	}
	return &more
}

// subsets lists all subsets, smaller ones first.
func subsets(list []string) (all [][]string) {
	sorted := slices.Sorted(slices.Values(list))
	for bits := range 1 << len(sorted) {
		var set []string
		for i, m := range sorted {
			if bits&(1<<i) != 0 {
				set = append(set, m)
			}
		}
		all = append(all, set)
	}
	slices.SortStableFunc(all, func(a, b []string) int { return len(a) - len(b) })
	return all
}

func subset(small, large []string) bool {
	return !slices.ContainsFunc(small, func(s string) bool { return !slices.Contains(large, s) })
}
