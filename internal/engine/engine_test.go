package engine_test

import (
	"context"
	"fmt"
	"net/netip"
	"strconv"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/require"

	"briskwarden.example/briskwarden/internal/directory"
	"briskwarden.example/briskwarden/internal/engine"
	"briskwarden.example/briskwarden/internal/history"
	"briskwarden.example/briskwarden/internal/known"
	"briskwarden.example/briskwarden/internal/place"
	"briskwarden.example/briskwarden/internal/posture"
	"briskwarden.example/briskwarden/internal/rulebook"
	"briskwarden.example/briskwarden/signon"
)

var noon = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)

type atlas map[string]string

func (a atlas) Locate(_ context.Context, addr netip.Addr) (place.Location, error) {
	return place.Location{Country: a[addr.String()]}, nil
}

type fleet map[string]*posture.Record

func (f fleet) Device(_ context.Context, id string) (*posture.Record, error) { return f[id], nil }

// memory answers by the country and device that it is asked about.
type memory struct{ asked []history.Query }

func (m *memory) Before(q *history.Query) history.Facts {
	m.asked = append(m.asked, *q)
	f := history.Facts{OddHour: known.False, TravelSpeed: 1200, TravelKnown: true}
	if q.Country != "" {
		f.NewCountry = known.Of(q.Country != "NO")
	}
	if q.Device != "" {
		f.NewDevice = known.Of(q.Device != "tab")
	}
	return f
}

// staff are the people of a directory outside.
type staff map[string]directory.Person

func (s staff) Person(_ context.Context, id string) (directory.Person, bool, error) {
	p, ok := s[id]
	return p, ok, nil
}

// TestSourcesMayChange: what a program supplies is asked anew for every sign-on.
func TestSourcesMayChange(t *testing.T) {
	people, devices := staff{"ann": {ID: "ann"}}, fleet{"tab": {Device: signon.Device{ID: "tab", Managed: signon.Yes}}}
	rb := rulebook.Load(fstest.MapFS{"rulebook.warden": {Data: []byte("rulebook r { floor none }\napp news { }\n" +
		`policy p { who everyone to app news case "ours" when device.managed => grant otherwise => block }`)}}, rulebook.Options{OutsidePeople: true})
	require.NoError(t, rb.Diagnostics.Err())
	e := engine.New(rb, engine.Sources{People: people, Inventory: devices})
	outcome := func() signon.Outcome {
		var d signon.Decision
		require.NoError(t, e.Decide(t.Context(), &signon.SignOn{User: "ann", App: "news", Device: &signon.Device{ID: "tab"}}, &d, false))
		return d.Outcome
	}
	require.Equal(t, signon.Grant, outcome())
	devices["tab"] = &posture.Record{Device: signon.Device{ID: "tab", Managed: signon.No}}
	require.Equal(t, signon.Block, outcome(), "the device is no longer managed")
	delete(devices, "tab")
	require.Equal(t, signon.Block, outcome(), "nor known")
	devices["tab"] = &posture.Record{Device: signon.Device{ID: "tab", Managed: signon.Yes}}
	require.Equal(t, signon.Grant, outcome())
	people["ann"] = directory.Person{ID: "ann", Disabled: true}
	require.Equal(t, signon.Block, outcome(), "the user is disabled")
}

func newEngine(t *testing.T, src string, sources engine.Sources) *engine.Engine {
	t.Helper()
	return engineOf(t, fstest.MapFS{"rulebook.warden": {Data: []byte(src)}}, sources)
}

// engineOf is newEngine of a rulebook of several files.
func engineOf(t *testing.T, files fstest.MapFS, sources engine.Sources) *engine.Engine {
	t.Helper()
	rb := rulebook.Load(files, rulebook.Options{})
	require.NoError(t, rb.Diagnostics.Err())
	sources.Clock = func() time.Time { return noon }
	return engine.New(rb, sources)
}

