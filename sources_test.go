package briskwarden_test

import (
	"bytes"
	"context"
	"errors"
	"log/slog"
	"math"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"os"
	"path/filepath"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/require"

	"briskwarden.example/briskwarden"
	"briskwarden.example/briskwarden/consent"
	"briskwarden.example/briskwarden/middleware"
	"briskwarden.example/briskwarden/signon"
)

// placesFunc and inventoryFunc are a program's own sources.
type (
	placesFunc    func(netip.Addr) (briskwarden.Location, error)
	inventoryFunc func(string) (briskwarden.Device, bool, error)
	caller        struct{}
)

func (f placesFunc) Locate(ctx context.Context, a netip.Addr) (briskwarden.Location, error) {
	if ctx.Value(caller{}) == nil {
		return briskwarden.Location{}, errors.New("not the context of who asks")
	}
	return f(a)
}

func (f inventoryFunc) Device(ctx context.Context, id string) (briskwarden.Device, bool, error) {
	if ctx.Value(caller{}) == nil {
		return briskwarden.Device{}, false, errors.New("not the context of who asks")
	}
	return f(id)
}

// TestSourcesOfAProgram: what a program's own sources say counts; what cannot be, or fails, blocks.
func TestSourcesOfAProgram(t *testing.T) {
	var at briskwarden.Location
	var device briskwarden.Device
	var wrong error
	var log bytes.Buffer
	rules, err := briskwarden.OpenFS(fstest.MapFS{"rulebook.warden": {Data: []byte(`rulebook r { floor none }
user ann { }
app news { }
policy p { who everyone to everything
  case "away" when country not in NO => block
  case "foreign" when device.owned is no => block
  case "wild" when device.managed is no => block
  otherwise => grant }`)}},
		briskwarden.WithPlaces(placesFunc(func(netip.Addr) (briskwarden.Location, error) { return at, wrong })),
		briskwarden.WithInventory(inventoryFunc(func(string) (briskwarden.Device, bool, error) { return device, device.ID != "", wrong })),
		briskwarden.WithLogger(slog.New(slog.NewTextHandler(&log, nil))))
	require.NoError(t, err)
	ctx := context.WithValue(t.Context(), caller{}, true)
	decide := func() (signon.Outcome, error) {
		d, err := rules.Decide(ctx, signon.SignOn{User: "ann", App: "news", IP: netip.MustParseAddr("192.0.2.1"), Device: &signon.Device{ID: "tab"}})
		require.True(t, err == nil || d.Outcome == signon.Block)
		return d.Outcome, err
	}
	good := briskwarden.Device{Device: signon.Device{ID: "tab", Managed: signon.Yes}, Owner: "ann"}
	at, device = briskwarden.Location{Country: "NO"}, good
	outcome, err := decide()
	require.NoError(t, err)
	require.Equal(t, signon.Grant, outcome)
	require.Empty(t, log.String())

	for _, unsure := range []func(){func() { at = briskwarden.Location{} }, func() { at.Country = "PT" }, func() { device = briskwarden.Device{} },
		func() { device.Owner = "bob" }, func() { device.Owner = "" }, func() { device.Managed = signon.No }} {
		at, device = briskwarden.Location{Country: "NO"}, good
		unsure()
		outcome, err := decide()
		require.NoError(t, err)
		require.Equal(t, signon.Block, outcome)
	}
	for want, junk := range map[string]func(){
		"no country": func() { at.Country = "no" }, "no position": func() { at.Positioned, at.Latitude = true, math.NaN() }, "within -1 km": func() { at.Positioned, at.AccuracyKM = true, -1 },
		"180.5": func() { at.Positioned, at.Longitude = true, 180.5 }, `gave "TAB" instead`: func() { device.ID = "TAB" }, "none of unknown, no and yes": func() { device.Managed = 9 },
		"away from home": func() { wrong = errors.New("away from home") },
	} {
		at, device, wrong = briskwarden.Location{Country: "NO"}, good, nil
		junk()
		log.Reset()
		_, err := decide()
		require.ErrorContains(t, err, want)
		require.Contains(t, log.String(), "level=WARN msg=\"sign-on refused\"")
	}
	_, err = rules.Decide(t.Context(), signon.SignOn{User: "ann", App: "news", IP: netip.MustParseAddr("192.0.2.1")})
	require.ErrorContains(t, err, "not the context of who asks")
}

