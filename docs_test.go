package briskwarden_test

import (
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/require"

	"briskwarden.example/briskwarden"
	"briskwarden.example/briskwarden/expect"
	"briskwarden.example/briskwarden/findings"
	"briskwarden.example/briskwarden/language"
)

var fenced = regexp.MustCompile("(?s)```warden\n(.*?)```")

// TestTutorialIsTrue reads the rulebook off the language's page, and runs its expectations.
func TestTutorialIsTrue(t *testing.T) {
	page, err := os.ReadFile("docs/language.md")
	require.NoError(t, err)
	var src strings.Builder
	for _, block := range fenced.FindAllStringSubmatch(string(page), -1) {
		formatted, err := language.Format("language.md", []byte(block[1]))
		require.NoError(t, err)
		require.Equal(t, block[1], string(formatted), "the page shows the one layout")
		src.WriteString(block[1])
	}
	rules, err := briskwarden.OpenFS(fstest.MapFS{"rulebook.warden": {Data: []byte(src.String())}}, briskwarden.WithClock(func() time.Time { return oracleEpoch }))
	require.NoError(t, err)
	report, err := findings.Of(t.Context(), rules, findings.Options{})
	require.NoError(t, err)
	require.Empty(t, report.Findings)
	results, err := expect.Run(t.Context(), rules)
	require.NoError(t, err)
	require.Len(t, results.Expectations, 4)
	require.Zero(t, results.Failed)
}

var links = regexp.MustCompile(`\]\(([^)#:]+)(#[^)]*)?\)`)

func TestLinksOfTheDocsLeadSomewhere(t *testing.T) {
	pages, err := filepath.Glob("docs/*.md")
	require.NoError(t, err)
	for _, page := range append(pages, "README.md", "CHANGELOG.md") {
		text, err := os.ReadFile(page)
		require.NoError(t, err)
		for _, link := range links.FindAllStringSubmatch(string(text), -1) {
			_, err := os.Stat(filepath.Join(filepath.Dir(page), filepath.FromSlash(link[1])))
			require.NoError(t, err, "%s links to %s", page, link[1])
		}
	}
}

var samples = regexp.MustCompile("(?s)```\\w+ (\\S+)\n(.*?)```")

// TestSamplesOfTheDataPageLoad loads the files that the page shows, as they stand.
func TestSamplesOfTheDataPageLoad(t *testing.T) {
	page, err := os.ReadFile("docs/your-data.md")
	require.NoError(t, err)
	files := fstest.MapFS{}
	for _, s := range samples.FindAllStringSubmatch(string(page), -1) {
		files[s[1]] = &fstest.MapFile{Data: []byte(s[2])}
	}
	require.Len(t, files, 10)
	tidy, err := language.Format("rulebook.warden", files["rulebook.warden"].Data)
	require.NoError(t, err)
	require.Equal(t, string(files["rulebook.warden"].Data), string(tidy))
	report, err := findings.Read(t.Context(), files, findings.Options{At: oracleEpoch.Format(time.RFC3339)})
	require.NoError(t, err)
	require.Empty(t, report.Findings)
	require.Len(t, report.Loaded, 9)
	for _, l := range report.Loaded {
		require.NotEmpty(t, l.Items, l.File)
		require.Empty(t, l.Aside, l.File)
	}
}

// TestConsentPageIsTrue reads the policy and the expectation off the page, between what they speak of.
func TestConsentPageIsTrue(t *testing.T) {
	page, err := os.ReadFile("docs/consent.md")
	require.NoError(t, err)
	src := "rulebook page { }\nuser mira.holt { methods password }\ngroup consent-reviewers { user mira.holt }\napp crew-roster { }\ndemand second-factor { passkey or app-code }\n"
	for _, block := range fenced.FindAllStringSubmatch(string(page), -1) {
		formatted, err := language.Format("consent.md", []byte(block[1]))
		require.NoError(t, err)
		require.Equal(t, block[1], string(formatted), "the page shows the one layout")
		src += block[1]
	}
	rules, err := briskwarden.OpenFS(fstest.MapFS{"rulebook.warden": {Data: []byte(src)}})
	require.NoError(t, err)
	results, err := expect.Run(t.Context(), rules)
	require.NoError(t, err)
	require.Len(t, results.Expectations, 1)
	require.Zero(t, results.Failed)
}
