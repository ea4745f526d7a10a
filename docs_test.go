package briskwarden_test

import (
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/require"

	"briskwarden.example/briskwarden/internal/engine"
	"briskwarden.example/briskwarden/internal/expect"
	"briskwarden.example/briskwarden/internal/findings"
	"briskwarden.example/briskwarden/internal/rulebook"
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
	rb := rulebook.Load(fstest.MapFS{"rulebook.warden": {Data: []byte(src.String())}}, rulebook.Options{})
	require.Empty(t, rb.Diagnostics)
	warnings, _ := findings.Check(rb, oracleEpoch)
	require.Empty(t, warnings)
	require.Len(t, rb.Expects, 4)
	e := engine.New(rb, engine.Sources{})
	for _, x := range rb.Expects {
		r, err := expect.Run(e, x, oracleEpoch)
		require.NoError(t, err)
		require.Empty(t, r.Failed, x.Name)
	}
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
	rb := rulebook.Load(files, rulebook.Options{})
	require.Empty(t, rb.Diagnostics)
	list, _ := findings.Check(rb, oracleEpoch)
	require.Empty(t, list)
	require.Len(t, rb.Loaded, 9)
	for _, l := range rb.Loaded {
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
	rb := rulebook.Load(fstest.MapFS{"rulebook.warden": {Data: []byte(src)}}, rulebook.Options{})
	require.NoError(t, rb.Diagnostics.Err())
	require.Len(t, rb.Expects, 1)
	r, err := expect.Run(engine.New(rb, engine.Sources{}), rb.Expects[0], oracleEpoch)
	require.NoError(t, err)
	require.Empty(t, r.Failed)
}
