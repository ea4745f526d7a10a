package service_test

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"runtime"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"testing/fstest"
	"time"

	"github.com/go-json-experiment/json"
	"github.com/stretchr/testify/require"

	"briskwarden.example/briskwarden"
	"briskwarden.example/briskwarden/service"
	"briskwarden.example/briskwarden/service/state"
	"briskwarden.example/briskwarden/store/sqlite"
)

// entrances are the lists and ids of requests, each as n letters or entries of a request's context.
var entrances = map[string]func(n int) (context string){
	"evidence": func(n int) string {
		return `"evidence":[` + list(n, `{"method":"password","time":"2026-01-01T00:00:00Z"}`) + `]`
	},
	"presented":         func(n int) string { return `"presented":[` + list(n, `"password"`) + `]` },
	"scopes":            func(n int) string { return `"consent":{"client":"c","scopes":[` + numbered(n, `"s%d"`) + `]}` },
	"device attributes": func(n int) string { return `"device":{` + numbered(n, `"a%d":1`) + `}` },
	"an id":             func(n int) string { return `"id":"` + strings.Repeat("x", n) + `"` },
	"a session":         func(n int) string { return `"session":{"id":"` + strings.Repeat("x", n) + `"}` },
	"a device":          func(n int) string { return `"device":{"id":"` + strings.Repeat("x", n) + `"}` },
	"a client":          func(n int) string { return `"consent":{"client":"` + strings.Repeat("x", n) + `","scopes":["a"]}` },
	"evidence's session": func(n int) string {
		return `"evidence":[{"method":"password","time":"2026-01-01T00:00:00Z","session":"` + strings.Repeat("x", n) + `"}]`
	},
}

func list(n int, one string) string { return strings.TrimSuffix(strings.Repeat(one+",", n), ",") }

func numbered(n int, format string) string {
	all := make([]string, n)
	for i := range all {
		all[i] = fmt.Sprintf(format, i)
	}
	return strings.Join(all, ",")
}

// TestWhatEntersIsBounded: what is too long is refused, whatever it is part of, and what is refused fails nobody else.
func TestWhatEntersIsBounded(t *testing.T) {
	s := serve(t, ferryRules(), service.Options{})
	for name, of := range entrances {
		for _, n := range []int{4000, 20000} {
			status, _, body := s.ask("web", "POST", "/access/v1/evaluation", question("ann", "roster", of(n)))
			if strings.Contains(name, "attributes") && status == 200 {
				continue // attributes that no rulebook declares are not kept
			}
			require.Equal(t, 400, status, "%s: %.200s", name, body)
		}
	}
	for _, body := range []string{question(strings.Repeat("x", 600), "roster", ""), question("ann", strings.Repeat("x", 600), "")} {
		status, _, _ := s.ask("web", "POST", "/access/v1/evaluation", body)
		require.Equal(t, 400, status)
	}
	for _, path := range []string{"/sessions/v1/" + strings.Repeat("x", 600), "/sessions/v1/ann/" + strings.Repeat("x", 600)} {
		status, _, _ := s.ask("desk", "DELETE", path, "")
		require.Equal(t, 400, status)
	}
	s.scim(400, "POST", "/Users", fmt.Sprintf(`{"schemas":[%s],"userName":%q}`, userSchema, strings.Repeat("x", 600)))
}

// TestProductsAreBounded: a request of 1 MiB takes no more than 64 MiB and 2 s, whatever it multiplies.
func TestProductsAreBounded(t *testing.T) {
	rules := ferryRules()
	for i := range 1000 {
		rules += fmt.Sprintf("\npolicy also-%d { who group nobody to app roster otherwise => block }", i)
	}
	s := serve(t, rules+"\ngroup nobody { }\n", service.Options{})
	for range 3 {
		s.ask("web", "POST", "/access/v1/evaluation", question("ann", "roster", ""))
	}
	items := list(1000, `{"resource":{"type":"app","id":"roster"}}`)
	common := func(context string) string {
		return fmt.Sprintf(`{"subject":{"type":"user","id":"ann"},"action":{"name":"sign-on"},"context":{%s},"evaluations":[%s]}`, context, items)
	}
	for name, body := range map[string]string{
		"large defaults": common(`"country":"NO","pad":"` + strings.Repeat("x", 800_000) + `"`), "much evidence": common(entrances["evidence"](256)),
		"small defaults": common(entrances["evidence"](40)), "many items": common(""), "explained": common(""),
	} {
		caller := map[bool]string{true: "site", false: "web"}[name == "explained"]
		runtime.GC()
		var before runtime.MemStats
		runtime.ReadMemStats(&before)
		peak := watchHeap(before.HeapAlloc)
		begun := time.Now()
		status, _, answer := s.ask(caller, "POST", "/access/v1/evaluations", body)
		took := time.Since(begun)
		most := peak()
		require.Contains(t, []int{200, 413}, status, "%s: %.100s", name, answer)
		t.Logf("%s: %d, %v, %d MiB", name, status, took.Round(time.Millisecond), most>>20)
		require.Less(t, took, 2*time.Second, name)
		require.Less(t, most, uint64(64<<20), name)
	}
}

