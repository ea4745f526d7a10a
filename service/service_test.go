package service_test

import (
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"testing/fstest"
	"time"

	"github.com/go-json-experiment/json"
	"github.com/stretchr/testify/require"

	"briskwarden.example/briskwarden"
	"briskwarden.example/briskwarden/service"
	"briskwarden.example/briskwarden/service/state"
	"briskwarden.example/briskwarden/signon"
	"briskwarden.example/briskwarden/store/sqlite"
)

// ferry is a small rulebook that asks for what a service remembers.
const ferry = `rulebook ferry {
  timezone "UTC"
  break-glass user root.key => security-key every time
}
user ann { groups crew  methods password, passkey, app-code }
user bob { groups crew  methods password }
user root.key { methods security-key }
user gone { groups crew  active no }
group crew { }
group emergency { user root.key }
app roster { tags rostering }
app payroll { }
app log { }
app vault { }
network ashore { 127.0.0.0/8  ::1 }
network abroad { 198.51.100.0/24 }
policy roster { who group crew to app roster otherwise => step-up password every session }
policy payroll {
  who group crew to app payroll
  otherwise => step-up passkey every 1h on any device
  session lasts 10h, idle 30m
}
policy log { who group crew to app log case "new" when new.device => block "This device is new" otherwise => grant }
policy vault { who group crew to app vault otherwise => step-up password every session and app-code every session session lasts 10h, idle 30m }
caller web { token %q  may decide, suppose  sessions ashore }
caller site { token %q  may decide, explain  for app roster, app payroll  sessions ashore }
caller alone { token %q  may decide, search }
caller desk { token %q  may operate, explain, decide, provision }
caller far { token %q  may decide  from network abroad }
caller old { token %q until 2020-01-31  may decide }
`

// digest is what stands in a rulebook of a token.
func digest(token string) string { return fmt.Sprintf("sha256:%x", sha256.Sum256([]byte(token))) }

// clock is a state whose clock a test sets, and which can be away.
type clock struct {
	state.Store
	offset atomic.Int64
	away   atomic.Bool
	stall  atomic.Int64 // how long answers to readings take
}

var errAway = errors.New("the state is away")

func (c *clock) Read(ctx context.Context, keys []state.Key) (state.Reading, error) {
	if c.away.Load() {
		return state.Reading{}, errAway
	}
	offset := time.Duration(c.offset.Load())
	r, err := c.Store.Read(ctx, keys)
	if stall := c.stall.Load(); stall > 0 {
		time.Sleep(time.Duration(stall))
	}
	r.At = r.At.Add(offset)
	return r, err
}

// pass lets time pass.
func (c *clock) pass(d time.Duration) { c.offset.Add(int64(d)) }

func (c *clock) Write(ctx context.Context, sets ...[]state.Change) []error {
	if c.away.Load() {
		errs := make([]error, len(sets))
		for i := range errs {
			errs[i] = errAway
		}
		return errs
	}
	return c.Store.Write(ctx, sets...)
}

// served is a service under test.
type served struct {
	testing.TB
	*service.Service
	state *clock
	rules *briskwarden.Rulebook
}

// serve starts a service of the rulebook on an empty state.
func serve(t testing.TB, rules string, o service.Options) *served {
	store, err := sqlite.Open(filepath.Join(t.TempDir(), "brisk.state"))
	require.NoError(t, err)
	t.Cleanup(func() { store.Close() })
	return serveOn(t, rules, o, store)
}

func serveOn(t testing.TB, rules string, o service.Options, store state.Store) *served {
	r, err := briskwarden.OpenFS(fstest.MapFS{"rulebook.warden": {Data: []byte(rules)}})
	require.NoError(t, err)
	s := &served{TB: t, state: &clock{Store: store}}
	if o.Clock == nil {
		o.Clock = func() time.Time { return time.Now().Add(time.Duration(s.state.offset.Load())) }
	}
	s.rules = r
	s.Service = service.New(r, s.state, o)
	t.Cleanup(func() { s.Close() })
	return s
}

func ferryRules() string {
	return fmt.Sprintf(ferry, digest("web"), digest("site"), digest("alone"), digest("desk"), digest("far"), digest("old"))
}

// ask sends a request, with the token of a caller, and gives its status, header and body.
func (s *served) ask(token, method, path, body string, change ...func(*http.Request)) (int, http.Header, string) {
	s.Helper()
	return s.askIn(s.Context(), token, method, path, body, change...)
}

func (s *served) askIn(ctx context.Context, token, method, path, body string, change ...func(*http.Request)) (int, http.Header, string) {
	r := httptest.NewRequestWithContext(ctx, method, "http://localhost:7575"+path, strings.NewReader(body))
	r.RemoteAddr = "127.0.0.1:4000"
	if body != "" {
		r.Header.Set("Content-Type", "application/json")
	}
	if token != "" {
		r.Header.Set("Authorization", "Bearer "+token)
	}
	for _, c := range change {
		c(r)
	}
	w := httptest.NewRecorder()
	s.ServeHTTP(w, r)
	answer, err := io.ReadAll(w.Result().Body)
	require.NoError(s, err)
	return w.Code, w.Header(), string(answer)
}

