package signon_test

import (
	stdjson "encoding/json"
	"math"
	"reflect"
	"strings"
	"testing"
	"time"

	"github.com/go-json-experiment/json"
	"github.com/stretchr/testify/require"

	"briskwarden.example/briskwarden/signon"
)

const whole = `{"subject":{"type":"user","id":"mira.holt","properties":{"crew-mode":"ashore","deck":4,"on":true}},` +
	`"action":{"name":"sign-on"},"resource":{"type":"app","id":"crew-roster"},"context":{"id":"s-000017","time":"2026-11-23T08:15:00+01:00",` +
	`"ip":"192.0.2.14","country":"NO","client":"browser","device":{"id":"deck-tab-03","os":"android","version":"14","form":"tablet","managed":true,` +
	`"compliant":true,"encrypted":true,"firewall":true,"screenlock":true,"jailbroken":false,"reported":"2026-11-23T06:00:00Z","edr":"on"},` +
	`"session":{"id":"w-81","started":"2026-11-23T07:50:00+01:00"},"presented":["password"],` +
	`"evidence":[{"method":"app-code","time":"2026-11-22T21:03:00+01:00","session":"w-80","device":"deck-tab-03","app":"payroll"}],"risk":35,` +
	`"consent":{"client":"tidy-notes","name":"Tidy Notes","publisher":"Fernwood Software","verified":true,"scopes":["openid","roster.read"],` +
	`"for":"group","group":"deck-crew","owner":true}}}`

func TestDecodeReadsEveryField(t *testing.T) {
	s, err := signon.Decode([]byte(whole))
	require.NoError(t, err)
	require.Equal(t, map[string]any{"crew-mode": "ashore", "deck": 4.0, "on": true}, s.Properties)
	require.Equal(t, time.Date(2026, 11, 23, 7, 15, 0, 0, time.UTC), s.Time.UTC())
	require.Equal(t, signon.No, s.Device.Jailbroken)
	require.Equal(t, signon.Unknown, s.Device.Registered)
	require.Equal(t, map[string]any{"edr": "on"}, s.Device.Attributes)
	require.Equal(t, 35.0, *s.Risk)
	require.Equal(t, signon.ForGroup, s.Consent.For)
	again, err := json.Marshal(s)
	require.NoError(t, err)
	require.JSONEq(t, whole, string(again))
}

// TestBothLibrariesWriteAndReadTheSame holds encoding/json against the library that the codec uses.
func TestBothLibrariesWriteAndReadTheSame(t *testing.T) {
	so, err := signon.Decode([]byte(whole))
	require.NoError(t, err)
	logged := signon.Logged{SignOn: so, Outcome: signon.StepUp, Recorded: true}
	decision := signon.Decision{ID: "s", Outcome: signon.StepUp, MaxAge: 0, ACR: "aal1", Next: []signon.Step{{Do: signon.Verify, AnyOf: [][]string{{"passkey"}}}},
		Explanation: &signon.Explanation{Policies: []signon.Entry{}, Skipped: []signon.Skipped{}, Waivers: []string{}}}
	for _, v := range []any{so, &so, logged, decision, &decision, signon.Yes, signon.No, signon.Unknown, signon.Legacy, signon.ForGroup, signon.Grant,
		struct{ D []signon.Decision }{[]signon.Decision{decision, {}}}} {
		ours, err := json.Marshal(v)
		require.NoError(t, err)
		theirs, err := stdjson.Marshal(v)
		require.NoError(t, err)
		require.Equal(t, string(ours), string(theirs))
		one, two := reflect.New(reflect.TypeOf(v)), reflect.New(reflect.TypeOf(v))
		require.NoError(t, json.Unmarshal(ours, one.Interface()))
		require.NoError(t, stdjson.Unmarshal(ours, two.Interface()))
		require.Equal(t, one.Interface(), two.Interface())
	}
	for text, into := range map[string][2]any{
		`{"context":{"country":"no"}}`:                      {new(signon.SignOn), new(signon.Logged)},
		`{"context":{"outcome":"maybe"}}`:                   {new(signon.Logged), new(signon.Decision)},
		`{"decision":true,"context":{"outcome":"block"}}`:   {new(signon.Decision), new(signon.Decision)},
		`{"decision":false,"context":{"outcome":"grant"}}`:  {new(signon.Decision), new(signon.Decision)},
		`{"decision":true,"context":{}}`:                    {new(signon.Decision), new(signon.Decision)},
		`{"context":{"presented":["a"],"presented":["b"]}}`: {new(signon.SignOn), new(signon.Logged)},
		`"Legacy"`: {new(signon.Client), new(signon.ConsentFor)},
		`2`:        {new(signon.YesNo), new(signon.Client)},
	} {
		for _, v := range into {
			require.Error(t, json.Unmarshal([]byte(text), v), "%s into %T", text, v)
			require.Error(t, stdjson.Unmarshal([]byte(text), v), "%s into %T", text, v)
		}
	}
}