// watchHeap notes how far the heap grows until it is asked.
func watchHeap(from uint64) (most func() uint64) {
	stop, done := make(chan struct{}), make(chan uint64)
	go func() {
		top := from
		for {
			select {
			case <-stop:
				done <- top - from
				return
			case <-time.After(2 * time.Millisecond):
				var now runtime.MemStats
				runtime.ReadMemStats(&now)
				top = max(top, now.HeapAlloc)
			}
		}
	}()
	return func() uint64 { close(stop); return <-done }
}

// TestLongSearchesEndTheirPage after a second, and go on with the next.
func TestLongSearchesEndTheirPage(t *testing.T) {
	rules := ferryRules() + "\n" + numberedPeople(1500)
	s := serve(t, rules, service.Options{})
	s.state.stall.Store(int64(120 * time.Millisecond))
	token, found, pages := "", 0, 0
	for {
		body := fmt.Sprintf(`{"subject":{"type":"user"},"action":{"name":"sign-on"},"resource":{"type":"app","id":"roster"},"context":{"presented":["password"]},"page":{"token":%q}}`, token)
		begun := time.Now()
		status, _, answer := s.ask("alone", "POST", "/access/v1/search/subject", body)
		require.Equal(t, 200, status, answer)
		require.Less(t, time.Since(begun), 2*time.Second)
		var page struct {
			Results []any `json:"results"`
			Page    struct {
				Next string `json:"next_token"`
			} `json:"page"`
		}
		require.NoError(t, json.Unmarshal([]byte(answer), &page))
		found, pages, token = found+len(page.Results), pages+1, page.Page.Next
		if token == "" {
			break
		}
	}
	require.Greater(t, pages, 1)
	require.Equal(t, 1502, found, "everybody of the crew, once")
}

func numberedPeople(n int) string {
	var b strings.Builder
	for i := range n {
		fmt.Fprintf(&b, "user p%04d { groups crew  methods password }\n", i)
	}
	return b.String()
}

// picky is a state that cannot keep items of one owner, and fails whatever is written with them.
type picky struct {
	state.Store
	owner string
}

func (p *picky) Write(ctx context.Context, sets ...[]state.Change) []error {
	for _, set := range sets {
		for _, c := range set {
			if c.Owner == p.owner {
				errs := make([]error, len(sets))
				for i := range errs {
					errs[i] = fmt.Errorf("the index row is too long")
				}
				return errs
			}
		}
	}
	return p.Store.Write(ctx, sets...)
}

// TestOneBadChangeFailsNobodyElse: what the store cannot keep of one does not fail those who are written with it.
func TestOneBadChangeFailsNobodyElse(t *testing.T) {
	store, err := sqlite.Open(t.TempDir() + "/brisk.state")
	require.NoError(t, err)
	defer store.Close()
	s := serveOn(t, ferryRules(), service.Options{}, &picky{store, "bob"})
	var all sync.WaitGroup
	var blocked atomic.Int64
	for i := range 40 { // few enough for a slow disk, which each write waits for
		all.Go(func() {
			user := map[bool]string{true: "bob", false: "ann"}[i == 20]
			if s.outcome("web", user, "roster", session(fmt.Sprint(i))+password) != "grant" && user == "ann" {
				blocked.Add(1)
			}
		})
	}
	all.Wait()
	require.Zero(t, blocked.Load())
}

// TestReadersComeBack: what panics while it reads takes nothing with it.
func TestReadersComeBack(t *testing.T) {
	s := serve(t, ferryRules(), service.Options{})
	s.BreakReaders()
	for range 100 {
		status, _, _ := s.ask("web", "POST", "/access/v1/evaluation", question("ann", "roster", ""))
		require.Equal(t, 500, status)
	}
}