// taken are the cases that gave the outcome, those that are not sure with a question mark.
func taken(t *testing.T, e *engine.Engine, s signon.SignOn) string {
	t.Helper()
	var d signon.Decision
	s.User, s.App = "ann", "news"
	require.NoError(t, e.Decide(t.Context(), &s, &d, true))
	var cases []string
	for _, x := range d.Explanation.Policies {
		cases = append(cases, x.Case+map[bool]string{false: "?"}[x.Sure])
	}
	return strings.Join(cases, " ")
}

const head = "rulebook r { floor none }\nattribute device.team word\nuser ann { }\napp news { }\n"

// TestSources asks, of each fact that a source supplies, whether it is true, then whether it is false.
func TestSources(t *testing.T) {
	past := &memory{}
	sources := engine.Sources{
		Places: atlas{"192.0.2.1": "NO", "192.0.2.2": "PT"},
		Inventory: fleet{
			"tab": {Device: signon.Device{Managed: signon.Yes, OS: "android", Version: "9", Encrypted: signon.No, Reported: noon.Add(-time.Hour),
				Attributes: map[string]any{"team": "deck"}}, Owner: "ann"},
			"lap": {Device: signon.Device{Managed: signon.No}, Owner: "bob"},
		},
		History: past,
	}
	addr := netip.MustParseAddr
	yes := signon.Yes
	for _, c := range []struct {
		fact string
		s    signon.SignOn
		want string // true, false or unknown
	}{
		{"country is NO", signon.SignOn{IP: addr("192.0.2.1")}, "true"},
		{"country is NO", signon.SignOn{IP: addr("::ffff:192.0.2.1")}, "true"},
		{"country is NO", signon.SignOn{IP: addr("192.0.2.1"), Country: "PT"}, "false"},
		{"country is NO", signon.SignOn{IP: addr("192.0.2.9")}, "unknown"},
		{"country is NO", signon.SignOn{}, "unknown"},
		{"device.managed", signon.SignOn{Device: &signon.Device{ID: "tab"}}, "true"},
		{"device.managed", signon.SignOn{Device: &signon.Device{ID: "lap", Managed: yes}}, "false"},
		{"device.managed", signon.SignOn{Device: &signon.Device{ID: "own", Managed: yes}}, "true"},
		{"device.managed", signon.SignOn{Device: &signon.Device{ID: "own"}}, "false"},
		{"device.managed", signon.SignOn{}, "unknown"},
		{"device.compliant", signon.SignOn{Device: &signon.Device{ID: "tab", Compliant: yes}}, "true"},
		{"device.encrypted", signon.SignOn{Device: &signon.Device{ID: "tab", Encrypted: yes}}, "true"},
		{"device.encrypted", signon.SignOn{Device: &signon.Device{ID: "tab"}}, "false"},
		{"device.encrypted", signon.SignOn{Device: &signon.Device{ID: "lap"}}, "unknown"},
		{"device.version >= 10", signon.SignOn{Device: &signon.Device{ID: "tab", Version: "10.1"}}, "true"},
		{"device.version >= 10", signon.SignOn{Device: &signon.Device{ID: "tab"}}, "false"},
		{"device.os is android", signon.SignOn{Device: &signon.Device{ID: "tab"}}, "true"},
		{"device.reported within 2h", signon.SignOn{Device: &signon.Device{ID: "tab"}}, "true"},
		{"device.reported within 2h", signon.SignOn{Device: &signon.Device{ID: "tab", Reported: noon.Add(-3 * time.Hour)}}, "false"},
		{"device.owned", signon.SignOn{Device: &signon.Device{ID: "tab"}}, "true"},
		{"device.owned", signon.SignOn{Device: &signon.Device{ID: "lap"}}, "false"},
		{"device.owned", signon.SignOn{Device: &signon.Device{ID: "own"}}, "unknown"},
		{"device.team is deck", signon.SignOn{Device: &signon.Device{ID: "tab"}}, "true"},
		{"device.team is deck", signon.SignOn{Device: &signon.Device{ID: "own", Attributes: map[string]any{"team": "deck"}}}, "unknown"},
		{"new.country", signon.SignOn{IP: addr("192.0.2.2")}, "true"},
		{"new.country", signon.SignOn{IP: addr("192.0.2.1")}, "false"},
		{"new.country", signon.SignOn{}, "unknown"},
		{"new.device", signon.SignOn{Device: &signon.Device{ID: "lap"}}, "true"},
		{"new.device", signon.SignOn{Device: &signon.Device{}}, "unknown"},
		{"odd.hour", signon.SignOn{}, "false"},
		{"travel.speed > 900", signon.SignOn{}, "true"},
	} {
		e := newEngine(t, head+"policy p { who everyone to everything case \"yes\" when "+c.fact+" => grant case \"no\" when not "+c.fact+
			" => grant otherwise => block }\n", sources)
		want := map[string]string{"true": "yes", "false": "no", "unknown": "yes? no? otherwise"}[c.want]
		require.Equal(t, want, taken(t, e, c.s), "%s of %+v %+v", c.fact, c.s, c.s.Device)
	}
	for _, q := range past.asked {
		require.Equal(t, "ann", q.User)
		require.Equal(t, noon, q.At)
	}
	none := newEngine(t, head+"policy p { who everyone to everything case \"x\" when new.country or travel.speed > 1 or odd.hour => block otherwise => grant }\n", engine.Sources{})
	require.Equal(t, "x? otherwise", taken(t, none, signon.SignOn{Country: "NO", Device: &signon.Device{ID: "tab"}}))
}

