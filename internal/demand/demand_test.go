package demand_test

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"briskwarden.example/briskwarden/internal/demand"
	"briskwarden.example/briskwarden/language"
	"briskwarden.example/briskwarden/language/ast"
	"briskwarden.example/briskwarden/language/token"
)

// parse reads declarations of named demands; the one named "it" is what is asked.
func parse(t *testing.T, src string, methods ...demand.Method) (*demand.Methods, *demand.Demand, token.ErrorList) {
	t.Helper()
	tree, err := language.Parse("x.warden", []byte(src))
	require.NoError(t, err)
	table, err := demand.NewMethods(append(demand.BuiltIn(), methods...))
	require.NoError(t, err)
	names := &demand.Names{Methods: table, Named: map[string]ast.Demand{}, Baseline: func(ast.Name) (int, bool) { return 0, true }}
	for _, d := range tree.Decls {
		named := d.(*ast.NamedDemand)
		names.Named[named.Name.Text] = named.Demand
	}
	var errors token.ErrorList
	for _, d := range tree.Decls {
		names.CompileNamed(d.(*ast.NamedDemand), &errors)
	}
	return table, names.Compile(names.Named["it"], &errors), errors
}

type posture bool

func (p posture) Meets(int) bool { return bool(p) }

type enrolment bool

func (e enrolment) MayEnrol() bool { return bool(e) }

func setOf(t *testing.T, table *demand.Methods, names string) (s demand.Set) {
	t.Helper()
	for _, n := range strings.Fields(names) {
		m, ok := table.Lookup(n)
		require.True(t, ok, n)
		s.Add(m.ID)
	}
	return s
}

func namesOf(table *demand.Methods, sets []demand.Set) string {
	var texts []string
	for _, s := range sets {
		var names []string
		s.Each(func(id int) { names = append(names, table.All()[id].Name) })
		texts = append(texts, strings.Join(names, "+"))
	}
	return strings.Join(texts, " ")
}

var now = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)

// TestPlans says what is to be done about a demand, for people enrolled in this and that.
func TestPlans(t *testing.T) {
	tap := demand.Method{Name: "tap", Kind: demand.Possession, Hardware: true, PhishingResistant: true, VerifiesUser: true}
	for _, c := range []struct {
		demands, enrolled, presented string
		meets                        bool
		lifts                        string // methods
		verify, enrol                string
		change                       bool
		mend                         int
	}{
		{demands: "demand it { passkey or security-key and password }", enrolled: "password security-key passkey", verify: "passkey password+security-key"},
		{demands: "demand it { passkey or security-key and password }", enrolled: "password security-key", verify: "password+security-key"},
		{demands: "demand it { passkey or security-key and password }", enrolled: "password security-key", presented: "password", verify: "security-key"},
		{demands: "demand it { passkey or passkey and password }", enrolled: "password passkey", verify: "passkey"},
		{demands: "demand it { aal2 }", enrolled: "password pin app-code passkey", verify: "passkey password+app-code pin+app-code"},
		{demands: "demand it { aal2 }", enrolled: "password pin app-code", presented: "pin", verify: "app-code"},
		{demands: "demand it { aal3 }", enrolled: "password security-key", verify: "password+security-key"},
		{demands: "demand it { aal3 and password }", enrolled: "password security-key tap", verify: "password+tap password+security-key"},
		{demands: "demand it { aal3 }", enrolled: "password app-code", enrol: "passkey smart-card tap security-key"},
		{demands: "demand it { passkey }", enrolled: "password", enrol: "passkey"},
		{demands: "demand it { passkey or app-code and pin }", enrolled: "password", enrol: "passkey"},
		{demands: "demand it { password and enrol passkey }", enrolled: "password", verify: "password", enrol: "passkey"},
		{demands: "demand it { password and change-password }", enrolled: "password", verify: "password", change: true},
		{demands: "demand it { change-password or password }", enrolled: "password", verify: "password"},
		{demands: "demand it { (device meets b or passkey) and password }", enrolled: "password passkey", verify: "password+passkey"},
		{demands: "demand it { device meets b and password }", enrolled: "password", verify: "password", mend: 1},
		{demands: "demand it { device meets b and password }", enrolled: "password", meets: true, verify: "password"},
		{demands: "demand it { device meets b and password and device meets b }", enrolled: "password", verify: "password", mend: 1},
		{demands: "demand it { device meets b and passkey }", enrolled: "password", enrol: "passkey", mend: 1},
		{demands: "demand two { app-code and pin } demand it { password and two }", enrolled: "password app-code", lifts: "pin", verify: "password+app-code"},
		{demands: "demand it { passkey or pin }", enrolled: "passkey", lifts: "pin", verify: "passkey"},
		{demands: "demand it { password and pin }", enrolled: "password pin", lifts: "pin password"},
	} {
		table, it, errors := parse(t, c.demands, tap)
		require.Empty(t, errors, c.demands)
		p := &demand.Proof{Methods: table, Enrolled: setOf(t, table, c.enrolled), Presented: setOf(t, table, c.presented), Now: now,
			Posture: posture(c.meets), Enrolment: enrolment(false)}
		terms := &demand.Terms{}
		if c.lifts != "" {
			terms.Lifts = []*demand.Lift{{Methods: setOf(t, table, c.lifts)}}
		}
		var planner demand.Planner
		for range 2 { // the second time in used space
			plan := planner.Together(p, []demand.Asked{{Demand: it, Terms: terms}})
			require.Equal(t, c.verify, namesOf(table, plan.Verify), "verify: %+v", c)
			require.Equal(t, c.enrol, namesOf(table, plan.Enrol), "enrol: %+v", c)
			require.Equal(t, c.change, plan.Change, "%+v", c)
			require.Len(t, plan.Baselines, c.mend, "%+v", c)
			require.Len(t, it.Baselines(), strings.Count(c.demands, "device meets"), c.demands)
		}
	}
}