// question is the body of an evaluation.
func question(user, app, context string) string {
	return fmt.Sprintf(`{"subject":{"type":"user","id":%q},"action":{"name":"sign-on"},"resource":{"type":"app","id":%q},"context":{%s}}`, user, app, context)
}

// decide asks for a decision, which must be one.
func (s *served) decide(token, user, app, context string) signon.Decision {
	s.Helper()
	status, _, body := s.ask(token, "POST", "/access/v1/evaluation", question(user, app, context))
	require.Equal(s, http.StatusOK, status, body)
	var d signon.Decision
	require.NoError(s, json.Unmarshal([]byte(body), &d), body)
	return d
}

// outcome asks for a decision, and gives its outcome.
func (s *served) outcome(token, user, app, context string) string {
	s.Helper()
	return s.decide(token, user, app, context).Outcome.String()
}

// soon waits for what is written without being waited for.
func soon() { time.Sleep(250 * time.Millisecond) }

func TestProofsAreRemembered(t *testing.T) {
	s := serve(t, ferryRules(), service.Options{})
	require.Equal(t, "step-up", s.outcome("web", "ann", "roster", `"session":{"id":"s1"}`))
	require.Equal(t, "grant", s.outcome("web", "ann", "roster", `"session":{"id":"s1"},"presented":["password"]`))
	require.Equal(t, "grant", s.outcome("web", "ann", "roster", `"session":{"id":"s1"}`), "at once")
	soon()
	require.Equal(t, "grant", s.outcome("web", "ann", "roster", `"session":{"id":"s1"}`), "in that session")
	require.Equal(t, "grant", s.outcome("site", "ann", "roster", `"session":{"id":"s1"}`), "callers that share sessions")
	require.Equal(t, "step-up", s.outcome("alone", "ann", "roster", `"session":{"id":"s1"}`), "and one that does not")
	require.Equal(t, "step-up", s.outcome("web", "ann", "roster", `"session":{"id":"s2"}`))
	require.Equal(t, "step-up", s.outcome("web", "bob", "roster", `"session":{"id":"s1"}`))

	require.Equal(t, "block", s.outcome("web", "ann", "nothing", `"session":{"id":"s3"},"presented":["password"]`))
	require.Equal(t, "step-up", s.outcome("web", "ann", "vault", `"session":{"id":"s4"},"presented":["password"]`))
	soon()
	require.Equal(t, "step-up", s.outcome("web", "ann", "roster", `"session":{"id":"s3"}`), "a block remembers nothing")
	require.Equal(t, "grant", s.outcome("web", "ann", "vault", `"session":{"id":"s4"},"presented":["app-code"]`), "a step-up does")
}

func TestSessionsEnd(t *testing.T) {
	s := serve(t, ferryRules(), service.Options{})
	in := func(session string) string { return fmt.Sprintf(`"session":{"id":%q}`, session) }
	for _, session := range []string{"s1", "s2"} {
		require.Equal(t, "grant", s.outcome("web", "ann", "roster", in(session)+`,"presented":["password"]`))
	}
	require.Equal(t, "grant", s.outcome("web", "ann", "payroll", in("s1")+`,"presented":["passkey"]`))
	soon()
	require.Equal(t, "grant", s.outcome("web", "ann", "payroll", in("s2")), "a proof of another session, on any device")
	end := func(path string) {
		status, _, body := s.ask("desk", "DELETE", "/sessions/v1/"+path, "")
		require.Equal(t, http.StatusNoContent, status, body)
		require.Empty(t, body)
	}
	end("ann/s1")
	end("ann/s1")
	require.Equal(t, "This session has ended. Please sign on again.", s.decide("web", "ann", "roster", in("s1")+`,"presented":["password"]`).Message)
	require.Equal(t, "grant", s.outcome("web", "ann", "roster", in("s2")))
	require.Equal(t, "step-up", s.outcome("web", "ann", "payroll", in("s2")), "its proofs are void")
	stated := fmt.Sprintf(`,"evidence":[{"method":"passkey","time":%q,"session":"s1"}]`, time.Now().Format(time.RFC3339))
	require.Equal(t, "step-up", s.outcome("web", "ann", "payroll", in("s2")+stated), "whoever states them")

	end("ann")
	require.Equal(t, "block", s.outcome("site", "ann", "roster", in("s2")+`,"presented":["password"]`))
	require.Equal(t, "grant", s.outcome("web", "ann", "roster", in("s5")+`,"presented":["password"]`))
	before := fmt.Sprintf(`"session":{"id":"s6","started":%q},"presented":["password"]`, time.Now().Add(-time.Hour).Format(time.RFC3339))
	require.Equal(t, "block", s.outcome("web", "ann", "roster", before), "it began before, though nobody had seen it")
	end("nobody/s1")
	end("ann/never%2Fseen")
	require.Equal(t, "block", s.outcome("web", "ann", "roster", in("never/seen")+`,"presented":["password"]`))
	require.Equal(t, "grant", s.outcome("web", "bob", "roster", in("s1")+`,"presented":["password"]`))
}

// operation asks what operators ask.
func (s *served) operation(path string) *httptest.ResponseRecorder {
	w := httptest.NewRecorder()
	s.Operations().ServeHTTP(w, httptest.NewRequestWithContext(s.Context(), "GET", path, nil))
	return w
}
