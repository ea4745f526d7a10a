package service_test

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"briskwarden.example/briskwarden/service"
	"briskwarden.example/briskwarden/service/state"
	"briskwarden.example/briskwarden/signon"
	"briskwarden.example/briskwarden/store/sqlite"
)

// TestSessionsGetOld lets sessions last, and idle, as long as policies say.
func TestSessionsGetOld(t *testing.T) {
	s := serve(t, ferryRules(), service.Options{})
	vault := func(context string) string { s.Helper(); return s.outcome("web", "ann", "vault", context) }
	require.Equal(t, "grant", vault(`"session":{"id":"s"},"presented":["password","app-code"]`))
	soon()
	for range 12 {
		s.state.pass(29 * time.Minute)
		require.Equal(t, "grant", vault(`"session":{"id":"s"}`), "used within half an hour, each time")
		soon()
	}
	s.state.pass(31 * time.Minute)
	require.Equal(t, "step-up", vault(`"session":{"id":"s"}`), "idle")
	require.Equal(t, "grant", s.outcome("web", "ann", "roster", `"session":{"id":"s"}`), "where no policy says how long")
	soon()
	require.Equal(t, "grant", vault(`"session":{"id":"s"}`), "the last grant in it, whatever the app")
	s.state.pass(4 * time.Hour)
	require.Equal(t, "step-up", vault(`"session":{"id":"s"},"presented":["password"]`))
	require.Equal(t, "grant", vault(`"session":{"id":"s"},"presented":["password","app-code"]`), "what is presented now meets everything")
	soon()
	require.Equal(t, "step-up", vault(`"session":{"id":"s"}`), "ten hours have passed since it began")

	// The begin is the earliest that anybody said, whatever a request says later.
	begun := s.now().Add(-9 * time.Hour).Format(time.RFC3339)
	require.Equal(t, "grant", vault(fmt.Sprintf(`"session":{"id":"t","started":%q},"presented":["password","app-code"]`, begun)))
	soon()
	s.state.pass(20 * time.Minute)
	require.Equal(t, "grant", vault(`"session":{"id":"t"}`))
	soon()
	s.state.pass(29 * time.Minute)
	require.Equal(t, "grant", vault(`"session":{"id":"t"}`))
	soon()
	s.state.pass(20 * time.Minute)
	require.Equal(t, "step-up", vault(fmt.Sprintf(`"session":{"id":"t","started":%q}`, s.now().Format(time.RFC3339))))
	// Evidence of a session says when it was at the latest.
	old := s.now().Add(-11 * time.Hour).Format(time.RFC3339)
	require.Equal(t, "grant", vault(`"session":{"id":"u"},"presented":["password","app-code"]`))
	soon()
	require.Equal(t, "grant", vault(`"session":{"id":"u"}`))
	require.Equal(t, "step-up", vault(fmt.Sprintf(`"session":{"id":"u"},"evidence":[{"method":"pin","time":%q,"session":"u"}]`, old)))
	require.Equal(t, "step-up", vault(`"session":{"id":"u"}`), "and it stays so")
}

// now is the time by the clock of the test.
func (s *served) now() time.Time { return time.Now().Add(time.Duration(s.state.offset.Load())) }

// TestThePastIsLearned teaches by what was granted, in time for the next answer.
func TestThePastIsLearned(t *testing.T) {
	s := serve(t, ferryRules(), service.Options{})
	log := func(user, context string) string {
		s.Helper()
		return s.outcome("web", user, "log", context+`"presented":["password"]`)
	}
	device := func(id string) string { return fmt.Sprintf(`"device":{"id":%q},`, id) }
	require.Equal(t, "block", log("ann", device("d1")))
	require.Equal(t, "block", log("ann", device("d1")), "a block teaches nothing")
	require.Equal(t, "grant", s.outcome("web", "ann", "roster", device("d1")+`"presented":["password"]`))
	s.state.pass(time.Second)
	require.Equal(t, "grant", log("ann", device("d1")))
	require.Equal(t, "block", log("ann", device("d2")))
	require.Equal(t, "block", log("bob", device("d1")), "of each user its own")
	require.Equal(t, "block", log("ann", ""), "unknown")
	require.Equal(t, "grant", s.outcome("web", "ann", "roster", device("d9")+`"presented":["password"],"time":"2026-01-01T00:00:00Z"`))
	s.state.pass(time.Second)
	require.Equal(t, "block", log("ann", device("d9")), "what is made up teaches nothing")
	s.state.pass(91 * 24 * time.Hour)
	require.Equal(t, "block", log("ann", device("d1")), "ninety days later")
}