// TestUnknownNamesAreHelped names what is near, or what there is, and counts what it leaves out.
func TestUnknownNamesAreHelped(t *testing.T) {
	names := make([]string, 43)
	for i := range names {
		names[i] = fmt.Sprintf("demand-%02d", i)
	}
	require.Equal(t, `did you mean "demand-07"?`, demand.NearestOrAll("demmand-07", names))
	require.Equal(t, "known here: "+strings.Join(names[:40], ", "), demand.NearestOrAll("x", names[:40]))
	require.Equal(t, "known here: "+strings.Join(names[:40], ", ")+" and 3 more", demand.NearestOrAll("x", names))
}

// TestReachIsMonotone checks that more methods never reach less, and that levels are nested.
func TestReachIsMonotone(t *testing.T) {
	table, err := demand.NewMethods(demand.BuiltIn())
	require.NoError(t, err)
	r := rand.New(rand.NewPCG(3, 4))
	for range 20000 {
		s := demand.Set(r.Uint64N(1 << 16))
		more := s | demand.Set(r.Uint64N(1<<16))
		require.LessOrEqual(t, table.Level(s), table.Level(more))
		for level := 2; level <= 3; level++ {
			if table.Reach(level, s) {
				require.True(t, table.Reach(level-1, s))
			}
		}
	}
	for names, level := range map[string]int{"": 0, "password": 1, "password pin": 1, "password app-code": 2, "passkey": 3, "security-key": 1,
		"security-key certificate": 1, "security-key face": 3, "smart-card": 3, "fingerprint face": 1, "face push": 2} {
		require.Equal(t, level, table.Level(setOf(t, table, names)), names)
	}
}

func TestDeclaredMethodsReplaceAndAreLimited(t *testing.T) {
	weak := demand.Method{Name: "passkey", Kind: demand.Knowledge}
	table, err := demand.NewMethods(append(demand.BuiltIn(), weak))
	require.NoError(t, err)
	require.Len(t, table.All(), len(demand.BuiltIn()))
	require.Equal(t, 1, table.Level(setOf(t, table, "passkey")))
	many := demand.BuiltIn()
	for len(many) <= demand.MaxMethods {
		many = append(many, demand.Method{Name: strings.Repeat("x", len(many))})
	}
	_, err = demand.NewMethods(many)
	require.ErrorContains(t, err, "at most 64 methods")
}

func TestDemandsOfDemandsAreBounded(t *testing.T) {
	var src strings.Builder
	src.WriteString("demand d0 { pin and password }\n")
	for i := range 30 {
		a, b := strings.Repeat("i", i), strings.Repeat("i", i+1)
		if i == 0 {
			a = "d0"
		}
		src.WriteString("demand " + b + " { " + a + " and " + a + " }\n")
	}
	src.WriteString("demand it { " + strings.Repeat("i", 30) + " }\n")
	_, _, errors := parse(t, src.String())
	require.NotEmpty(t, errors)
	require.Contains(t, errors[0].Msg, "more than 4096 parts")
	for atoms, refused := range map[int]bool{4095: false, 4096: true} { // and one "or"
		_, _, errors := parse(t, "demand it { password"+strings.Repeat(" or pin", atoms-1)+" }")
		require.Equal(t, refused, len(errors) > 0)
	}
}

func TestGrace(t *testing.T) {
	table, it, errors := parse(t, "demand it { password and enrol passkey grace 7d and enrol app-code }")
	require.Empty(t, errors)
	p := &demand.Proof{Methods: table, Enrolled: setOf(t, table, "password app-code"), Presented: setOf(t, table, "password"), Now: now, Posture: posture(false), Enrolment: enrolment(false)}
	at := func(joined, enforced, now time.Time) (met bool, graces int) {
		p.Joined, p.Now = joined, now
		terms := &demand.Terms{Enforced: enforced}
		return it.Met(p, terms), len(it.Graces(p, terms))
	}
	day := 24 * time.Hour
	for _, c := range []struct {
		joined, enforced time.Time
		met              bool
	}{
		{time.Time{}, time.Time{}, false},
		{now.Add(-7 * day), time.Time{}, false},
		{now.Add(-7*day + time.Second), time.Time{}, true},
		{now.Add(-30 * day), now.Add(-day), true},
		{now.Add(-day), now.Add(-30 * day), true},
		{time.Time{}, now.Add(5 * day), true},
		{now.Add(-30 * day), now.Add(-8 * day), false},
	} {
		met, graces := at(c.joined, c.enforced, now)
		require.Equal(t, c.met, met, "%+v", c)
		require.Equal(t, map[bool]int{true: 1, false: 0}[c.met], graces)
	}
}
