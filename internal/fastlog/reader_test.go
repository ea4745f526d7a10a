package fastlog

import (
	"fmt"
	"maps"
	"net/netip"
	"reflect"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/go-json-experiment/json"
	"github.com/stretchr/testify/require"

	"briskwarden.example/briskwarden/signon"
)

const logged = `{"subject":{"type":"user","id":"mira.holt"},"action":{"name":"sign-on"},"resource":{"type":"app","id":"crew-roster"},"context":{"id":"s-1",` +
	`"time":"2026-10-26T05:30:49+01:00","ip":"::ffff:198.51.100.209","country":"NO","client":"browser","device":{"id":"deck-tab-03","managed":true,"jailbroken":false,` +
	`"reported":"2026-10-26T05:00:00Z","os":"ios","form":"tablet"},"session":{"id":"w","started":"2026-10-26T05:30:49+01:00"},"presented":["password","passkey"],` +
	`"evidence":[{"method":"password","time":"2026-10-26T05:30:49+01:00","session":"w","device":"d","app":"a"}],"outcome":"grant","agent":"a browser","old":true}}`

// sameAsLibrary teaches a reader one line, and holds what it then reads quickly of another
// against what the JSON library reads.
func sameAsLibrary(t *testing.T, taught, text string) (quickly bool) {
	var r Reader
	var ours signon.Logged
	_ = r.Read([]byte(taught), &ours, nil)
	if !r.quickly([]byte(text), &ours, new(Arena)) {
		return false
	}
	theirs, err := signon.DecodeLogged([]byte(text))
	require.NoError(t, err, "%s", text)
	require.Equal(t, theirs, ours, "%s", text)
	return true
}

