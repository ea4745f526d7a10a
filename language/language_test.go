package language_test

import (
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/google/go-cmp/cmp"
	"github.com/stretchr/testify/require"

	"briskwarden.example/briskwarden/language"
	"briskwarden.example/briskwarden/language/scanner"
	"briskwarden.example/briskwarden/language/token"
)

// texts are the rulebook files of the repository.
func texts(t testing.TB) map[string]string {
	files := map[string]string{}
	for _, dir := range []string{"../demo", "../internal/cli/starter", "testdata"} {
		err := filepath.WalkDir(dir, func(name string, d fs.DirEntry, err error) error {
			if err == nil && strings.HasSuffix(name, ".warden") {
				src, err := os.ReadFile(name)
				require.NoError(t, err)
				files[name] = string(src)
			}
			return err
		})
		require.NoError(t, err)
	}
	return files
}

// raws are the tokens and comments of a text, in order.
func raws(src string) (list []string) {
	var errors token.ErrorList
	for _, t := range scanner.All("x", []byte(src), &errors) {
		list = append(list, t.Raw)
	}
	return list
}

func checkFormat(t *testing.T, src string) {
	once, err := language.Format("x.warden", []byte(src))
	if err != nil {
		var list token.ErrorList
		require.ErrorAs(t, err, &list)
		for _, e := range list {
			require.True(t, e.Pos.IsValid() || strings.Contains(e.Msg, "larger"), "an error without a place: %v", e)
			require.NotEmpty(t, e.Msg)
		}
		return
	}
	require.Equal(t, raws(src), raws(string(once)), "formatting changed a token or lost a comment")
	twice, err := language.Format("x.warden", once)
	require.NoError(t, err, "the formatted text does not parse:\n%s", once)
	require.Empty(t, cmp.Diff(string(once), string(twice)), "formatting is not idempotent")
	for line := range strings.Lines(string(once)) {
		require.Equal(t, strings.TrimRight(line, " \n"), strings.TrimRight(line, "\n"), "white space at a line's end")
	}
}

func TestFormatKeepsMeaningAndIsIdempotent(t *testing.T) {
	for name, src := range texts(t) {
		t.Run(name, func(t *testing.T) {
			checkFormat(t, src)
			checkFormat(t, strings.Join(strings.Fields(strings.ReplaceAll(src, "#", "\n#")), "\n"))
			checkFormat(t, strings.ReplaceAll(src, " ", " # a comment\n"))
			checkFormat(t, strings.ReplaceAll(src, "\n", "\r\n\n\n"))
		})
	}
}

func TestFormatGolden(t *testing.T) {
	src, err := os.ReadFile("testdata/untidy.warden")
	require.NoError(t, err)
	want, err := os.ReadFile("testdata/untidy.golden")
	require.NoError(t, err)
	got, err := language.Format("untidy.warden", src)
	require.NoError(t, err)
	require.Empty(t, cmp.Diff(string(want), string(got)))
}

// seed adds the declarations of the repository's files one by one: small inputs keep a fuzzer quick.
func seed(f *testing.F) {
	for _, src := range texts(f) {
		for declaration := range strings.SplitSeq(src, "\n\n") {
			f.Add(declaration)
		}
	}
}

func FuzzFormat(f *testing.F) {
	seed(f)
	f.Add("policy p { who everyone to everything otherwise => step-up (a or b) every 2h # why\n}")
	f.Fuzz(func(t *testing.T, src string) { checkFormat(t, src) })
}

func FuzzParse(f *testing.F) {
	seed(f)
	f.Fuzz(func(t *testing.T, src string) {
		tree, err := language.Parse("x.warden", []byte(src))
		require.NotNil(t, tree)
		var list token.ErrorList
		if err != nil {
			require.ErrorAs(t, err, &list)
		}
		for _, d := range tree.Decls {
			require.True(t, d.Head().Keyword.Pos.IsValid())
		}
	})
}

func FuzzScan(f *testing.F) {
	f.Add(`a "b\n" # c` + "\n=> >= {")
	f.Fuzz(func(t *testing.T, src string) {
		var errors token.ErrorList
		rest := strings.TrimPrefix(src, "\ufeff")
		tokens := scanner.All("x", []byte(src), &errors)
		for _, tok := range tokens {
			_, after, found := strings.Cut(rest, tok.Raw)
			require.True(t, found, "the token %q does not stand in the text", tok.Raw)
			rest = after
		}
		require.Equal(t, token.EOF, tokens[len(tokens)-1].Kind)
	})
}

// TestPlainDataStandsInAnyOrder: clauses of plain data do, and each still stands once; those of policies keep theirs.
func TestPlainDataStandsInAnyOrder(t *testing.T) {
	for _, src := range []string{
		"user a { attr x 1  active no  risk low  joined 2024-01-01  methods pin  groups g  type guest }",
		"app a { url \"https://a.example\"  tags t  about \"x\" }",
		"action a { about \"x\" }",
		"method m { phishing-resistant  amr x  kind possession  hardware }",
	} {
		checkFormat(t, src)
		_, err := language.Parse("x.warden", []byte(src))
		require.NoError(t, err, src)
	}
	for src, want := range map[string]string{
		"user a { methods pin  type guest  methods pin }":            `"methods" stands twice`,
		"method m { hardware }":                                      `has no "kind"`,
		"policy p { to everything who everyone otherwise => block }": `"who" stands after "to"`,
	} {
		_, err := language.Parse("x.warden", []byte(src))
		require.ErrorContains(t, err, want, src)
	}
}
