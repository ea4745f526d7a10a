package briskwarden_test

import (
	"context"
	"fmt"
	"math"
	"net/netip"
	"reflect"
	"slices"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	stdjson "encoding/json"

	"github.com/stretchr/testify/require"

	"briskwarden.example/briskwarden"
	"briskwarden.example/briskwarden/consent"
	"briskwarden.example/briskwarden/signon"
)

// everyFact are conditions that between them block whatever a sign-on can state: each is true
// or unknown for some value of every field, so that only what is taken for "no" gets through.
const everyFact = `rulebook r { floor none }
attribute user.deck number from request
attribute user.mode word from request
attribute device.patch number from request
user ann { methods password, passkey }
user bob { }
app news { }
countries all { NO, RU }
policy p { who everyone  to everything  doing sign-on
  case "country" when country in RU                     => block
  case "client"  when client is legacy                  => block
  case "risk"    when reported.risk >= 80               => block
  case "deck"    when user.deck >= 80                   => block
  case "patch"   when device.patch >= 80                => block
  case "mode"    when user.mode is ashore               => block
  case "rooted"  when device.jailbroken                 => block
  case "late"    when device.reported within 24h        => abstain
  case "for"     when consent.for is everyone           => block
  case "scopes"  when scopes touch unclassified         => block
  otherwise => grant }
`

// junk are values that no field of their type can have; extreme are those at the edge of what it can.
var junk = map[reflect.Type][]any{
	reflect.TypeFor[string]():            {"\xff"},
	reflect.TypeFor[signon.Client]():     {signon.Client("Legacy"), signon.Client("legacy "), signon.Client("\xff")},
	reflect.TypeFor[signon.ConsentFor](): {signon.ConsentFor("Everyone"), signon.ConsentFor("all")},
	reflect.TypeFor[signon.YesNo]():      {signon.YesNo(-1), signon.YesNo(3), signon.YesNo(math.MaxInt8)},
	reflect.TypeFor[time.Time]():         {time.Date(0, 12, 31, 0, 0, 0, 0, time.UTC), time.Date(10000, 1, 1, 0, 0, 0, 0, time.UTC), time.Unix(math.MaxInt64, 0), time.Date(1, 1, 1, 0, 30, 0, 0, time.FixedZone("", 3600)), time.Date(9999, 12, 31, 23, 30, 0, 0, time.FixedZone("", -3600))},
	reflect.TypeFor[netip.Addr]():        {netip.MustParseAddr("fe80::1%eth0")},
	reflect.TypeFor[*float64]():          {new(math.NaN()), new(math.Inf(1)), new(math.Inf(-1))},
	reflect.TypeFor[[]string]():          {[]string{"\xff"}},
	reflect.TypeFor[map[string]any]():    {map[string]any{"patch": math.NaN(), "deck": 3.0}, map[string]any{"deck": math.NaN()}, map[string]any{"deck": math.Inf(-1), "patch": 1.0}, map[string]any{"x": math.NaN()}, map[string]any{"\xff": "x"}, map[string]any{"mode": "\xff"}},
}

