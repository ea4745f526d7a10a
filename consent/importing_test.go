package consent_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"briskwarden.example/briskwarden/consent"
	"briskwarden.example/briskwarden/signon"
)

// TestPastConsents reads rows of consents that were given elsewhere: for whom, since when and until when they are, and what is refused.
func TestPastConsents(t *testing.T) {
	oslo, err := time.LoadLocation("Europe/Oslo")
	require.NoError(t, err)
	apps := []string{"roster", "pay"}
	for row, want := range map[string]string{
		"ann,a,roster,openid b a a,,,,,,":                            "self  [openid b a] -  -  ",
		"ann,a,roster,openid,self,,,,,":                              "self  [openid] -  -  ",
		"ann,a,roster,openid,,deck,,,,":                              "group deck [openid] -  -  ",
		"ann,a,roster,openid,group,deck,,,,":                         "group deck [openid] -  -  ",
		"ann,a,pay,openid,everyone,,2026-01-02,rev,,so":              "everyone  [openid] 2026-01-01T23:00:00Z rev -  so",
		"ann,a,roster,openid,,,2026-07-02T03:04,,2027-01-02T03:04Z,": "self  [openid] 2026-07-02T01:04:00Z  2027-01-02T03:04:00Z  ",
		",a,roster,openid,,,,,,":                                     "line 2: user is missing",
		"ann,,roster,openid,,,,,,":                                   "line 2: client is missing",
		"ann,a,,openid,,,,,,":                                        "line 2: app is missing",
		"ann,a,roster,,,,,,,":                                        "line 2: scopes is missing",
		"ann,a,rooster,openid,,,,,,":                                 `line 2: there is no app "rooster": did you mean "roster"?`,
		"ann,a,roster,\"a\"\"b\",,,,,,":                              "no scope",
		"ann,a,roster,openid,Self,,,,,":                              `for: "Self" is none of self, group and everyone`,
		"ann,a,roster,openid,self,deck,,,,":                          "group is named for what is for a group",
		"ann,a,roster,openid,everyone,deck,,,,":                      "group is named for what is for a group",
		"ann,a,roster,openid,group,,,,,":                             "group is named for what is for a group",
		"ann,a,roster,openid,,,soon,,,":                              "given: ",
		"ann,a,roster,openid,,,,,soon,":                              "until: ",
		"ann ,a,roster,openid,,,,,,":                                 "line 2",
	} {
		list, err := consent.ReadPast(strings.NewReader("user,client,app,scopes,for,group,given,by,until,because\n"+row+"\n"), oslo, apps)
		if err != nil {
			require.ErrorContains(t, err, want, row)
			continue
		}
		require.Len(t, list, 1)
		c := list[0]
		when := func(t time.Time) string {
			if t.IsZero() {
				return "-"
			}
			return t.Format(time.RFC3339)
		}
		require.Equal(t, strings.TrimRight(want, " "), strings.TrimRight(fmt.Sprintf("%s %s %s %s %s %s %s", c.For, c.Group, c.Granted, when(c.Asked), c.By, when(c.Until), " "+c.Because), " "), row)
		require.Equal(t, []any{consent.Granted, "ann", "a", c.Scopes}, []any{c.State, c.User, c.Client, c.Granted}, row)
	}
	_, err = consent.ReadPast(strings.NewReader("user,client,app,scopes,groups\n"), oslo, apps)
	require.ErrorContains(t, err, `there is no column "groups"`)
}

// TestRegisteredClients reads registrations as an array, as lines, and one after the other.
func TestRegisteredClients(t *testing.T) {
	a, b := `{"client_id":"a","client_name":"A","publisher_verified":true}`, `{"client_id":"b","scope":"openid"}`
	for text, want := range map[string]string{
		"[" + a + "," + b + "]":               "a A yes, b  unknown",
		"\ufeff[\n" + a + ",\n" + b + "\n]\n": "a A yes, b  unknown",
		a + "\n\n" + b + "\n":                 "a A yes, b  unknown",
		"":                                    "",
		"[]":                                  "",
		"[" + a:                               "line 1: ",
		a + "\n]":                             "line 2: ",
		a + "\n{\"client_id\":\" \"}":         "line 2: client_id is missing",
		a + "\n" + "17":                       "line 2: ",
		"[" + a + "]\n" + b:                   "line 2: ",
	} {
		list, err := consent.ReadClients(strings.NewReader(text))
		if err != nil {
			require.NotEmpty(t, want, "%q: %v", text, err)
			require.ErrorContains(t, err, want, "%q", text)
			continue
		}
		var told []string
		for _, c := range list {
			told = append(told, fmt.Sprint(c.ID, " ", c.Name, " ", map[signon.YesNo]string{signon.Yes: "yes", signon.No: "no", signon.Unknown: "unknown"}[c.Verified]))
		}
		require.Equal(t, want, strings.Join(told, ", "), "%q", text)
	}
}

func TestIDsOfConsents(t *testing.T) {
	for text, want := range map[string]consent.ID{"c-1": 1, "c-17": 17, "c-0": 0, "c--1": 0, "17": 0, "c-": 0, "C-17": 0, "c-1x": 0, "": 0} {
		id, err := consent.ParseID(text)
		require.Equal(t, []any{want, want == 0}, []any{id, err != nil}, text)
	}
}
