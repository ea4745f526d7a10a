package cli_test

import (
	"bufio"
	"bytes"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/go-json-experiment/json"
	"github.com/stretchr/testify/require"

	"briskwarden.example/briskwarden/consent"
	"briskwarden.example/briskwarden/internal/cli"
	"briskwarden.example/briskwarden/store/sqlite"
)

const consentRulebook = `rulebook small { floor none }
user ann { groups deck }
user rev { groups reviewers }
group deck { }
group reviewers { }
app news { }
scopes basic weight 0 { openid }
policy consenting {
  who   everyone
  to    everything
  doing consent
  case "harmless" when scopes within basic => grant
  otherwise => review by group reviewers
}
`

// consenter asks and settles one thing after the other, until it is killed: consenter DIR NAME.
// Every answer stands on a line of standard output.
func consenter() {
	run := func(args ...string) string {
		var out bytes.Buffer
		args = append([]string{"consent", args[0], "-r", os.Args[1], "--json"}, args[1:]...)
		if status := cli.Main(args, cli.Streams{In: os.Stdin, Out: &out, Err: os.Stderr}); status != 0 {
			os.Exit(status)
		}
		os.Stdout.Write(out.Bytes())
		return out.String()
	}
	for i := 0; ; i++ {
		scope := []string{"openid", "mail.read"}[i%2]
		answer := run("ask", "user", "ann", "app", "news", "client", fmt.Sprintf("%s-%d", os.Args[2], i), "scopes", scope)
		var asked struct {
			Consent consent.Consent `json:"consent"`
		}
		if json.Unmarshal([]byte(answer), &asked) == nil && asked.Consent.State == consent.Waiting {
			run("settle", asked.Consent.ID.String(), []string{"grant", "refuse"}[i/2%2], "--by", "rev", "--because", "so")
		}
	}
}

// answers are the consents that a consenter printed, as it printed them last.
func answers(t *testing.T, printed []byte, into map[consent.ID]consent.Consent) (n int) {
	lines := bufio.NewScanner(bytes.NewReader(printed))
	for lines.Scan() {
		var answer struct {
			Consent *consent.Consent `json:"consent"` // of a request
		}
		var c consent.Consent // of a settlement
		err := json.Unmarshal(lines.Bytes(), &answer)
		switch {
		case err == nil && answer.Consent != nil:
			c = *answer.Consent
		case err == nil:
			err = json.Unmarshal(lines.Bytes(), &c)
		}
		if err != nil {
			require.NotContains(t, string(printed), string(lines.Bytes())+"\n", "only the last line can be broken off: %v", err)
			continue
		}
		into[c.ID] = c
		n++
	}
	return n
}

// TestKilledLedger kills processes that ask and settle at the same time, again and again: each
// answer that was printed is in the ledger, and the journal verifies.
func TestKilledLedger(t *testing.T) {
	const want = 1000
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "rulebook.warden"), []byte(consentRulebook), 0o644))
	printed, total := map[consent.ID]consent.Consent{}, 0
	for round := 0; total < want; round++ {
		require.Less(t, round, 200, "no round gets anywhere")
		var outs [4]bytes.Buffer
		var wg sync.WaitGroup
		for i := range outs {
			c := exec.Command("consenter", dir, fmt.Sprintf("r%d-%d", round, i))
			c.Stdout = &outs[i]
			var complaints strings.Builder
			c.Stderr = &complaints
			require.NoError(t, c.Start())
			wg.Go(func() {
				time.Sleep(time.Duration(200+rand.IntN(1500)) * time.Millisecond)
				_ = c.Process.Kill()
				_ = c.Wait()
			})
			defer func() { require.Empty(t, complaints.String()) }()
		}
		wg.Wait()
		for i := range outs {
			total += answers(t, outs[i].Bytes(), printed)
		}
		held(t, filepath.Join(dir, "consent.ledger"), printed)
	}
}

// held checks that the ledger has what was printed, or what became of it since.
func held(t *testing.T, name string, printed map[consent.ID]consent.Consent) {
	ledger, err := sqlite.Open(name)
	require.NoError(t, err)
	defer ledger.Close()
	_, err = consent.Verify(t.Context(), ledger)
	require.NoError(t, err)
	require.NoError(t, ledger.View(t.Context(), func(tx consent.Tx) error {
		for id, want := range printed {
			got, err := tx.Consent(id)
			require.NoError(t, err)
			require.NotNil(t, got, "%s was answered, and is not there", id)
			if want.State == consent.Waiting && got.State != consent.Waiting {
				continue // it was settled, and the process killed before it said so
			}
			require.Equal(t, want, *got)
		}
		return nil
	}))
}
