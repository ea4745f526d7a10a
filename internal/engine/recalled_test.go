package engine_test

import (
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/require"

	"briskwarden.example/briskwarden/internal/engine"
	"briskwarden.example/briskwarden/internal/known"
	"briskwarden.example/briskwarden/internal/rulebook"
	"briskwarden.example/briskwarden/signon"
)

// watched is a rulebook that hears of leaked passwords, with policies about what a service remembers.
const watched = `rulebook r { timezone "UTC" floor none devices "fleet.jsonl" }
user ann { methods password }
app leaks { } app machines { } app news { } app payroll { }
signals fleet { from "https://fleet.skerry.example" keys "keys.json" audience "brisk" accept credential-compromise }
policy leaks { who everyone to app leaks case "x" when user.compromised => block otherwise => grant }
policy machines { who everyone to app machines case "x" when device.compliant => grant otherwise => block }
policy news { who everyone to app news otherwise => step-up password every session session lasts 10h, idle 30m }
policy payroll { who everyone to app payroll otherwise => step-up password every session session lasts 10h }
alert leaked { owner "desk" when user.compromised on block tell "mailto:desk@skerry.example" }
`

func watchedEngine(t *testing.T) *engine.Engine {
	return engineOf(t, fstest.MapFS{"rulebook.warden": {Data: []byte(watched)},
		"fleet.jsonl": {Data: []byte(`{"id":"tab","compliant":false,"reported":"2026-11-23T09:00:00Z"}` + "\n")},
		"keys.json":   {Data: []byte(`{"keys":[{"kty":"OKP","crv":"Ed25519","kid":"a","x":"11qYAYKxCrfVS_7TyWQHOg7hcvPapiMlrwIaaPcHURo"}]}`)},
	}, engine.Sources{})
}

// TestRecalled decides beside what a service remembers, and tells who said it.
func TestRecalled(t *testing.T) {
	e := watchedEngine(t)
	ann := e.Rulebook().People["ann"]
	unheard := engine.Signalled{Compromised: known.False, Compliant: known.Unknown}
	compromised := func(is known.Truth) engine.Signalled {
		return engine.Signalled{Compromised: is, CompromisedBy: "fleet", Compliant: known.Unknown}
	}
	compliant := func(is known.Truth, at time.Time) engine.Signalled {
		return engine.Signalled{Compliant: is, CompliantAt: at, CompliantBy: "fleet"}
	}
	reported := noon.Add(-3 * time.Hour)
	for _, c := range []struct {
		app     string
		signals engine.Signalled
		outcome signon.Outcome
		why     string // of the first policy
	}{
		{"leaks", unheard, signon.Grant, `user.compromised is no`},
		{"leaks", compromised(known.True), signon.Block, "user.compromised is yes: by a signal from fleet"},
		{"leaks", compromised(known.Unknown), signon.Block, "user.compromised is unknown: fleet could not be asked for an hour"},
		{"machines", unheard, signon.Block, "device.compliant is no"},
		{"machines", compliant(known.True, reported), signon.Grant, "device.compliant is yes: by a signal from fleet"},
		{"machines", compliant(known.True, reported.Add(-time.Second)), signon.Block, "device.compliant is no"},
		{"machines", compliant(known.False, reported.Add(-time.Hour)), signon.Block, "device.compliant is no: by a signal from fleet"},
	} {
		var d signon.Decision
		so := &signon.SignOn{User: "ann", App: c.app, Time: noon, Device: &signon.Device{ID: "tab"}}
		require.NoError(t, e.DecideRecalled(t.Context(), so, &engine.Recalled{Person: ann, Signals: c.signals}, &d, true))
		require.Equal(t, c.outcome, d.Outcome, "%+v", c)
		require.Contains(t, d.Explanation.Policies[0].Why, c.why, "%+v", c)
		for _, outcome := range []signon.Outcome{signon.Block, signon.Grant} {
			raised, err := e.Raised(t.Context(), so, &engine.Recalled{Person: ann, Signals: c.signals}, outcome)
			require.NoError(t, err)
			require.Equal(t, outcome == signon.Block && c.signals.Compromised == known.True, len(raised) == 1)
		}
	}
}

// TestIdleSessions: a proof of the session stands for as long as the policy lets one be idle, where it says so.
func TestIdleSessions(t *testing.T) {
	e := watchedEngine(t)
	for app, limit := range map[string]time.Duration{"news": 30 * time.Minute, "payroll": 9 * time.Hour} {
		for _, idle := range []time.Duration{0, limit, limit + time.Second} {
			var d signon.Decision
			so := &signon.SignOn{User: "ann", App: app, Time: noon, Session: signon.Session{ID: "s", Started: noon.Add(-9*time.Hour - time.Minute)},
				Evidence: []signon.Evidence{{Method: "password", Time: noon.Add(-9 * time.Hour), Session: "s"}}}
			require.NoError(t, e.DecideRecalled(t.Context(), so, &engine.Recalled{Person: e.Rulebook().People["ann"], LastGrant: noon.Add(-idle)}, &d, false))
			require.Equal(t, app == "payroll" || idle <= limit, d.Outcome == signon.Grant, "%s, idle for %v", app, idle)
		}
	}
}

// TestKnownBeside: who is remembered counts in place of the rulebook's, and nobody else.
func TestKnownBeside(t *testing.T) {
	bob := &rulebook.Person{ID: "bob"}
	e := watchedEngine(t).Beside(&engine.Recalled{Person: bob})
	for id, want := range map[string]*rulebook.Person{"bob": bob, "ann": e.Rulebook().People["ann"], "eve": nil, "": nil} {
		p, err := e.Person(t.Context(), id)
		require.NoError(t, err)
		require.Same(t, want, p, id)
	}
}
