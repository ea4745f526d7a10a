package lines_test

import (
	"bytes"
	"compress/gzip"
	"encoding/csv"
	"errors"
	"io"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"testing/iotest"

	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/require"

	"briskwarden.example/briskwarden/internal/lines"
)

// readers read a text in one piece, byte by byte and half by half.
func readers(text string) []io.Reader {
	return []io.Reader{strings.NewReader(text), iotest.OneByteReader(strings.NewReader(text)), iotest.HalfReader(strings.NewReader(text)),
		iotest.DataErrReader(strings.NewReader(text))}
}

func TestEachLine(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 9))
	for range 100 {
		var want []string
		var text strings.Builder
		for range r.IntN(6) {
			line := strings.Repeat("å", r.IntN(3)) + strings.Repeat("x", []int{0, 5, 70_000, 200_000}[r.IntN(4)])
			want = append(want, line)
			text.WriteString(line + []string{"\n", "\r\n"}[r.IntN(2)])
		}
		if r.IntN(2) == 0 {
			want = append(want, "last")
			text.WriteString("last")
		}
		mark := []string{"", "\ufeff"}[r.IntN(2)]
		for _, in := range readers(mark + text.String())[:1+r.IntN(4)] {
			var got []string
			require.NoError(t, lines.Each(in, func(n int, line []byte) error {
				got = append(got, string(line))
				require.Equal(t, len(got), n)
				return nil
			}))
			if len(want) == 0 && mark != "" {
				want = []string{""}
			}
			require.Equal(t, want, got)
		}
	}
}

func TestLinesThatCannotBeRead(t *testing.T) {
	stop := errors.New("stop")
	for text, want := range map[string]string{
		"a\nb\xff\n":                            "line 2: is not UTF-8: save the file as UTF-8",
		"\xff\xfea\x00":                         "line 1: the file is UTF-16: save it as UTF-8",
		"a\n" + strings.Repeat("x", 17<<20):     "line 2: is longer than 16 MiB",
		"a\nb\nstop\nc\n":                       "line 3: stop",
		"a\n\xef\xbb\xbfstop":                   "",
		strings.Repeat("x", lines.Longest-1024): "",
	} {
		err := lines.Each(strings.NewReader(text), func(_ int, line []byte) error {
			if string(line) == "stop" {
				return stop
			}
			return nil
		})
		if want == "" {
			require.NoError(t, err)
			continue
		}
		require.EqualError(t, err, want)
	}
	cut := io.MultiReader(strings.NewReader("a\nhalf a li"), iotest.ErrReader(stop))
	var got []string
	err := lines.Each(cut, func(_ int, line []byte) error { got = append(got, string(line)); return nil })
	require.EqualError(t, err, "line 2: cannot be read on: stop")
	require.ErrorIs(t, err, stop)
	require.Equal(t, []string{"a"}, got, "a line that was cut off is not given")
}

// TestRowsAreThoseOfTheStandard holds rows against encoding/csv.
func TestRowsAreThoseOfTheStandard(t *testing.T) {
	r := rand.New(rand.NewPCG(4, 1))
	cells := []string{"", "a", " b ", `say "x"`, "two\nlines", "semi;colon", "com,ma", "å"}
	for range 200 {
		var text bytes.Buffer
		w := csv.NewWriter(&text)
		w.UseCRLF = r.IntN(2) == 0
		width := 1 + r.IntN(4)
		var rows [][]string
		header := []string{"id", "type", "a b", "c"}[:width]
		require.NoError(t, w.Write(header))
		for range r.IntN(5) {
			row := make([]string, width)
			for i := range row {
				row[i] = cells[r.IntN(len(cells))]
			}
			row[0] = "x" + row[0] // a row of one empty cell would be a blank line
			rows = append(rows, row)
			require.NoError(t, w.Write(row))
		}
		w.Flush()
		var got [][]string
		require.NoError(t, lines.EachRow(readers("\ufeff" + text.String())[r.IntN(4)], lines.Header{Needs: "id", Free: func(string) bool { return true }}, func(t *lines.Table) error {
			row := make([]string, len(t.Columns))
			for i := range row {
				row[i] = t.Cell(i)
			}
			got = append(got, row)
			return nil
		}))
		require.Equal(t, rows, got)
	}
}

func TestPackedFiles(t *testing.T) {
	pack := func(name, text string) []byte {
		var b bytes.Buffer
		var w io.WriteCloser = gzip.NewWriter(&b)
		if strings.HasSuffix(name, ".zst") {
			w, _ = zstd.NewWriter(&b)
		}
		_, err := io.WriteString(w, text)
		require.NoError(t, err)
		require.NoError(t, w.Close())
		return b.Bytes()
	}
	read := func(name string, data []byte) (string, error) {
		in, err := lines.Unpacked(name, bytes.NewReader(data), int64(len(data)))
		if err != nil {
			return "", err
		}
		text, err := io.ReadAll(in)
		return string(text), err
	}
	for _, name := range []string{"a.jsonl.gz", "a.jsonl.zst"} {
		text, err := read(name, pack(name, "one\ntwo\n"))
		require.NoError(t, err)
		require.Equal(t, "one\ntwo\n", text)
		require.Equal(t, ".jsonl", lines.Format(name))
		_, err = read(name, []byte("one\n"))
		require.Error(t, err)
		_, err = read(name, pack(name, strings.Repeat("one\n", 1000))[:20])
		require.Error(t, err, "truncated")
		_, err = read(name, pack(name, strings.Repeat("0", 80<<20)))
		require.ErrorContains(t, err, "unpacks to more than")
		text, err = read(name, pack(name, strings.Repeat("0", 60<<20)))
		require.NoError(t, err, "the first 64 MiB are free")
		require.Len(t, text, 60<<20)
	}
	text, err := read("a.csv", []byte("as it is"))
	require.NoError(t, err)
	require.Equal(t, "as it is", text)
}

// TestFilesKeepWhatTheyAre: their mode, and the link that leads to them; new ones have that of any new file.
func TestFilesKeepWhatTheyAre(t *testing.T) {
	dir := t.TempDir()
	at := func(name string) string { return filepath.Join(dir, name) }
	write := func(name, text string) {
		f, err := lines.Create(at(name))
		require.NoError(t, err)
		defer f.Discard()
		_, err = io.WriteString(f, text)
		require.NoError(t, err)
		require.NoError(t, f.Finish())
	}
	mode := func(name string) os.FileMode {
		info, err := os.Lstat(at(name))
		require.NoError(t, err)
		return info.Mode()
	}
	require.NoError(t, os.WriteFile(at("any"), nil, 0o666))
	write("new", "one")
	require.Equal(t, mode("any"), mode("new"))
	require.NoError(t, os.WriteFile(at("secret"), nil, 0o600))
	require.NoError(t, os.Chmod(at("secret"), 0o640))
	require.NoError(t, os.Symlink("secret", at("link")))
	write("link", "two")
	require.Equal(t, os.ModeSymlink, mode("link").Type())
	require.Equal(t, os.FileMode(0o640), mode("secret"))
	text, err := os.ReadFile(at("secret"))
	require.NoError(t, err)
	require.Equal(t, "two", string(text))
	left, err := filepath.Glob(at(".*"))
	require.NoError(t, err)
	require.Empty(t, left, "nothing is left beside")
}