// TestStateAway lets emergency accounts in, and nobody else, and says so.
func TestStateAway(t *testing.T) {
	var logged bytes.Buffer
	s := serve(t, ferryRules(), service.Options{Log: slog.New(slog.NewJSONHandler(&logged, nil))})
	const presenting = `"session":{"id":"s"},"presented":["password"]`
	require.Equal(t, "grant", s.outcome("web", "ann", "roster", presenting))
	another := serve(t, ferryRules(), service.Options{Clock: time.Now, Log: slog.New(slog.NewJSONHandler(&logged, nil))})
	for _, broken := range []struct {
		name  string
		s     *served
		broke func(s *served, on bool)
	}{
		{"away", s, func(s *served, on bool) { s.state.away.Store(on) }},
		{"another clock", another, func(s *served, on bool) {
			s.state.offset.Store(map[bool]int64{true: int64(3 * time.Second), false: 0}[on])
		}},
	} {
		name, s := broken.name, broken.s
		broken.broke(s, true)
		status, header, body := s.ask("web", "POST", "/access/v1/evaluation", question("ann", "roster", presenting))
		require.Equal(t, http.StatusOK, status, name)
		require.Equal(t, "1", header.Get("Retry-After"))
		require.Contains(t, body, "cannot reach what it remembers")
		require.Contains(t, body, `"outcome":"block"`)
		require.Equal(t, "grant", s.outcome("web", "root.key", "roster", `"presented":["security-key"]`))
		evidence := fmt.Sprintf(`"session":{"id":"s"},"evidence":[{"method":"security-key","time":%q,"session":"s"}]`, time.Now().Format(time.RFC3339))
		require.Equal(t, "block", s.outcome("web", "root.key", "roster", evidence))
		for _, path := range []string{"/sessions/v1/ann", "/scim/v2/Users/x"} {
			status, _, _ := s.ask("desk", "DELETE", path, "")
			require.Equal(t, http.StatusServiceUnavailable, status, path)
		}
		require.Equal(t, http.StatusServiceUnavailable, s.operation("/readyz").Code)
		require.Equal(t, http.StatusOK, s.operation("/livez").Code)
		broken.broke(s, false)
		require.Equal(t, http.StatusOK, s.operation("/readyz").Code)
		require.Equal(t, "grant", s.outcome("web", "ann", "roster", presenting), "by itself again")
		require.Contains(t, s.operation("/metrics").Body.String(), "brisk_state_errors_total 5", name)
	}
	require.NotContains(t, logged.String(), "password")
}

// halfAway is a state that can be read, and not written to.
type halfAway struct{ state.Store }

func (h halfAway) Write(_ context.Context, sets ...[]state.Change) []error {
	errs := make([]error, len(sets))
	for i := range errs {
		errs[i] = errors.New("the disk is full")
	}
	return errs
}

// TestNothingIsKept blocks what would have to be remembered, where that cannot be.
func TestNothingIsKept(t *testing.T) {
	store, err := sqlite.Open(filepath.Join(t.TempDir(), "brisk.state"))
	require.NoError(t, err)
	defer store.Close()
	s := serveOn(t, ferryRules(), service.Options{}, halfAway{store})
	require.Equal(t, "block", s.outcome("web", "ann", "roster", `"session":{"id":"s"},"presented":["password"]`))
	require.Equal(t, "grant", s.outcome("web", "root.key", "roster", `"session":{"id":"s"},"presented":["security-key"]`))
	status, _, _ := s.ask("desk", "DELETE", "/sessions/v1/ann/s", "")
	require.Equal(t, http.StatusServiceUnavailable, status)
}

// TestRestored ends what a backup may have forgotten was ended.
func TestRestored(t *testing.T) {
	s := serve(t, ferryRules(), service.Options{})
	const in = `"session":{"id":"s"}`
	require.Equal(t, "grant", s.outcome("web", "ann", "roster", in+`,"presented":["password"]`))
	require.Equal(t, "grant", s.outcome("web", "ann", "payroll", in+`,"presented":["passkey"]`))
	soon()
	require.NoError(t, s.Restored(t.Context()))
	require.Equal(t, "block", s.outcome("web", "ann", "roster", in))
	require.Equal(t, "step-up", s.outcome("web", "ann", "payroll", `"session":{"id":"t"}`))
	require.Equal(t, "grant", s.outcome("web", "ann", "roster", `"session":{"id":"t"},"presented":["password"]`))
}

