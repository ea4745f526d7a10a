package language_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"briskwarden.example/briskwarden/language"
	"briskwarden.example/briskwarden/language/ast"
	"briskwarden.example/briskwarden/language/parser"
	"briskwarden.example/briskwarden/language/scanner"
	"briskwarden.example/briskwarden/language/token"
)

// written are a condition and a demand as the tree writes them back.
func written(t *testing.T, condition, demand string) (string, string) {
	t.Helper()
	src := "policy p { who everyone to everything case \"x\" when " + condition + " => step-up " + demand + " otherwise => block }"
	tree, err := language.Parse("x.warden", []byte(src))
	require.NoError(t, err, src)
	c := tree.Decls[0].(*ast.Policy).Cases[0]
	return c.Cond.String(), c.Outcome.Demand.String()
}

// TestTreeWritesWhatItRead holds the text of conditions and demands, which reasons and
// decisions show, against what was written.
func TestTreeWritesWhatItRead(t *testing.T) {
	for _, condition := range []string{
		"network in terminals, 192.0.2.0/24", "network not in a and country is not NO", "not (a or b) and surely not c", "device.version >= 17.2",
		"user.risk at least high or user.risk at most low", "time before 2026-12-01 and time after user.ends", "user.joined within 24h",
		"user.joined not within 7d", "user has passkey, aal2", "device meets crew-phone is not known", "scopes within a, b and scopes touch c",
		"country is known and client is not unknown", `user.department is "unknown"`, `user.desk in "Front*desk", back`, "risk.band is severe",
		"((a))", "not not a", "surely (a and b) or (c)", "travel.speed < 0.5 and reported.risk <= 3 or risk > 9",
	} {
		got, _ := written(t, strings.ReplaceAll(condition, " ", "\n  "), "aal1")
		require.Equal(t, condition, got)
	}
	for _, demand := range []string{
		"passkey or security-key and password", "(passkey or app-code) every 12h", "strong every time and change-password", "aal2 every session per app",
		"password every 30m on any device per app", "enrol passkey grace 21d and password", "device meets crew-phone and (a or (b and c) every time)",
		`"shore*push" or "every"`, "enrol pin",
	} {
		_, got := written(t, "a", strings.ReplaceAll(demand, " ", " # x\n"))
		require.Equal(t, demand, got)
	}
}

func TestPrecedence(t *testing.T) {
	tree, err := language.Parse("x", []byte(`baseline b { check "x" a or b and not c or d }`))
	require.NoError(t, err)
	or := tree.Decls[0].(*ast.Baseline).Checks[0].Cond.(*ast.Or)
	require.Len(t, or.Parts, 3)
	require.Len(t, or.Parts[1].(*ast.And).Parts, 2)
	require.IsType(t, &ast.Not{}, or.Parts[1].(*ast.And).Parts[1])
	tree, err = language.Parse("x", []byte(`demand d { a or b and c every time or d }`))
	require.NoError(t, err)
	demand := tree.Decls[0].(*ast.NamedDemand).Demand.(*ast.DemandOr)
	require.Len(t, demand.Parts, 3)
	require.Nil(t, demand.Parts[1].(*ast.DemandAnd).Parts[0].(*ast.DemandAtom).Fresh)
	require.Equal(t, ast.EveryTime, demand.Parts[1].(*ast.DemandAnd).Parts[1].(*ast.DemandAtom).Fresh.Kind)
}

func TestSignOnInClauses(t *testing.T) {
	s, err := parser.SignOn("command line", `having pin 3d in session s1 on device d1 for app a1  risk 35  device { os android  version 14 }
		presenting password, "shore push"  session s2 started 2026-11-23T07:50  client native  at 2026-11-23T08:15+01:00
		country NO  ip 2001:db8::7  doing consent  app "the app"  user mira.holt@skerry.example  having face 30m`)
	require.NoError(t, err)
	require.Equal(t, "mira.holt@skerry.example", s.User.Text)
	require.Equal(t, []string{"the app", "consent", "2001:db8::7", "NO", "2026-11-23T08:15+01:00", "native", "s2", "2026-11-23T07:50", "35"},
		[]string{s.App.Text, s.Doing.Text, s.IP.Text, s.Country.Text, s.At.Text, s.Client.Text, s.Session.Text, s.Started.Text, s.Risk.Text})
	require.Len(t, s.Presented, 2)
	require.False(t, s.Device.ID.Given())
	require.Len(t, s.Device.Fields, 2)
	require.Len(t, s.Having, 2)
	require.Equal(t, ast.Duration{Pos: s.Having[0].Age.Pos, Count: 3, Unit: 'd'}, s.Having[0].Age)
	require.Equal(t, []string{"s1", "d1", "a1"}, []string{s.Having[0].Session.Text, s.Having[0].Device.Text, s.Having[0].App.Text})
	for text, at := range map[string]string{"user": "1:5", "user a user b": "1:8", "user a, b": "1:7", "presenting": "1:11", "device d { os }": "1:15",
		"device d { os x, version 1 }": "1:16", "having pin": "1:11", "session s started": "1:18", "usr a": "1:1", "client phone": "1:8"} {
		_, err := parser.SignOn("", text)
		var list token.ErrorList
		require.ErrorAs(t, err, &list, text)
		require.Equal(t, at, list[0].Pos.String(), text)
	}
}

func TestWordsAndStrings(t *testing.T) {
	for _, word := range []string{"deck-crew", "mira.holt@skerry.example", "192.0.2.0/25", "06:00-20:00", "2001:db8::/48", "ørnes", "a+b", "-x", "1..2", "日本"} {
		require.True(t, scanner.IsWord(word), word)
		require.Equal(t, word, scanner.Quote(word))
	}
	for _, name := range []string{"", "-", "..", "a b", "and", "or", "not", "surely", "except", "a#b", "a*", "a\"b", "a\nb", "a\xff"} {
		require.False(t, scanner.IsWord(name), name)
		quoted := scanner.Quote(name)
		if name == "a\xff" {
			continue
		}
		var errors token.ErrorList
		tokens := scanner.All("x", []byte(quoted), &errors)
		require.Empty(t, errors, quoted)
		require.Equal(t, token.String, tokens[0].Kind)
		require.Equal(t, name, tokens[0].Text)
	}
	for text, want := range map[string]string{"12h": "12h", "0m": "0m", "21d": "21d", "5200w": "5200w"} {
		d, err := parser.ParseDuration(text)
		require.NoError(t, err)
		require.Equal(t, want, d.String())
	}
	for _, text := range []string{"", "h", "12", "12s", "1.5h", "-1h", "+1h", "12 h", "12H", "999999999999999999999d", "40000d"} {
		_, err := parser.ParseDuration(text)
		require.Error(t, err, text)
	}
}