func TestWhatIsNoOutcomeIsNone(t *testing.T) {
	for n := 4; n < 256; n++ {
		o := signon.Outcome(n)
		require.NotContains(t, []string{"grant", "review", "step-up", "block"}, o.String())
		for _, v := range []any{o, signon.Decision{Outcome: o}, signon.Logged{Outcome: o, Recorded: true}, signon.YesNo(n - 253)} {
			if y, isYesNo := v.(signon.YesNo); isYesNo && y <= signon.Yes && y >= 0 {
				continue
			}
			_, err := json.Marshal(v)
			require.Error(t, err, "%#v", v)
			_, err = stdjson.Marshal(v)
			require.Error(t, err, "%#v", v)
		}
	}
}

func TestDecodeTakesAbsentAndNullAlike(t *testing.T) {
	bare, err := signon.Decode([]byte(`{}`))
	require.NoError(t, err)
	nulls := `{"subject":{"type":null,"id":null,"properties":null},"action":null,"resource":{"id":null},"extra":[1],"Context":{"ip":"no"},` +
		`"context":{"time":null,"ip":null,"country":null,"client":null,"device":null,"session":null,"presented":null,"evidence":null,"risk":null,"consent":null}}`
	s, err := signon.Decode([]byte(nulls))
	require.NoError(t, err)
	require.Equal(t, bare, s)
	device, err := signon.Decode([]byte(`{"context":{"device":{"managed":null,"os":null,"reported":null}}}`))
	require.NoError(t, err)
	require.Equal(t, &signon.Device{}, device.Device, "a device object without facts is still a device object")
}

func TestDecodeNamesTheField(t *testing.T) {
	for request, want := range map[string]string{
		``: "found nothing", `null`: "found null", `nope`: "not JSON", `[]`: "expected an object, found an array", `{"a":1} {}`: "not JSON",
		`{"subject":"x"}`:                                    "subject: expected an object, found a string",
		`{"subject":{"type":"robot"}}`:                       "subject.type:",
		`{"resource":{"type":"door"}}`:                       "resource.type:",
		`{"subject":{"id":5}}`:                               "subject.id: expected a string, found a number",
		`{"context":{"ip":"fe80::1%eth0"}}`:                  "context.ip: \"fe80::1%eth0\" carries a zone",
		`{"context":{"ip":"192.0.2.300"}}`:                   "context.ip:",
		`{"context":{"ip":""}}`:                              "context.ip:",
		`{"context":{"country":"no"}}`:                       "context.country:",
		`{"context":{"country":"XX"}}`:                       "context.country:",
		`{"context":{"client":"phone"}}`:                     "context.client:",
		`{"context":{"time":"2026-11-23"}}`:                  "context.time:",
		`{"context":{"time":"10000-01-01T00:00:00Z"}}`:       "context.time:",
		`{"context":{"time":"9999-12-31T23:30:00-01:00"}}`:   "context.time: \"9999-12-31T23:30:00-01:00\" lies outside the years 1 to 9999",
		`{"context":{"device":{"managed":"yes"}}}`:           "context.device.managed: expected true or false, found a string",
		`{"context":{"device":{"version":14}}}`:              "context.device.version:",
		`{"context":{"session":{"started":"noon"}}}`:         "context.session.started:",
		`{"context":{"presented":"password"}}`:               "context.presented: expected an array, found a string",
		`{"context":{"evidence":[{"method":"pin"}]}}`:        "context.evidence[0].time:",
		`{"context":{"risk":"35"}}`:                          "context.risk:",
		`{"context":{"consent":{"for":"me"}}}`:               "context.consent.for:",
		`{"context":{"ip":"192.0.2.1","ip":"192.0.2.2"}}`:    "duplicate",
		"{\"context\":{\"id\":\"s\xff\"}}":                   "invalid UTF-8",
		`{"context":{"evidence":[{"time":"` + rfc + `"}]}}`:  "context.evidence[0].method:",
		`{"context":{"device":{"reported":"2026-13-01T0"}}}`: "context.device.reported:",
	} {
		_, err := signon.Decode([]byte(request))
		var field *signon.FieldError
		require.ErrorAs(t, err, &field, request)
		require.ErrorContains(t, err, want, request)
	}
}

