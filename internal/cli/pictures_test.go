package cli_test

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"briskwarden.example/briskwarden/demo"
	"briskwarden.example/briskwarden/internal/cli"
)

// mendedFolder is where the demo puts a copy, elsewhere every time.
var mendedFolder = regexp.MustCompile(`\S*skerry-line-mended-\d+`)

// digest is the SHA-256 of data, in hexadecimal.
func digest(data []byte) string {
	sum := sha256.Sum256(data)
	return hex.EncodeToString(sum[:])
}

// TestPicturesShowWhatIsPrinted holds every picture of the documentation against what its command
// prints now, by the digests that were noted when it was taken. One that differs is taken anew by .ci/pictures NAME.
func TestPicturesShowWhatIsPrinted(t *testing.T) {
	t.Setenv("TMPDIR", t.TempDir())
	names, err := filepath.Glob("../../docs/screenshots/*")
	require.NoError(t, err)
	require.Less(t, len(names), 20)
	names = slices.DeleteFunc(names, func(name string) bool { return filepath.Base(name) == "harbour.png" }) // which no command prints
	list, err := os.ReadFile("testdata/pictures/commands.txt")
	require.NoError(t, err)
	fails, err := os.ReadFile("testdata/pictures/fails.warden")
	require.NoError(t, err)
	noted, err := os.ReadFile("testdata/pictures/digests.txt")
	require.NoError(t, err)
	commands, taken, shown := map[string]string{}, map[string]string{}, map[string]string{}
	for line := range strings.Lines(string(list)) {
		name, command, _ := strings.Cut(line, " ")
		commands[name+".png"] = command
	}
	for line := range strings.Lines(string(noted)) {
		fields := strings.Fields(line)
		taken[fields[0]+".png"], shown[fields[0]+".png"] = fields[1], fields[2]
	}
	require.Len(t, names, len(commands))
	for _, name := range names {
		data, err := os.ReadFile(name)
		require.NoError(t, err)
		require.Equal(t, taken[filepath.Base(name)], digest(data), "%s is not as it was taken", name)
	}
	for name, command := range commands {
		t.Chdir(t.TempDir())
		require.NoError(t, os.CopyFS("rules", demo.SkerryLine()))
		require.NoError(t, os.WriteFile("rules/fails.warden", fails, 0o600))
		var out, side bytes.Buffer
		cli.Main(strings.Fields(command)[1:], cli.Streams{In: strings.NewReader(""), Out: &out, Err: &side})
		text := mendedFolder.ReplaceAll(out.Bytes(), []byte("mended"))
		if strings.Contains(command, "page.html") {
			text, err = os.ReadFile("page.html")
			require.NoError(t, err)
		}
		assert.Equal(t, shown[name], digest(text), "%s shows something else than %s prints", name, command)
	}
}
