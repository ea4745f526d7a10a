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
	require.Empty(t, findings.Check(rb, oracleEpoch))
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