// TestReasons holds the reasons that are told against the condition and the sign-on.
func TestReasons(t *testing.T) {
	const sets = `network port { 192.0.2.0/25 } network quay { 198.51.100.0/24 } schedule day { mon-fri 06:00-20:00 }
baseline phone { check "Encrypted" device.encrypted check "Locks" device.screenlock check "Fresh" device.reported within 24h }
risk model { add 30 when network in quay add 20 when client is legacy band low to 29, high to 100 }
`
	in := signon.SignOn{IP: netip.MustParseAddr("192.0.2.7"), Country: "PT", Client: signon.Browser, Time: noon,
		Device: &signon.Device{OS: "android", Form: "tablet", Encrypted: signon.No, Reported: noon.Add(-31 * time.Hour)}}
	for condition, want := range map[string]string{
		"network in port":                                 "network in port: 192.0.2.7 is in 192.0.2.0/25 (rulebook.warden:5)",
		"network in quay, port":                           "network in port: 192.0.2.7 is in 192.0.2.0/25 (rulebook.warden:5)",
		"network in quay, 10.0.0.0/8":                     "not: 192.0.2.7 is not in quay or 10.0.0.0/8",
		"country not in NO, SE":                           "country is PT",
		"device.form in mobile, tablet and country is PT": "device.form is tablet and country is PT",
		"country is NO or device.os is android":           "device.os is android",
		"country is NO and device.os is android":          "not: country is PT",
		"not (country is NO or client is legacy)":         "country is PT and client is browser",
		"device.screenlock":                               "perhaps: device.screenlock is unknown",
		"device.screenlock and device.jailbroken":         "perhaps: device.screenlock is unknown and device.jailbroken is unknown",
		"device.managed":                                  "not: device.managed is no: nothing says that it is",
		"device.reported within 24h":                      "not: device.reported is 2026-11-22 05:00, 31 h ago",
		"device meets phone":                              "not: device meets phone: Encrypted is no (device.encrypted is no), Locks is unknown (device.screenlock is unknown), Fresh is no (device.reported is 2026-11-22 05:00, 31 h ago)",
		"time in day":                                     "Mon 2026-11-23 12:00 is in day",
		"time after 2026-11-22":                           "time is Mon 2026-11-23 12:00",
		"user has passkey, aal2":                          "not: the user has no passkey or aal2",
		"risk >= 20":                                      "not: risk is 0",
		"reported.risk >= 20":                             "perhaps: reported.risk is unknown",
		"country is known":                                "country is known",
		"new.country is unknown":                          "new.country is unknown: no past sign-ons are at hand",
		"surely device.screenlock":                        "not: device.screenlock is unknown",
		"device meets phone is unknown":                   "not: device meets phone is known",
		"user.joined within 7d":                           "perhaps: user.joined is unknown",
	} {
		e := newEngine(t, head+sets+"policy p { who everyone to everything case \"x\" when "+condition+" => grant otherwise => grant }\n", engine.Sources{})
		s := in
		s.User, s.App = "ann", "news"
		var d signon.Decision
		require.NoError(t, e.Decide(t.Context(), &s, &d, true))
		first := d.Explanation.Policies[0]
		got := first.Why
		switch {
		case first.Case == "otherwise":
			got = "not: " + strings.TrimPrefix(got, `not "x": `)
		case !first.Sure:
			got = "perhaps: " + got
		}
		require.Equal(t, want, got, condition)
	}
}

