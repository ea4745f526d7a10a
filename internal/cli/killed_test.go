package cli_test

import (
	"bytes"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

const smallRulebook = `rulebook small { unmatched grant }
user ann { }
app news { }
`

const smallSignOn = `{"subject":{"id":"ann"},"resource":{"id":"news"},"context":{"time":"2026-11-18T09:00:00Z","country":"NO"}}` + "\n"

// wide is the same sign-on on a long line: logs are read by their bytes, and decisions are slow.
var wide = append(bytes.Repeat([]byte(" "), 2000), smallSignOn...)

// TestKilledReplay kills replays in the middle: what stands under the name of --out is what
// stood there before, whole.
func TestKilledReplay(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "rulebook.warden"), []byte(smallRulebook), 0o644))
	for _, name := range []string{"out.jsonl", "out.jsonl.gz"} {
		out := filepath.Join(dir, name)
		replay := func(log io.Reader) *exec.Cmd {
			c := exec.Command("brisk", "replay", "-r", dir, "--out", out, "-")
			c.Stdin = log
			return c
		}
		kill := func() {
			in, feed := io.Pipe()
			c := replay(in)
			c.WaitDelay = time.Second
			require.NoError(t, c.Start())
			go func() {
				for {
					if _, err := feed.Write(bytes.Repeat(wide, 100)); err != nil {
						return
					}
				}
			}()
			require.Eventually(t, func() bool {
				unfinished, err := filepath.Glob(filepath.Join(dir, "."+name+".unfinished-*"))
				require.NoError(t, err)
				for _, f := range unfinished {
					if info, err := os.Stat(f); err == nil && info.Size() > 0 {
						return true
					}
				}
				return false
			}, 30*time.Second, 5*time.Millisecond, "decisions are written on the way")
			require.NoError(t, c.Process.Kill())
			in.Close()
			require.Error(t, c.Wait())
		}
		kill()
		require.NoFileExists(t, out)
		require.NoError(t, replay(bytes.NewReader([]byte(smallSignOn))).Run())
		whole, err := os.ReadFile(out)
		require.NoError(t, err)
		kill()
		after, err := os.ReadFile(out)
		require.NoError(t, err)
		require.Equal(t, whole, after)
	}
}
