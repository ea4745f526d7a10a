package signon

import (
	"strings"
	"testing"

	"github.com/go-json-experiment/json"
	"github.com/stretchr/testify/require"
)

const logged = `{"subject":{"type":"user","id":"mira.holt"},"action":{"name":"sign-on"},"resource":{"type":"app","id":"crew-roster"},"context":{"id":"s-1",` +
	`"time":"2026-10-26T05:30:49+01:00","ip":"::ffff:198.51.100.209","country":"NO","client":"browser","device":{"id":"deck-tab-03","managed":true,"jailbroken":false,` +
	`"reported":"2026-10-26T05:00:00Z","os":"ios","form":"tablet"},"session":{"id":"w","started":"2026-10-26T05:30:49+01:00"},"presented":["password","passkey"],` +
	`"evidence":[{"method":"password","time":"2026-10-26T05:30:49+01:00","session":"w","device":"d","app":"a"}],"outcome":"grant","agent":"a browser","old":true}}`

// sameAsLibrary holds what is read quickly against what the JSON library reads.
func sameAsLibrary(t *testing.T, text string) (quickly bool) {
	q := quicks.Get().(*quick)
	defer quicks.Put(q)
	if !q.reads([]byte(text)) {
		return false
	}
	var theirs request
	require.NoError(t, json.Unmarshal([]byte(text), &theirs), "%s", text)
	require.Equal(t, theirs, q.read, "%s", text)
	return true
}

func TestReadQuickly(t *testing.T) {
	require.True(t, sameAsLibrary(t, logged), "the plain shape is read quickly")
	require.True(t, sameAsLibrary(t, " {  \"context\" : { \"presented\":[], \"evidence\" : [ ] , \"device\":{ } } } \r\n"))
	require.True(t, sameAsLibrary(t, `{}`))
	for old, now := range map[string]string{
		`"id":"s-1"`:           `"id":"s\u002d1"`,
		`{"subject"`:           "{\t\"subject\"",
		`"id":"w"`:             `"id":"w","id":"v"`,
		`"agent":"a browser"`:  `"agent":["a browser"]`,
		`"country":"NO"`:       `"country":"XX"`,
		`"client":"browser"`:   `"client":"Browser"`,
		`"type":"user"`:        `"type":"usér"`,
		`"managed":true`:       `"managed":"yes"`,
		`"form":"tablet"`:      `"form":"tablet","colour":"red"`,
		`T05:00:00Z`:           `T25:00:00Z`,
		`"outcome":"grant"`:    `"outcome":null`,
		`"old":true}}`:         `"old":true}`,
		`"old":true`:           `"risk":20`,
		`"subject":{`:          `"subject":{"properties":{"a":"b"},`,
		`"password","passkey"`: `"password",`,
		`,"evidence":[{`:       `,"evidence":[,{`,
		`a browser`:            "a\tbrowser",
	} {
		text := strings.Replace(logged, old, now, 1)
		require.NotEqual(t, logged, text)
		require.False(t, sameAsLibrary(t, text), "%s is left to the library", now)
	}
}

func FuzzReadQuickly(f *testing.F) {
	f.Add(logged)
	f.Fuzz(func(t *testing.T, text string) { sameAsLibrary(t, text) })
}

// TestQuickStringsStay reads many requests, whose strings must not change under each other.
func TestQuickStringsStay(t *testing.T) {
	var kept []Logged
	for i := range 5000 {
		l, err := DecodeLogged([]byte(strings.ReplaceAll(logged, "s-1", strings.Repeat("x", i%97)+"-"+strings.Repeat("y", i%31))))
		require.NoError(t, err)
		kept = append(kept, l)
	}
	for i, l := range kept {
		require.Equal(t, strings.Repeat("x", i%97)+"-"+strings.Repeat("y", i%31), l.ID)
		require.Equal(t, "mira.holt", l.User)
	}
}

func BenchmarkDecodeBesideLibrary(b *testing.B) {
	b.Run("quick", func(b *testing.B) {
		b.ReportAllocs()
		for b.Loop() {
			if _, err := DecodeLogged([]byte(logged)); err != nil {
				b.Fatal(err)
			}
		}
	})
	b.Run("library", func(b *testing.B) {
		b.ReportAllocs()
		for b.Loop() {
			var r request
			if err := json.Unmarshal([]byte(logged), &r); err != nil {
				b.Fatal(err)
			}
		}
	})
}