func TestWhySkipped(t *testing.T) {
	e := newEngine(t, head+`user bob { groups crew }
app other { tags money }
policy a { who everyone to app other otherwise => block }
policy b { who everyone to everything except app news otherwise => block }
policy c { who everyone to everything doing consent, reset-password otherwise => block }
policy d { who user bob to everything otherwise => block }
policy e { who everyone except user ann to everything otherwise => block }
policy f { who people except everyone to everything otherwise => block }
policy g { who everyone to everything stage draft otherwise => block }
`, engine.Sources{})
	s := signon.SignOn{User: "ann", App: "news"}
	var d signon.Decision
	require.NoError(t, e.Decide(t.Context(), &s, &d, true))
	require.Equal(t, []signon.Skipped{
		{Policy: "a", Why: "to: news is not among its apps"},
		{Policy: "b", Why: "to: news is excepted (app news)"},
		{Policy: "c", Why: "doing: sign-on is not among its actions"},
		{Policy: "d", Why: "who: ann is not among its people"},
		{Policy: "e", Why: "who: ann is excepted (user ann)"},
		{Policy: "f", Why: "who: ann is excepted (everyone)"},
		{Policy: "g", Why: "stage: it is a draft"},
	}, d.Explanation.Skipped)
	require.Equal(t, signon.GroundUnmatched, d.Explanation.Ground)
}

// TestManyPoliciesOfOneApp fills more than one leaf of the index.
func TestManyPoliciesOfOneApp(t *testing.T) {
	var src strings.Builder
	src.WriteString(head + "user bob { groups g7, g150 }\n")
	const policies = 64*64 + 200 // more than a branch
	for i := range policies {
		n := fmt.Sprintf("%04d", i)
		src.WriteString("policy p" + n + " { who group g" + strconv.Itoa(i) + ", user ann to everything otherwise => grant }\nuser u" + n + " { groups g" + strconv.Itoa(i) + " }\n")
	}
	e := newEngine(t, src.String(), engine.Sources{})
	for user, want := range map[string][]string{"bob": {"p0007", "p0150"}, "u0064": {"p0064"}, "u4095": {"p4095"}, "u4096": {"p4096"}, "u4295": {"p4295"}} {
		s := signon.SignOn{User: user, App: "news"}
		var d signon.Decision
		require.NoError(t, e.Decide(t.Context(), &s, &d, true))
		var got []string
		for _, x := range d.Explanation.Policies {
			got = append(got, x.Policy)
		}
		require.Equal(t, want, got, user)
		require.Equal(t, signon.Grant, d.Outcome)
		require.Len(t, d.Explanation.Skipped, policies-len(want))
	}
	s := signon.SignOn{User: "ann", App: "news"}
	var d signon.Decision
	require.NoError(t, e.Decide(t.Context(), &s, &d, true))
	require.Len(t, d.Explanation.Policies, policies)
}
