package appurl_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"briskwarden.example/briskwarden/internal/appurl"
)

// TestEverySpellingLeadsToOneApp: whatever a request is spelt like, it is the app of its resource that answers, or none.
func TestEverySpellingLeadsToOneApp(t *testing.T) {
	var table appurl.Table
	for url, app := range map[string]string{
		"https://roster.skerry.example/*":         "roster",
		"https://roster.skerry.example/admin/*":   "admin",
		"https://roster.skerry.example/admin/log": "log",
		"https://roster.skerry.example/Team@Sea":  "sea",
		"https://*.skerry.example/*":              "any",
		"https://*.skerry.example/admin/deep/*":   "any-deep",
		"https://roster.skerry.example:8443/*":    "port",
		"http://plain.skerry.example/status":      "status",
		"https://[2001:DB8::1]/*":                 "address",
	} {
		p, err := appurl.ParsePattern(url)
		require.NoError(t, err, url)
		_, taken := table.Add(p, app)
		require.False(t, taken)
	}
	for _, c := range [][2]string{
		{"https://roster.skerry.example", "roster"},
		{"HTTPS://Roster.SKERRY.example:443/week?x=/admin/", "roster"},
		{"https://roster.skerry.example/administration", "roster"},
		{"https://roster.skerry.example/admin", "admin"},
		{"https://roster.skerry.example/admin/", "admin"},
		{"https://roster.skerry.example/%61dmin/x", "admin"},
		{"https://roster.skerry.example/admin/log", "log"},
		{"https://roster.skerry.example/admin/log/", "log"},
		{"https://roster.skerry.example/admin/log/old", "admin"},
		{"https://roster.skerry.example/admin/deep/x", "admin"}, // the whole host comes before a wildcard
		{"https://berths.skerry.example/admin/deep", "any-deep"},
		{"https://berths.skerry.example/admin", "any"},
		{"https://roster.skerry.example:8443/admin", "port"},
		{"https://roster.skerry.example:08443/admin", "port"},
		{"http://plain.skerry.example:80/status/", "status"},
		{"https://[2001:db8:0::1]:443/x", "address"},
		{"https://roster.skerry.example/" + strings.Repeat("x/", 3000), "roster"},
		// and those that belong to nothing:
		{"http://roster.skerry.example/", ""},
		{"http://plain.skerry.example/status/x", ""},
		{"https://a.b.skerry.example/", ""},
		{"https://skerry.example/", ""},
		{"https://roster.skerry.example./", ""},
		{"https://roster.skerry.example:444x/", ""},
		{"https://mira@roster.skerry.example/", ""},
		{"https://roster.skerry.example%2f/", ""},
		{"https://roster.skerry.example\\@other.example/", ""},
		{"https://roster.skerry.example/a\\..\\admin", ""},
		{"https://roster.skerry.example//admin", ""},
		{"https://roster.skerry.example/week//x", ""},
		{"https://roster.skerry.example/week;/../admin", ""},
		{"https://roster.skerry.example/week/..;/admin", ""},
		{"https://roster.skerry.example/admin/..", ""},
		{"https://roster.skerry.example/admin/../", ""},
		{"https://roster.skerry.example/admin/.%2E/week", ""},
		{"https://roster.skerry.example/%2e", ""},
		{"https://roster.skerry.example/./week", ""},
		{"https://roster.skerry.example/week/..%20/x", ""},
		{"https://roster.skerry.example/week/.../x", ""},
		{"https://roster.skerry.example/week%3b/x", ""},
		{"https://roster.skerry.example/week%3Bjsessionid=1", ""},
		{"https://roster.skerry.example/week/%c0%ae%c0%ae/x", ""},
		{"https://roster.skerry.example/week/%EF%BC%8E%EF%BC%8E/x", ""}, // full-width dots
		{"https://roster.skerry.example/week%0a", ""},
		{"https://roster.skerry.example/Admin", ""}, // a server may take it for /admin
		{"https://roster.skerry.example/ADMIN/x", ""},
		{"https://roster.skerry.example/admin/Log", ""},
		{"https://roster.skerry.example/WEEK", "roster"},
		{"https://roster.skerry.example/Team@Sea", "sea"},
		{"https://roster.skerry.example/team@sea", ""},
		{"https://roster.skerry.example/Team%40Sea", ""},
		{"https://roster.skerry.example/a.b/..c/d.", "roster"},
		{"https://roster.skerry.example/%C3%A5/x%20y", "roster"},
		{"https://roster.skerry.example/a%2Fb", ""},
		{"https://roster.skerry.example/a%5cb", ""},
		{"https://roster.skerry.example/a%252e", ""},
		{"https://roster.skerry.example/a%00", ""},
		{"https://roster.skerry.example/a%4", ""},
		{"https://roster.skerry.example/a%zz", ""},
		{"https://roster.skerry.example/a#b", ""},
		{"https://roster.skerry.example/a b", ""},
		{"https://roster.skerry.example/å", ""},
		{"https://roster.skerry.example/\x00", ""},
		{"//roster.skerry.example/", ""},
		{"/admin", ""},
		{"ftp://roster.skerry.example/", ""},
		{"https:///admin", ""},
		{"https://[::1%25eth0]/", ""},
		{"https://roster.skerry.example/" + strings.Repeat("x", 9000), ""},
		{"", ""},
	} {
		got := ""
		if a, err := appurl.Parse(c[0]); err == nil {
			got, _ = table.App(a)
		}
		require.Equal(t, c[1], got, c[0])
	}
}

func TestPatternsThatAreNone(t *testing.T) {
	for _, text := range []string{"", "roster.skerry.example", "https://*/x", "https://*.example/*", "https://a*.skerry.example/", "https://roster.skerry.example/*/x",
		"https://roster.skerry.example*", "https://roster.skerry.example/x/../*", "https://roster.skerry.example/x*", "https://roster.skerry.example/x?y", "https://u@roster.skerry.example/", "ssh://roster.skerry.example/*"} {
		_, err := appurl.ParsePattern(text)
		require.Error(t, err, text)
	}
}

// FuzzParse: what comes out in its one form comes to the same once more, and has nothing left that is read in two ways.
func FuzzParse(f *testing.F) {
	f.Add("https://a.example:443/x/..%61%3b?q")
	f.Add("http://[2001:db8::1]:8080/%2e%2e//")
	f.Fuzz(func(t *testing.T, raw string) {
		a, err := appurl.Parse(raw)
		if err != nil {
			return
		}
		again, err := appurl.Parse(a.String())
		require.NoError(t, err)
		require.Equal(t, a, again)
		for _, segment := range strings.Split(a.String(), "/")[3:] {
			require.False(t, segment != "" && strings.Trim(segment, ". ") == "", segment)
		}
		require.NotContains(t, strings.ToLower(a.String()), "%3b")
		require.NotContains(t, a.String()[8:], "//")
	})
}