// TestSignOnsAreLogged writes what replay reads, before the answer, and mends what a crash cut off.
func TestSignOnsAreLogged(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "signons")
	log, err := service.OpenLog(dir, "node-1")
	require.NoError(t, err)
	s := serve(t, ferryRules(), service.Options{SignOns: log})
	s.outcome("web", "ann", "roster", `"session":{"id":"s"},"presented":["password"]`)
	soon()
	s.outcome("web", "ann", "roster", `"id":"second","session":{"id":"s"}`)
	s.outcome("web", "ann", "roster", `"time":"2026-01-01T00:00:00Z"`)
	s.ask("web", "POST", "/access/v1/evaluation", "{")
	name := filepath.Join(dir, time.Now().UTC().Format("2006-01-02")+".node-1.jsonl")
	lines := func() []string {
		data, err := os.ReadFile(name)
		require.NoError(t, err)
		return strings.Split(strings.TrimSuffix(string(data), "\n"), "\n")
	}
	require.Len(t, lines(), 2, "what is made up, or cannot be read, is none")
	l, err := signon.DecodeLogged([]byte(lines()[1]))
	require.NoError(t, err)
	require.Equal(t, "second", l.ID)
	require.Equal(t, signon.Grant, l.Outcome)
	require.False(t, l.Time.IsZero())
	require.Len(t, l.Evidence, 1, "as it was decided")
	info, err := os.Stat(name)
	require.NoError(t, err)
	require.Equal(t, os.FileMode(0o600), info.Mode())

	require.NoError(t, log.Close())
	file, err := os.OpenFile(name, os.O_APPEND|os.O_WRONLY, 0)
	require.NoError(t, err)
	_, err = file.WriteString(`{"subject":{"type":"us`)
	require.NoError(t, err)
	require.NoError(t, file.Close())
	log, err = service.OpenLog(dir, "node-1")
	require.NoError(t, err)
	require.Len(t, lines(), 2)
	require.NoError(t, log.Close())
	_, err = service.OpenLog(dir, "../x")
	require.Error(t, err)
}

// TestConsents go through the ledger, and the same question again is the same record.
func TestConsents(t *testing.T) {
	rules := strings.Replace(ferryRules(), "may decide, suppose  sessions", "may decide, suppose, consent  sessions", 1) +
		"policy clients { who everyone to everything doing consent case \"few\" when scopes.count <= 1 => grant otherwise => review by group emergency }\n"
	s := serve(t, rules, service.Options{})
	s.user("liv", fmt.Sprintf(`,%s:{"methods":["password"]}`, signOnSchema))
	consent := func(user, scopes, session string) (int, string) {
		body := strings.Replace(question(user, "roster", fmt.Sprintf(`"session":{"id":%q},"presented":["password"],"consent":{"client":"notes","scopes":[%s]}`, session, scopes)), "sign-on", "consent", 1)
		status, _, text := s.ask("web", "POST", "/access/v1/evaluation", body)
		return status, text
	}
	for _, user := range []string{"ann", "liv"} {
		_, text := consent(user, `"a"`, "s")
		require.Contains(t, text, `"decision":true`, user)
	}
	soon()
	require.Equal(t, "grant", s.outcome("web", "ann", "roster", `"session":{"id":"s"}`), "what was presented there counts")
	_, first := consent("ann", `"a","b","c"`, "s")
	require.Contains(t, first, `"outcome":"review"`)
	require.Contains(t, first, `"group":"emergency"`)
	_, again := consent("ann", `"a","b","c"`, "s")
	require.Contains(t, again, `"outcome":"review"`)
	status, text := consent("ann", `"a b"`, "s")
	require.Equal(t, http.StatusBadRequest, status, text)
	s.ask("desk", "DELETE", "/sessions/v1/ann/s", "")
	_, text = consent("ann", `"a"`, "s")
	require.Contains(t, text, `"outcome":"block"`, "of an ended session nothing holds")
}

// slowly is a state that answers once it may.
type slowly struct {
	state.Store
	asked atomic.Int64
	may   chan struct{}
}

func (s *slowly) Read(ctx context.Context, keys []state.Key) (state.Reading, error) {
	s.asked.Add(1)
	<-s.may
	return s.Store.Read(ctx, keys)
}

// TestTooManyAtOnce turns away what is more than the service answers at a time, and answers the rest.
func TestTooManyAtOnce(t *testing.T) {
	store, err := sqlite.Open(filepath.Join(t.TempDir(), "brisk.state"))
	require.NoError(t, err)
	defer store.Close()
	slow := &slowly{Store: store, may: make(chan struct{})}
	s := serveOn(t, ferryRules(), service.Options{}, slow)
	var answered, turnedAway atomic.Int64
	var all sync.WaitGroup
	ask := func(caller string) {
		status, header, _ := s.ask(caller, "POST", "/access/v1/evaluation", question("ann", "roster", ""))
		switch {
		case status == http.StatusOK:
			answered.Add(1)
		case status == http.StatusServiceUnavailable && header.Get("Retry-After") != "":
			turnedAway.Add(1)
		}
	}
	for range 512 {
		all.Go(func() { ask("web") })
	}
	require.Eventually(t, func() bool { return slow.asked.Load() == 512 }, 10*time.Second, time.Millisecond)
	for range 10 {
		ask("web") // which has its share
	}
	require.EqualValues(t, 10, turnedAway.Load())
	for range 512 {
		all.Go(func() { ask("site") })
	}
	require.Eventually(t, func() bool { return slow.asked.Load() == 1024 }, 10*time.Second, time.Millisecond)
	for range 10 {
		ask("alone")
	}
	require.EqualValues(t, 20, turnedAway.Load())
	close(slow.may)
	all.Wait()
	require.EqualValues(t, 1024, answered.Load())
	ask("web")
	require.EqualValues(t, 1025, answered.Load())
}