func TestReadQuickly(t *testing.T) {
	for _, text := range []string{
		logged, " {  \"context\" : { \"presented\":[], \"evidence\" : [ ] , \"device\":{ } } } \r\n", `{}`, "{\t\"subject\" :null}",
		`{"subject":{"t\u0079pe":"user"},"context":{"device":null,"risk":null,"a":{"b":[1,-2.50e+3,"c",null,[true]]}}}`,
		`{"context":{"device":{"managed":null,"form":null},"outcome":null,"evidence":[]}}`,
	} {
		require.True(t, sameAsLibrary(t, text, text), "the shape of %s is learned", text)
	}
	parts := strings.NewReplacer(`:49+01:00","ip"`, `:49.1234567+01:00","ip"`, `"started":"2026-10-26T05:30:49+01:00"`, `"started":"2026-10-26T05:30:49.1234567+02:00"`).Replace(logged)
	require.True(t, sameAsLibrary(t, logged, parts), "parts of a second")
	for _, text := range []string{`{"context/id":"s-1"}`, `{"context/device/id":"tab"}`, `{"context":{"a\"\"b":"c"}}`, `{"context":{"risk":20}}`, `{"context":{"a":"\u0062"}}`} {
		require.False(t, sameAsLibrary(t, text, text), "%s is left to the library", text)
	}
	for _, same := range [][2]string{
		{`"id":"s-1"`, `"id":"søndag, hos \u007f}]"`}, {`"id":"w"`, `"id":""`}, {`T05:00:00Z`, `T07:59:59Z`}, {`T05:00:00Z`, `T05:00:00.123456+01:00`}, {`a browser`, strings.Repeat("x", 99)},
		{`"outcome":"grant"`, `"outcome":"block"`}, {`"managed":true`, `"managed":null`}, {`"old":true`, `"old":-1.5e9`}, {`}}`, "}} \n"},
	} {
		text := strings.Replace(logged, same[0], same[1], 1)
		require.NotEqual(t, logged, text)
		require.Equal(t, !strings.Contains(same[1], `\`), sameAsLibrary(t, logged, text), "%s", same[1])
	}
	for old, now := range map[string]string{
		`"id":"s-1"`:            `"id":"s\u002d1"`,
		`{"subject"`:            "{\t\"subject\"",
		`"id":"w"`:              `"id":"w","id":"v"`,
		`"agent":"a browser"`:   `"agent":["a browser"]`,
		`"country":"NO"`:        `"country":"XX"`,
		`"client":"browser"`:    `"client":"Browser"`,
		`"type":"user"`:         `"type":"usér"`,
		`"managed":true`:        `"managed":"yes"`,
		`"managed":`:            `"managed":1`,
		`"form":"tablet"`:       `"form":"tablet","colour":"red"`,
		`T05:00:00Z`:            `T25:00:00Z`,
		`05:00:00Z"`:            `05:00:00.5+25:00"`,
		`::ffff:198.51.100.209`: ``,
		`05:00:00Z`:             `05:00:60Z`,
		`2026-10-26T05:30`:      `0026-10-26T05:30`,
		`"outcome":"grant"`:     `"outcome":null`,
		`"old":true}}`:          `"old":true}`,
		`"old":true`:            `"old":01`,
		`"old":`:                `"risk":`,
		`"subject":{`:           `"subject":{"properties":{"a":"b"},`,
		`"password","passkey"`:  `"password",`,
		`,"evidence":[{`:        `,"evidence":[,{`,
		`a browser`:             "a\tbrowser",
		`mira`:                  "m\xffra",
		`"method":"password"`:   `"method":""`,
	} {
		text := strings.Replace(logged, old, now, 1)
		require.NotEqual(t, logged, text)
		require.False(t, sameAsLibrary(t, logged, text), "%s is left to the library", now)
	}
}

// TestEveryByteCounts changes each byte of a line whose shape is known: what stands between the
// values is compared to its last word, so that the library reads what is another shape.
func TestEveryByteCounts(t *testing.T) {
	for i := range logged {
		for _, c := range []byte{'x', '"', ' '} {
			text := []byte(logged)
			if text[i] == c {
				continue
			}
			text[i] = c
			var r Reader
			var ours signon.Logged
			require.NoError(t, r.Read([]byte(logged), &ours, nil))
			if !r.quickly(text, &ours, new(Arena)) {
				continue
			}
			theirs, err := signon.DecodeLogged(text)
			require.NoError(t, err, "%s", text)
			require.Equal(t, theirs, ours, "%s", text)
		}
	}
}

// TestNoFieldStandsTwice teaches the same fields in two orders, of which no third may be made up.
func TestNoFieldStandsTwice(t *testing.T) {
	var r Reader
	for text, quickly := range map[string]bool{
		`{"context":{"id":"a","country":"NO"}}`: true, `{"context":{"country":"NO","id":"a"}}`: true,
		`{"context":{"id":"a","country":"NO","id":"a"}}`: false, `{"context":{"country":"NO","id":"a","country":"NO"}}`: false,
	} {
		for _, taught := range []string{`{"context":{"id":"a","country":"NO"}}`, `{"context":{"country":"NO","id":"a"}}`} {
			require.NoError(t, r.Read([]byte(taught), new(signon.Logged), nil))
		}
		require.Equal(t, quickly, r.quickly([]byte(text), new(signon.Logged), nil), "%s", text)
	}
}

// TestEveryFieldIsKnown holds the table of fields against the JSON of a line that states everything.
func TestEveryFieldIsKnown(t *testing.T) {
	var whole signon.Logged
	fill(t, reflect.ValueOf(&whole).Elem())
	whole.Suppose = nil // which a log refuses
	text, err := json.Marshal(whole)
	require.NoError(t, err)
	paths := []string{"context/device/" + someName}
	var value any
	require.NoError(t, json.Unmarshal(text, &value))
	var walk func(value any, path string)
	walk = func(value any, path string) {
		paths = append(paths, path)
		if f := fieldAt(path); f != nil && f.kind == library {
			return
		}
		switch v := value.(type) {
		case map[string]any:
			for name := range v {
				walk(v[name], strings.TrimPrefix(path+"/"+name, "/"))
			}
		case []any:
			walk(v[0], path+"/*")
		}
	}
	walk(value, "")
	require.ElementsMatch(t, append(slices.DeleteFunc(slices.Collect(maps.Keys(fields)), func(path string) bool { return path == "context/suppose" }), "context/device/"+someName, "context/device/"+someName), paths)
}

const someName = "colour"

// fill gives every field of a struct some value that it may have.
func fill(t *testing.T, v reflect.Value) {
	switch at := v.Addr().Interface().(type) {
	case *time.Time:
		*at = time.Date(2026, 11, 23, 8, 15, 0, 0, time.UTC)
		return
	case *netip.Addr:
		*at = netip.MustParseAddr("192.0.2.1")
		return
	case *signon.YesNo:
		*at = signon.Yes
		return
	case *signon.Client:
		*at = signon.Browser
		return
	case *signon.ConsentFor:
		*at = signon.ForGroup
		return
	case *map[string]any:
		*at = map[string]any{someName: "red"}
		return
	}
	switch v.Kind() {
	case reflect.String:
		v.SetString("NO")
	case reflect.Bool:
		v.SetBool(true)
	case reflect.Pointer:
		v.Set(reflect.New(v.Type().Elem()))
		fill(t, v.Elem())
	case reflect.Slice:
		v.Set(reflect.MakeSlice(v.Type(), 1, 1))
		fill(t, v.Index(0))
	case reflect.Struct:
		for i := range v.NumField() {
			fill(t, v.Field(i))
		}
	case reflect.Float64, reflect.Uint8:
	default:
		t.Fatalf("a line has a %s", v.Type())
	}
}

// TestArenaServesAgain reads lines of many shapes into one arena, freed between them, and into none.
func TestArenaServesAgain(t *testing.T) {
	cut := []string{`"managed":true,`, `,"reported":"2026-10-26T05:00:00Z"`, `"password",`, `"session":{"id":"w","started":"2026-10-26T05:30:49+01:00"},`, `,"app":"a"`,
		`"evidence":[{"method":"password","time":"2026-10-26T05:30:49+01:00","session":"w","device":"d","app":"a"}],`, `"country":"NO",`}
	var r Reader
	var arena Arena
	for i := range 4 << len(cut) {
		text := logged
		for bit, part := range cut {
			if i>>bit&1 == 1 {
				text = strings.Replace(text, part, "", 1)
			}
		}
		var l, other signon.Logged
		require.NoError(t, r.Read([]byte(text), &l, &arena))
		require.NoError(t, r.Read([]byte(logged), &other, &arena))
		alone, err := signon.DecodeLogged([]byte(text))
		require.NoError(t, err)
		require.Equal(t, alone, l, "%s", text)
		arena.Free()
	}
}

// TestReadersLearnWithinBounds feeds a reader more shapes than it keeps.
func TestReadersLearnWithinBounds(t *testing.T) {
	var r Reader
	for i := range 20_000 {
		line := strings.Replace(logged, `"agent"`, fmt.Sprintf(`"%x"`, i*i), 1)
		require.NoError(t, r.Read([]byte(line), new(signon.Logged), nil))
	}
	require.LessOrEqual(t, r.shapes.learned, mostLearned+mostOfOne)
	require.Less(t, len(r.shapes.states), 5000)
	require.True(t, r.quickly([]byte(strings.Replace(logged, `"agent"`, `"0"`, 1)), new(signon.Logged), nil), "what was learned stays")
}

func FuzzReadQuickly(f *testing.F) {
	f.Add(logged, logged)
	f.Add(logged, strings.ReplaceAll(logged, "a", "b"))
	f.Add(`{"context":{"evidence":[{"method":"a","time":"2026-10-26T05:30:49Z"}]}}`, `{"context":{"evidence":[{"method":"a","time":"2026-10-26T05:30:49Z"},{"method":"a","time":"2026-10-26T05:30:49Z"}]}}`)
	f.Fuzz(func(t *testing.T, taught, text string) {
		sameAsLibrary(t, taught, text)
		sameAsLibrary(t, text, text)
		sameEvaluation(t, taught, text)
		sameEvaluation(t, text, text)
	})
}

// sameEvaluation reads a request after another was learned, as the library does.
func sameEvaluation(t *testing.T, taught, text string) {
	var r Reader
	var l signon.Logged
	_ = r.ReadEvaluation([]byte(taught), &l) // which need not be one
	err := r.ReadEvaluation([]byte(text), &l)
	want, wrong := signon.DecodeEvaluation([]byte(text))
	require.Equal(t, wrong, err)
	if wrong == nil {
		require.Equal(t, want, l)
	}
}

// TestQuickStringsStay reads many requests, whose strings must not change under each other.
func TestQuickStringsStay(t *testing.T) {
	var kept []signon.Logged
	var r Reader
	var arena Arena
	for i := range 5000 {
		var l signon.Logged
		line := strings.ReplaceAll(logged, "s-1", strings.Repeat("x", i%997)+"-"+strings.Repeat("y", i%31))
		line = strings.ReplaceAll(line, "mira.holt", fmt.Sprintf("mira.holt.%d.of.eastholm", i%9))
		require.NoError(t, r.Read([]byte(line), &l, &arena))
		kept = append(kept, l)
		if i%7 == 0 {
			arena.Free()
		}
	}
	for i, l := range kept {
		require.Equal(t, strings.Repeat("x", i%997)+"-"+strings.Repeat("y", i%31), l.ID)
		require.Equal(t, fmt.Sprintf("mira.holt.%d.of.eastholm", i%9), l.User)
	}
}

func BenchmarkReadBesideLibrary(b *testing.B) {
	b.Run("quick", func(b *testing.B) {
		b.ReportAllocs()
		var r Reader
		var arena Arena
		for b.Loop() {
			if err := r.Read([]byte(logged), new(signon.Logged), &arena); err != nil {
				b.Fatal(err)
			}
			arena.Free()
		}
	})
	b.Run("library", func(b *testing.B) {
		b.ReportAllocs()
		for b.Loop() {
			if _, err := signon.DecodeLogged([]byte(logged)); err != nil {
				b.Fatal(err)
			}
		}
	})
}

// TestNothingPointsIntoTheLine: the memory of a line may serve again as soon as it is read.
func TestNothingPointsIntoTheLine(t *testing.T) {
	stated := `{"subject":{"id":"ann","properties":{"site":"Eastholm","floors":[1,2]}},"resource":{"id":"news"},"context":{"risk":20,"device":{"id":"tab","colour":"red"},` +
		`"consent":{"client":"notes","publisher":"Fern","scopes":["read"]},"evidence":[{"method":"password","time":"2026-10-26T05:30:49.25+01:00"}]}}`
	var r Reader
	for _, text := range []string{logged, logged, stated, stated, strings.ReplaceAll(logged, "s-1", strings.Repeat("s", 999))} {
		var arena Arena
		var got signon.Logged
		line := []byte(text)
		require.NoError(t, r.Read(line, &got, &arena))
		want, err := signon.DecodeLogged([]byte(text))
		require.NoError(t, err)
		clear(line)
		require.Equal(t, want, got)
	}
}