const rfc = "2026-11-23T08:15:00Z"

func TestDecodeIDOfWhatCannotBeRead(t *testing.T) {
	for request, want := range map[string]string{
		`{"context":{"id":"s-1","ip":5}}`: "s-1", `{"context":{"ip":5,"id":"s-2"}`: "s-2", `{"id":"x","context":{"device":{"id":"y"}}}`: "",
		`{"context":{"a":"id","b":"no"}}`: "", `nonsense`: "", `{"context":{"id":7}}`: "",
	} {
		require.Equal(t, want, signon.DecodeID([]byte(request)), request)
	}
}

func TestDecisionRoundTrip(t *testing.T) {
	d := signon.Decision{ID: "s-1", Outcome: signon.StepUp, Message: "m", MaxAge: 0, ACR: "aal1", Rulebook: "sha256:x",
		Demands: []signon.Demand{{Policy: "p", Demand: "passkey"}}, Next: []signon.Step{{Do: signon.Verify, AnyOf: [][]string{{"passkey"}}}},
		Explanation: &signon.Explanation{Policies: []signon.Entry{}, Skipped: []signon.Skipped{}, Waivers: []string{"w"},
			Watch: &signon.Watch{Outcome: signon.Block, Policies: []signon.Entry{}}, Risk: &signon.Risk{Low: 1, High: 2, Factors: []signon.Factor{}}}}
	text, err := json.Marshal(d)
	require.NoError(t, err)
	require.Contains(t, string(text), `{"decision":false,"context":{"id":"s-1","outcome":"step-up"`)
	require.Contains(t, string(text), `"max_age":0`)
	var again signon.Decision
	require.NoError(t, json.Unmarshal(text, &again))
	require.Equal(t, d, again)
	zero, err := json.Marshal(signon.Decision{Error: "why"})
	require.NoError(t, err)
	require.Equal(t, `{"decision":false,"context":{"outcome":"block","error":"why"}}`, string(zero))
}

func TestCountriesAreThoseOfISO3166(t *testing.T) {
	require.Len(t, signon.Countries(), 249)
	for _, code := range []string{"", "no", "XX", "UK", "EU", "AN", "SU", "ZZ", "NOR", "XK"} {
		require.False(t, signon.IsCountry(code), code)
	}
}

func FuzzDecode(f *testing.F) {
	f.Add(whole)
	f.Add(`{"context":{"device":{"id":null,"x":[{}]},"evidence":[{"method":"pin","time":"0001-01-01T00:00:00Z"}]}}`)
	f.Fuzz(func(t *testing.T, text string) {
		s, err := signon.Decode([]byte(text))
		if err != nil {
			require.Equal(t, signon.SignOn{}, s, "an error comes with nothing else")
			require.NotContains(t, signon.DecodeID([]byte(text)), "\xff")
			return
		}
		out, err := json.Marshal(s)
		require.NoError(t, err)
		again, err := signon.Decode(out)
		require.NoError(t, err, "%s", out)
		twice, err := json.Marshal(again)
		require.NoError(t, err)
		require.Equal(t, string(out), string(twice))
	})
}

// TestOnlyAGrantSaysYes: an error, or any other outcome, says no.
func TestOnlyAGrantSaysYes(t *testing.T) {
	for outcome := signon.Block; outcome <= signon.Grant; outcome++ {
		for _, wrong := range []string{"", "the directory is away"} {
			text, err := json.Marshal(signon.Decision{Outcome: outcome, Error: wrong})
			require.NoError(t, err)
			require.Equal(t, outcome == signon.Grant && wrong == "", strings.HasPrefix(string(text), `{"decision":true,`), string(text))
		}
	}
}