// TestLiveGoesOn: histories and ledgers go on across reloads, which are told.
func TestLiveGoesOn(t *testing.T) {
	dir := t.TempDir()
	write := func(otherwise string) {
		require.NoError(t, os.WriteFile(filepath.Join(dir, briskwarden.TopFile), []byte(`rulebook r { floor none }
user ann { }
app news { }
policy p { who everyone to everything case "new" when new.device => block otherwise => `+otherwise+` }
policy c { who everyone to everything doing consent otherwise => `+otherwise+` }`), 0o644))
	}
	write("grant")
	var told []error
	var log bytes.Buffer
	now := time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC)
	live, err := briskwarden.OpenLive(dir, briskwarden.WithHistory(new(briskwarden.History)), briskwarden.WithClock(func() time.Time { return now }),
		briskwarden.WithReloads(func(r *briskwarden.Rulebook, err error) {
			require.Equal(t, "r", r.Name())
			told = append(told, err)
		}), briskwarden.WithLogger(slog.New(slog.NewTextHandler(&log, nil))))
	require.NoError(t, err)
	s := signon.SignOn{ID: "1", User: "ann", App: "news", Device: &signon.Device{ID: "tab"}}
	outcome := func() signon.Outcome {
		d, err := live.Decide(t.Context(), s)
		require.NoError(t, err)
		return d.Outcome
	}
	require.Equal(t, signon.Block, outcome(), "the device is new")
	require.NoError(t, live.Learn(t.Context(), s))
	now = now.Add(time.Hour)
	require.Equal(t, signon.Grant, outcome())
	require.Error(t, live.Learn(t.Context(), signon.SignOn{User: "ann", Country: "no"}))

	ledger := consent.New(consent.NewMemory(), live)
	ask := func(client string) signon.Outcome {
		so, err := ledger.Request("user ann app news client " + client + " scopes openid")
		require.NoError(t, err)
		a, err := ledger.Ask(t.Context(), so)
		require.NoError(t, err)
		return a.Outcome
	}
	require.Equal(t, signon.Grant, ask("notes"))
	write("nonsense")
	require.Error(t, live.Reload())
	require.Equal(t, signon.Grant, outcome(), "the last good one stays")
	write("block")
	require.NoError(t, live.Reload())
	require.Equal(t, signon.Block, outcome())
	d, err := live.Explain(t.Context(), s)
	require.NoError(t, err)
	require.Equal(t, "otherwise", d.Explanation.Policies[0].Case, "the history goes on: the device is not new")
	require.Equal(t, signon.Block, ask("other"), "the ledger asks the new rulebook")
	require.Equal(t, signon.Grant, ask("notes"), "and knows what was given")
	require.Len(t, told, 3)
	require.NoError(t, errors.Join(told[0], told[2]))
	require.Error(t, told[1])
	require.Contains(t, log.String(), "level=ERROR msg=\"rulebook refused: the last good one stays\"")

	plain, err := briskwarden.Open(dir)
	require.NoError(t, err)
	require.ErrorContains(t, plain.Learn(t.Context(), s), "WithHistory")
}

// sessionsFunc finds sessions as a test says.
type sessionsFunc func() (signon.SignOn, bool, error)

func (f sessionsFunc) SignOn(*http.Request) (signon.SignOn, bool, error) { return f() }

// TestMiddleware: only a grant is served, whatever happens.
func TestMiddleware(t *testing.T) {
	rules, err := briskwarden.OpenFS(fstest.MapFS{"rulebook.warden": {Data: []byte(`rulebook r { floor none }
user ann { methods password }
app news { }
app pay { }
policy p { who everyone to app news
  case "near" when network in 192.0.2.0/24 => grant
  case "odd" when surely country is PT => block
  otherwise => step-up password every time }
policy q { who everyone to app pay otherwise => block "Not \"here\"." }`)}})
	require.NoError(t, err)
	for _, c := range []struct {
		s         signon.SignOn
		found     bool
		err       error
		from      string
		app       string
		status    int
		challenge string
	}{
		{s: signon.SignOn{User: "ann"}, found: true, app: "news", status: 200},
		{s: signon.SignOn{User: "ann"}, found: true, from: "[2001:db8::1%eth0]:80", app: "news", status: 401, challenge: `Bearer error="insufficient_user_authentication", error_description="a stronger or fresher proof is needed", acr_values="aal1", max_age="0"`},
		{s: signon.SignOn{User: "ann", IP: netip.MustParseAddr("198.51.100.1")}, found: true, app: "news", status: 401, challenge: `Bearer error="insufficient_user_authentication", error_description="a stronger or fresher proof is needed", acr_values="aal1", max_age="0"`},
		{s: signon.SignOn{User: "ann", IP: netip.MustParseAddr("198.51.100.1"), Country: "PT"}, found: true, app: "news", status: 403},
		{s: signon.SignOn{User: "ann"}, found: true, app: "pay", status: 403},
		{s: signon.SignOn{User: "ann", App: "news"}, found: true, app: "pay", status: 403},
		{s: signon.SignOn{User: "ann", App: "news"}, found: true, status: 200},
		{s: signon.SignOn{User: "ann", Country: "pt"}, found: true, app: "news", status: 403},
		{s: signon.SignOn{User: "ann"}, found: true, err: errors.New("the sessions are away"), app: "news", status: 403},
		{s: signon.SignOn{User: "ann"}, app: "news", status: 401, challenge: "Bearer"},
	} {
		served := false
		guard := middleware.New(rules, sessionsFunc(func() (signon.SignOn, bool, error) { return c.s, c.found, c.err }), middleware.Options{App: c.app, Logger: slog.New(slog.DiscardHandler)})
		r := httptest.NewRequest(http.MethodGet, "/", nil)
		if c.from != "" {
			r.RemoteAddr = c.from
		}
		w := httptest.NewRecorder()
		guard(http.HandlerFunc(func(http.ResponseWriter, *http.Request) { served = true })).ServeHTTP(w, r)
		require.Equal(t, c.status, w.Code, "%+v", c)
		require.Equal(t, c.status == 200, served)
		require.Equal(t, c.challenge, w.Header().Get("WWW-Authenticate"))
		require.Equal(t, c.status != 200, w.Header().Get("Cache-Control") == "no-store")
	}
}