// TestUnknownKeysHoldUpNobody: whoever sends a token with a key that nobody has waits for the keys alone.
func TestUnknownKeysHoldUpNobody(t *testing.T) {
	stall, asked := make(chan struct{}), atomic.Int64{}
	keys := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		if asked.Add(1) > 1 {
			<-stall
		}
		_, _ = w.Write([]byte(published()))
	}))
	defer keys.Close()
	defer close(stall)
	rules := strings.Replace(fmt.Sprintf(gatewayRules, digest("gate"), digest("roster-gate"), digest("over"), digest("far"), digest("web")), `keys "keys.json"  audience "brisk"  audience`, fmt.Sprintf(`keys %q  audience "brisk"  audience`, keys.URL), 1)
	store, err := sqlite.Open(t.TempDir() + "/brisk.state")
	require.NoError(t, err)
	defer store.Close()
	r, err := briskwarden.OpenFS(fstest.MapFS{"rulebook.warden": {Data: []byte(rules)}, "keys.json": {Data: []byte(published())}, "texts/nb.json": {Data: []byte(bokmal)}})
	require.NoError(t, err)
	s := &served{TB: t, state: &clock{Store: store}}
	s.Service = service.New(r, s.state, service.Options{Clock: s.now})
	defer s.Close()
	status, _ := s.visit(openSite, s.person("ann", "s1", s.now(), "pwd").String())
	require.Equal(t, 204, status)
	s.state.pass(2 * time.Minute) // after which keys are asked for again
	unknown := s.person("ann", "s1", s.now(), "pwd")
	unknown.header["kid"] = "nobody's"
	var waiting sync.WaitGroup
	for range 5 {
		waiting.Go(func() {
			status, _ := s.visit(openSite, unknown.String(), func(r *http.Request) {
				ctx, cancel := context.WithTimeout(r.Context(), time.Second)
				t.Cleanup(cancel)
				*r = *r.WithContext(ctx)
			})
			require.NotEqual(t, 204, status)
		})
	}
	require.Eventually(t, func() bool { return asked.Load() == 2 }, 2*time.Second, time.Millisecond)
	for range 20 {
		begun := time.Now()
		status, _ := s.visit(openSite, s.person("ann", "s1", s.now(), "pwd").String())
		require.Equal(t, 204, status)
		require.Less(t, time.Since(begun), 200*time.Millisecond)
	}
	waiting.Wait()
	require.EqualValues(t, 2, asked.Load(), "one at a time")
}

// locked is a writer that several may use.
type locked struct {
	mu *sync.Mutex
	w  io.Writer
}

func (l locked) Write(p []byte) (int, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.w.Write(p)
}

// TestComplaintsAreFew: what comes with many requests is told once a second, with a count.
func TestComplaintsAreFew(t *testing.T) {
	var log bytes.Buffer
	var mu sync.Mutex
	s := serve(t, ferryRules(), service.Options{Log: slog.New(slog.NewJSONHandler(locked{&mu, &log}, nil))})
	s.state.away.Store(true)
	for range 300 {
		s.outcome("web", "ann", "roster", "")
	}
	time.Sleep(1100 * time.Millisecond)
	s.outcome("web", "ann", "roster", "")
	mu.Lock()
	defer mu.Unlock()
	require.LessOrEqual(t, strings.Count(log.String(), "the state cannot be asked"), 4)
	require.Contains(t, log.String(), `"more_before":`)
}

// TestReasonsAreBounded: of one person no more reasons are kept than a person reads.
func TestReasonsAreBounded(t *testing.T) {
	s := gateway(t)
	ann := s.person("ann", "s1", s.now(), "pwd").String()
	for range 200 {
		s.visit(adminSite, ann)
	}
	rows := 0
	for _, err := range s.state.List(t.Context(), state.Key{Kind: state.Told}) {
		require.NoError(t, err)
		rows++
	}
	require.Less(t, rows, 40)

	rows = 0
	for i := range 300 {
		require.Equal(t, "block", s.outcome("web", "ann", "ledger", session(fmt.Sprint("b", i))))
	}
	for l, err := range s.state.List(t.Context(), state.Key{Kind: state.Session}) {
		require.NoError(t, err)
		rows += strings.Count(l.ID, "\x00b")
	}
	require.Less(t, rows, 80, "sessions that were blocked at once")
	require.Greater(t, rows, 50)
}