// junkOf are more of them, for fields that take less than their type.
var junkOf = map[string][]any{
	"Country":        {"ru", "Ru", "R", "RUS", "XX", "R\x00", "ÅØ"},
	"Consent.Scopes": {[]string{""}, []string{"a b"}, []string{"openid", "a\tb"}, []string{"a\x00"}, []string{`"`}, []string{`\`}, []string{"å"}, []string{"a\u00a0b"}},
	"Evidence": {[]signon.Evidence{{Method: "password"}}, []signon.Evidence{{Time: oracleEpoch}},
		[]signon.Evidence{{Method: "pin", Time: oracleEpoch}, {Method: "password", Time: time.Date(10000, 1, 1, 0, 0, 0, 0, time.UTC)}},
		[]signon.Evidence{{Method: "password\xff", Time: oracleEpoch}}, []signon.Evidence{{Method: "password", Time: oracleEpoch, Session: "\xff"}},
		[]signon.Evidence{{Method: "password", Time: oracleEpoch, Device: "\xff"}}, []signon.Evidence{{Method: "password", Time: oracleEpoch, App: "\xff"}}},
}

// eachField calls f with every field of a sign-on and of what it points to. A field of a new
// type has no junk, and fails.
func eachField(t *testing.T, of any, path string, f func(path string, set func(so *signon.SignOn, v any))) {
	v := reflect.ValueOf(of).Elem()
	for i := range v.NumField() {
		field := v.Type().Field(i)
		name := strings.TrimPrefix(path+"."+field.Name, ".")
		switch {
		case field.Type.Kind() == reflect.Struct && field.Type != reflect.TypeFor[time.Time]() && field.Type != reflect.TypeFor[netip.Addr]():
			eachField(t, reflect.New(field.Type).Interface(), name, f)
		case field.Type.Kind() == reflect.Pointer && field.Type.Elem().Kind() == reflect.Struct:
			eachField(t, reflect.New(field.Type.Elem()).Interface(), name, f)
		default:
			f(name, func(so *signon.SignOn, value any) {
				at := reflect.ValueOf(so).Elem()
				for step := range strings.SplitSeq(name, ".") {
					if at.Kind() == reflect.Pointer {
						at = at.Elem()
					}
					at = at.FieldByName(step)
				}
				at.Set(reflect.ValueOf(value))
			})
		}
	}
}

func plain() *signon.SignOn {
	return &signon.SignOn{User: "ann", App: "news", Time: oracleEpoch, Country: "NO", Client: signon.Browser, Risk: new(1.0),
		Properties: map[string]any{"deck": 1.0, "mode": "afloat"},
		Device:     &signon.Device{ID: "d", Jailbroken: signon.No, Reported: oracleEpoch.Add(-48 * time.Hour), Attributes: map[string]any{"patch": 1.0}},
		Consent:    &signon.Consent{For: signon.ForSelf, Scopes: []string{}}}
}

// TestJunkInAnyFieldBlocks tries what the JSON of a request refuses, straight from Go.
func TestJunkInAnyFieldBlocks(t *testing.T) {
	rules := open(t, everyFact)
	d, err := rules.Decide(t.Context(), *plain())
	require.NoError(t, err)
	require.Equal(t, signon.Grant, d.Outcome)
	tried := 0
	eachField(t, &signon.SignOn{}, "", func(path string, set func(*signon.SignOn, any)) {
		var zero signon.SignOn
		zero.Device, zero.Consent = &signon.Device{}, &signon.Consent{}
		values := slices.Clone(junkOf[path])
		if path != "Evidence" {
			kind := typeAt(&zero, path)
			require.Contains(t, junk, kind, "the field %s has a type of which no junk is known", path)
			values = append(values, junk[kind]...)
		}
		for _, value := range values {
			so := plain()
			set(so, value)
			before := fmt.Sprintf("%+v", so)
			for name, decide := range map[string]func(context.Context, signon.SignOn) (signon.Decision, error){"Decide": rules.Decide, "Explain": rules.Explain,
				"DecideInto": func(ctx context.Context, so signon.SignOn) (d signon.Decision, err error) {
					err = rules.DecideInto(ctx, &so, &d)
					return d, err
				}} {
				d, err := decide(t.Context(), *so)
				var field *signon.FieldError
				require.ErrorAs(t, err, &field, "%s of %s = %#v", name, path, value)
				require.Equal(t, signon.Block, d.Outcome)
				require.Nil(t, d.Explanation)
				_, err = stdjson.Marshal(d)
				require.NoError(t, err, "the refusal of %s = %#v can be written", path, value)
			}
			require.Equal(t, before, fmt.Sprintf("%+v", so), "the sign-on stays as it was")
			_, err := stdjson.Marshal(so)
			require.Error(t, err, "%s = %#v cannot be written either", path, value)
			tried++
		}
	})
	require.Greater(t, tried, 70)
}

func typeAt(so *signon.SignOn, path string) reflect.Type {
	at := reflect.ValueOf(so).Elem()
	for step := range strings.SplitSeq(path, ".") {
		if at.Kind() == reflect.Pointer {
			at = at.Elem()
		}
		at = at.FieldByName(step)
	}
	return at.Type()
}

// TestZeroesOnlyTighten: what is left out is unknown, and never loosens the decision.
func TestZeroesOnlyTighten(t *testing.T) {
	rules := open(t, everyFact)
	eachField(t, &signon.SignOn{}, "", func(path string, set func(*signon.SignOn, any)) {
		for _, stricter := range []bool{false, true} {
			so := plain()
			if stricter {
				so.Country, so.Client, so.Risk, so.Device.Jailbroken, so.Consent.For = "RU", signon.Legacy, new(90.0), signon.Yes, signon.ForEveryone
			}
			before, err := rules.Decide(t.Context(), *so)
			require.NoError(t, err)
			set(so, reflect.Zero(typeAt(so, path)).Interface())
			after, err := rules.Decide(t.Context(), *so)
			require.NoError(t, err, "%s may be left out", path)
			require.False(t, before.Outcome.StricterThan(after.Outcome), "%s left out: %s, with it %s", path, after.Outcome, before.Outcome)
		}
	})
}

// TestExtremesAreDecided: what lies at the edge of the allowed is no error, and compares as it should.
func TestExtremesAreDecided(t *testing.T) {
	rules := open(t, everyFact)
	for name, set := range map[string]func(*signon.SignOn){
		"risk":     func(so *signon.SignOn) { so.Risk = new(math.MaxFloat64) },
		"deck":     func(so *signon.SignOn) { so.Properties = map[string]any{"deck": math.MaxFloat64} },
		"integer":  func(so *signon.SignOn) { so.Properties = map[string]any{"deck": math.MaxInt} },
		"patch":    func(so *signon.SignOn) { so.Device.Attributes = map[string]any{"patch": 80.0} },
		"scope":    func(so *signon.SignOn) { so.Consent.Scopes = []string{"!#[]~" + strings.Repeat("x", 1<<16)} },
		"everyone": func(so *signon.SignOn) { so.Consent.For = signon.ForEveryone },
	} {
		so := plain()
		set(so)
		d, err := rules.Decide(t.Context(), *so)
		require.NoError(t, err, name)
		require.Equal(t, signon.Block, d.Outcome, name)
	}
	for _, at := range []time.Time{time.Date(1, 1, 1, 0, 0, 0, 1, time.UTC), time.Date(9999, 12, 31, 23, 59, 59, 999999999, time.UTC),
		time.Date(9999, 12, 31, 12, 0, 0, 0, time.FixedZone("", -3600))} {
		so := plain()
		so.Time, so.Session.Started, so.Device.Reported = at, at, at
		require.NoError(t, so.Validate(), at)
		_, err := rules.Decide(t.Context(), *so)
		require.NoError(t, err, at)
	}
}

// TestOutsidersAreWhoTheySayTheyAre: a directory that finds bob for BOB does not take him past what names him.
func TestOutsidersAreWhoTheySayTheyAre(t *testing.T) {
	anyCase := peopleFunc(func(_ context.Context, id string) (briskwarden.Person, bool, error) {
		return briskwarden.Person{ID: strings.ToLower(id), Methods: []string{"password"}, Attributes: map[string]any{"deck": 1.0}}, strings.EqualFold(id, "bob"), nil
	})
	rules, err := briskwarden.OpenFS(fstest.MapFS{"rulebook.warden": {Data: []byte(`rulebook r { floor none }
attribute user.deck number
app news { }
policy p { who everyone except user bob  to everything  otherwise => grant }
policy q { who user bob  to everything  otherwise => block }`)}}, briskwarden.WithPeople(anyCase))
	require.NoError(t, err)
	d, err := rules.Decide(t.Context(), signon.SignOn{User: "bob", App: "news"})
	require.NoError(t, err)
	require.Equal(t, signon.Block, d.Outcome)
	d, err = rules.Decide(t.Context(), signon.SignOn{User: "BOB", App: "news"})
	require.ErrorContains(t, err, `the directory gave "bob" instead`)
	require.Equal(t, signon.Block, d.Outcome)
	_, err = consent.New(consent.NewMemory(), rules).Settle(t.Context(), 1, consent.Settlement{By: "BOB", Because: "his own"})
	require.ErrorContains(t, err, `the directory gave "bob" instead`)

	odd := peopleFunc(func(_ context.Context, id string) (briskwarden.Person, bool, error) {
		return briskwarden.Person{ID: id, Attributes: map[string]any{"deck": math.NaN()}}, true, nil
	})
	rules, err = briskwarden.OpenFS(fstest.MapFS{"rulebook.warden": {Data: []byte("rulebook r { floor none }\nattribute user.deck number\napp news { }\n" +
		"policy p { who everyone to everything case \"high\" when user.deck >= 80 => block otherwise => grant }")}}, briskwarden.WithPeople(odd))
	require.NoError(t, err)
	d, err = rules.Decide(t.Context(), signon.SignOn{User: "liv", App: "news"})
	require.ErrorContains(t, err, "no finite number")
	require.Equal(t, signon.Block, d.Outcome)
}

type peopleFunc func(ctx context.Context, id string) (briskwarden.Person, bool, error)

func (f peopleFunc) Person(ctx context.Context, id string) (briskwarden.Person, bool, error) {
	return f(ctx, id)
}