func TestGrounds(t *testing.T) {
	for g, want := range map[signon.Ground]string{signon.GroundPolicies: "policies", signon.GroundUnknownUser: "the user is not known", signon.GroundFloor: "the floor",
		signon.GroundFloor + 1: "Ground(8)", 255: "Ground(255)"} {
		require.Equal(t, want, g.String())
	}
	for g := signon.GroundPolicies; g <= signon.GroundFloor; g++ {
		identity := g == signon.GroundUnknownUser || g == signon.GroundDisabledUser || g == signon.GroundEndedSession || g == signon.GroundUnknownTarget
		require.Equal(t, identity, g.Identity(), g.String())
	}
}

// TestEvaluationsStateEverything: of a request to the service every name is there, and an address is no app.
func TestEvaluationsStateEverything(t *testing.T) {
	const whole = `{"subject":{"type":"user","id":"ann"},"action":{"name":"sign-on"},"resource":{"type":"app","id":"news"},"context":{"outcome":"block","suppose":{"risk":3}}}`
	l, err := signon.DecodeEvaluation([]byte(whole))
	require.NoError(t, err)
	require.Equal(t, []any{"ann", "news", "sign-on", "", true, signon.Block}, []any{l.User, l.App, l.Action, l.Address, l.Recorded, l.Outcome})
	for member, field := range map[string]string{`"type":"user",`: "subject.type", `"id":"ann"`: "subject.id", `"name":"sign-on"`: "action.name",
		`"type":"app",`: "resource.type", `"id":"news"`: "resource.id"} {
		text := strings.Replace(strings.Replace(whole, member, "", 1), `"user",}`, `"user"}`, 1)
		_, err := signon.DecodeEvaluation([]byte(strings.Replace(text, `"app",}`, `"app"}`, 1)))
		require.ErrorContains(t, err, field+": is missing", text)
	}
	l, err = signon.DecodeEvaluation([]byte(strings.Replace(whole, `"type":"app","id":"news"`, `"type":"url","id":"https://news.skerry.example/"`, 1)))
	require.NoError(t, err)
	require.Equal(t, []string{"https://news.skerry.example/", ""}, []string{l.Address, l.App})
	for _, wrong := range []string{`{"subject":{"type":"group"`, `{"subject":{"type":"user","id":7`} {
		_, err = signon.DecodeEvaluation([]byte(strings.Replace(whole, `{"subject":{"type":"user"`, wrong, 1)))
		require.Error(t, err)
	}
	_, err = signon.DecodeEvaluation([]byte(strings.Replace(whole, `"outcome":"block"`, `"outcome":"maybe"`, 1)))
	require.ErrorContains(t, err, "context.outcome")
	_, err = signon.DecodeEvaluation([]byte(strings.Replace(whole, `"outcome":"block"`, `"country":"no"`, 1)))
	require.ErrorContains(t, err, "context.country")
}

// TestTheFirstByNameIsNamed: of several attributes that cannot be, always the same one is told.
func TestTheFirstByNameIsNamed(t *testing.T) {
	for range 20 {
		s := signon.SignOn{Properties: map[string]any{"c": math.NaN(), "a": 1.0, "b": "\xff", "d": "\xff", "e": math.Inf(1)}}
		require.ErrorContains(t, s.Validate(), "subject.properties.b: ")
	}
}

func TestChallengeIsAHeader(t *testing.T) {
	d := signon.Decision{Outcome: signon.StepUp, ACR: "a ~\x1f\x7f\r\n\"\\b", MaxAge: 0}
	require.Contains(t, d.Challenge(), `acr_values="a ~\"\\b", max_age="0"`)
	d = signon.Decision{Outcome: signon.StepUp, MaxAge: signon.NoMaxAge}
	require.NotContains(t, d.Challenge(), "max_age")
	require.NotContains(t, d.Challenge(), "acr_values")
	d.Outcome = signon.Block
	require.Empty(t, d.Challenge())
}

// TestEveryDeviceField is checked, and the one that is wrong is named.
func TestEveryDeviceField(t *testing.T) {
	names := map[string]*signon.Device{}
	for _, f := range signon.DeviceFlags {
		names[f.Name] = &signon.Device{}
		*f.Of(names[f.Name]) = 3
	}
	for _, w := range signon.DeviceWords {
		names[w.Name] = &signon.Device{}
		*w.Of(names[w.Name]) = "\xff"
	}
	for name, d := range names {
		var field *signon.FieldError
		require.ErrorAs(t, (&signon.SignOn{Device: d}).Validate(), &field, name)
		require.Equal(t, "context.device."+name, field.Field)
	}
}
