package service_test

import (
	"bufio"
	"context"
	"fmt"
	"math/rand/v2"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/require"

	"briskwarden.example/briskwarden"
	"briskwarden.example/briskwarden/service"
	"briskwarden.example/briskwarden/store/sqlite"
)

// The environment of a process that decides until it is killed: where its rules and state are, and the sign-ons to decide on.
const (
	childDir  = "OUTBOX_TEST_DIR"
	childFrom = "OUTBOX_TEST_FROM"
)

func TestMain(m *testing.M) {
	if dir := os.Getenv(childDir); dir != "" {
		decideUntilKilled(dir)
		return
	}
	os.Exit(m.Run())
}

// The size of the test: each of the sign-ons raises every alert, to two receivers.
const (
	killedAlerts  = 100
	killedSignOns = 50
	mostKills     = 12
)

// decideUntilKilled decides on one sign-on after the other, tells of each once it is answered, and goes on sending.
func decideUntilKilled(dir string) {
	service.Hasten(20 * time.Millisecond)
	rules, err := os.ReadFile(filepath.Join(dir, "rules"))
	if err != nil {
		panic(err)
	}
	r, err := briskwarden.OpenFS(fstest.MapFS{"rulebook.warden": {Data: rules}})
	if err != nil {
		panic(err)
	}
	store, err := sqlite.Open(filepath.Join(dir, "brisk.state"))
	if err != nil {
		panic(err)
	}
	s := &served{TB: &testing.T{}, state: &clock{Store: store}, Service: service.New(r, store, service.Options{})}
	var from int
	_, _ = fmt.Sscan(os.Getenv(childFrom), &from)
	for i := from; i < killedSignOns; i++ {
		status, _, _ := s.askIn(context.Background(), "web", "POST", "/access/v1/evaluation", question("ann", "roster", fmt.Sprintf(`"id":"r%d","ip":"127.0.0.1"`, i)))
		if status == http.StatusOK {
			fmt.Println(i)
		}
	}
	select {}
}

// TestKilledOutbox kills the process that raises and sends alerts again and again, while the receivers fail half the time:
// every alert of every sign-on that was answered arrives, and what arrives twice has the same id.
func TestKilledOutbox(t *testing.T) {
	var failing sync.Mutex
	half := rand.New(rand.NewPCG(1, 2))
	flaky := func(int) int {
		failing.Lock()
		defer failing.Unlock()
		return []int{204, 500}[half.IntN(2)]
	}
	receivers := []*hook{hooked(t, flaky), hooked(t, flaky)}
	var rules strings.Builder
	rules.WriteString(ferryRules())
	for i := range killedAlerts {
		fmt.Fprintf(&rules, "alert a%d { when network in ashore tell %q, %q }\n", i, receivers[0].url(), receivers[1].url())
	}
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "rules"), []byte(rules.String()), 0o600))

	var answered atomic.Int64
	missing := func() (n int) {
		for _, h := range receivers {
			got := arrived(h)
			for i := range killedSignOns {
				for a := range killedAlerts {
					if got[fmt.Sprintf("a%d r%d", a, i)] == "" {
						n++
					}
				}
			}
		}
		return n
	}
	deadline := time.Now().Add(4 * time.Minute)
	for kills := 0; answered.Load() < killedSignOns || missing() > 0; kills++ {
		require.True(t, time.Now().Before(deadline), "%d of %d answered, %d missing", answered.Load(), killedSignOns, missing())
		c := exec.Command(os.Args[0])
		c.Env = append(os.Environ(), childDir+"="+dir, fmt.Sprintf("%s=%d", childFrom, answered.Load()))
		out, err := c.StdoutPipe()
		require.NoError(t, err)
		require.NoError(t, c.Start())
		read := make(chan struct{})
		go func() {
			defer close(read)
			for lines := bufio.NewScanner(out); lines.Scan(); {
				answered.Add(1)
			}
		}()
		if kills < mostKills {
			time.Sleep(time.Duration(300+rand.IntN(2000)) * time.Millisecond)
		} else { // the rest may take its time
			for answered.Load() < killedSignOns || missing() > 0 && time.Now().Before(deadline) {
				time.Sleep(time.Second)
			}
		}
		require.NoError(t, c.Process.Kill())
		<-read
		require.Error(t, c.Wait())
	}
	for _, h := range receivers {
		ids := map[string]string{}
		for _, p := range h.got() {
			what, id := fmt.Sprint(p.told.Data["alert"], p.told.Timestamp), p.header.Get("webhook-id")
			if before, twice := ids[id]; twice {
				require.Equal(t, before, what, "what has one id is one message")
			}
			ids[id] = what
		}
	}
}

// arrived are the ids under which alerts of sign-ons were taken.
func arrived(h *hook) map[string]string {
	got := map[string]string{}
	for _, p := range h.got() {
		if p.status < 300 {
			got[fmt.Sprint(p.told.Data["alert"], " ", p.told.Data["id"])] = p.header.Get("webhook-id")
		}
	}
	return got
}
