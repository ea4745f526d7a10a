package service_test

import (
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"io"
	"net/http/httptest"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"briskwarden.example/briskwarden"
	"briskwarden.example/briskwarden/consent"
	"briskwarden.example/briskwarden/service"
	"briskwarden.example/briskwarden/store/sqlite"
)

func session(id string) string { return fmt.Sprintf(`"session":{"id":%q}`, id) }

const password = `,"presented":["password"]`

// TestOrderIsTheStates: what ended before and after what is told by what the state wrote first, whatever its clock did meanwhile.
func TestOrderIsTheStates(t *testing.T) {
	for name, end := range map[string]func(s *served){
		"all sessions": func(s *served) { s.ask("desk", "DELETE", "/sessions/v1/ann", "") },
		"restored":     func(s *served) { require.NoError(s, s.Restored(s.Context())) },
	} {
		for _, step := range []time.Duration{-time.Minute, -time.Hour, 0, time.Minute} {
			s := serve(t, ferryRules(), service.Options{})
			in := func(app, more string) string { return s.outcome("web", "ann", app, more) }
			require.Equal(t, "grant", in("roster", session("before")+password), name)
			require.Equal(t, "grant", in("payroll", session("before")+`,"presented":["passkey"]`), name)
			soon()
			s.state.pass(step)
			end(s)
			require.Equal(t, "block", in("roster", session("before")+password), "%s, %v", name, step)
			require.Equal(t, "step-up", in("payroll", session("other")), "%s, %v: its proofs", name, step)
			s.state.pass(-time.Minute)
			require.Equal(t, "grant", in("roster", session("after")+password), "%s, %v", name, step)
			soon()
			require.Equal(t, "grant", in("roster", session("after")), "%s, %v", name, step)
			require.Equal(t, "block", in("roster", session("before")+password), "%s, %v", name, step)
			end(s)
			require.Equal(t, "block", in("roster", session("after")+password), "%s, %v", name, step)
		}
	}
}

// TestRestoredWithAWrongClock is repaired by doing it again.
func TestRestoredWithAWrongClock(t *testing.T) {
	s := serve(t, ferryRules(), service.Options{})
	s.state.pass(time.Hour)
	require.NoError(t, s.Restored(t.Context()))
	s.state.pass(-time.Hour)
	require.Equal(t, "grant", s.outcome("web", "root.key", "roster", session("e")+`,"presented":["security-key"]`))
	require.Equal(t, "grant", s.outcome("web", "ann", "roster", session("s")+password))
	stated := func() string {
		return fmt.Sprintf(`"session":{"id":"t"},"evidence":[{"method":"password","time":%q,"session":"t"}]`, s.now().Format(time.RFC3339Nano))
	}
	require.Equal(t, "block", s.outcome("web", "ann", "roster", stated()), "as of an hour ago")
	require.NoError(t, s.Restored(t.Context()))
	require.Equal(t, "block", s.outcome("web", "ann", "roster", session("s")+password))
	time.Sleep(10 * time.Millisecond)
	stated2 := strings.ReplaceAll(stated(), `"t"`, `"u"`)
	require.Equal(t, "grant", s.outcome("web", "ann", "roster", stated2))
}

// TestTimesAhead: what a stranger dates in the future ends with the rest.
func TestTimesAhead(t *testing.T) {
	for _, ahead := range []time.Duration{50 * time.Second, time.Hour} {
		s := serve(t, ferryRules(), service.Options{})
		started := fmt.Sprintf(`"session":{"id":"s","started":%q}`, s.now().Add(ahead).Format(time.RFC3339Nano))
		require.Equal(t, "grant", s.outcome("web", "ann", "roster", started+password))
		soon()
		s.ask("desk", "DELETE", "/sessions/v1/ann", "")
		require.Equal(t, "block", s.outcome("web", "ann", "roster", started+password), ahead)
		s.state.pass(2 * time.Hour)
		require.Equal(t, "block", s.outcome("web", "ann", "roster", started+password), ahead)

		g := gateway(t)
		token := g.person("ann", "s1", g.now().Add(ahead), "pwd").String()
		status, _ := g.visit(openSite, token)
		require.Equal(t, map[bool]int{true: 204, false: 401}[ahead < time.Minute], status)
		g.ask("web", "DELETE", "/sessions/v1/ann", "")
		for range 3 {
			status, _ = g.visit(openSite, token)
			require.NotEqual(t, 204, status, ahead)
			g.state.pass(40 * time.Second)
		}
	}
}

// TestStalledReading: a state that stalls while it answers lets no ended session live.
func TestStalledReading(t *testing.T) {
	s := serve(t, ferryRules(), service.Options{})
	require.Equal(t, "grant", s.outcome("web", "ann", "roster", session("s")+password))
	soon()
	var all sync.WaitGroup
	s.state.stall.Store(int64(400 * time.Millisecond))
	for range 4 {
		all.Go(func() { s.outcome("web", "ann", "roster", session("t")+password) }) // begins while all sessions end, or before
	}
	time.Sleep(100 * time.Millisecond)
	s.state.stall.Store(0)
	s.ask("desk", "DELETE", "/sessions/v1/ann", "")
	all.Wait()
	soon()
	require.Equal(t, "block", s.outcome("web", "ann", "roster", session("s")))
	require.Equal(t, "block", s.outcome("web", "ann", "roster", session("t")), "it was read before")
}

// TestCompromiseEndsTheThief: a stolen password opens nothing any more once it is known to be stolen, nor after it was changed.
func TestCompromiseEndsTheThief(t *testing.T) {
	for name, leaked := range map[string]bool{"a compromise": true, "a change alone": false} {
		s := heard(t, fleetSource)
		in := func(app, more string) string { return s.outcome("web", "ann", app, more) }
		require.Equal(t, "grant", in("roster", session("thief")+password))
		require.Equal(t, "grant", in("roster", session("own")+password))
		require.Equal(t, "grant", in("payroll", session("own")+`,"presented":["passkey"]`))
		soon()
		if leaked {
			s.accepted(user("ann"), riscEvent+"credential-compromise", claims{"credential_type": "password"})
			require.Equal(t, "block", in("roster", session("thief")))
			require.Equal(t, "block", in("roster", session("own")))
			require.Equal(t, "grant", in("compromised", session("new")+`,"presented":["password","change-password"]`))
		} else {
			require.Equal(t, "grant", in("compromised", session("own")+`,"presented":["password","change-password"]`))
		}
		kept := map[bool]string{true: "new", false: "own"}[leaked]
		for range 2 {
			require.Equal(t, "block", in("roster", session("thief")+password), name)
			require.Equal(t, "grant", in("roster", session(kept)), "%s: the password that was given with the new one", name)
			soon()
		}
		if !leaked {
			require.Equal(t, "grant", in("payroll", session("own")), "other proofs of the session that goes on")
		}
		require.Equal(t, "step-up", in("roster", session("later")), name)
		require.Equal(t, "grant", in("compromised", ""), name)
		s.ask("desk", "DELETE", "/sessions/v1/ann", "")
		require.Equal(t, "block", in("roster", session(kept)), "%s: spared once, not for ever", name)
	}
}

// swapped is a rulebook that a test changes.
type swapped struct {
	mu sync.Mutex
	rb *briskwarden.Rulebook
}

func (s *swapped) Rulebook() *briskwarden.Rulebook { s.mu.Lock(); defer s.mu.Unlock(); return s.rb }

func (s *swapped) set(rb *briskwarden.Rulebook) { s.mu.Lock(); defer s.mu.Unlock(); s.rb = rb }

// slowBody is a body before whose last part something happens.
type slowBody struct {
	parts  []string
	before func()
}

func (b *slowBody) Read(p []byte) (n int, err error) {
	switch len(b.parts) {
	case 0:
		return 0, io.EOF
	case 1:
		b.before()
	}
	n = copy(p, b.parts[0])
	b.parts = b.parts[1:]
	return n, nil
}

// TestOneRulebook: a request whose body takes its time is answered by the rulebook that is held once it has come.
func TestOneRulebook(t *testing.T) {
	store, err := sqlite.Open(filepath.Join(t.TempDir(), "brisk.state"))
	require.NoError(t, err)
	defer store.Close()
	old := serveOn(t, ferryRules(), service.Options{}, store)
	rules := &swapped{rb: old.rules}
	s := &served{TB: t, state: old.state, Service: service.New(rules, old.state, service.Options{})}
	t.Cleanup(func() { s.Close() })
	for name, change := range map[string]struct {
		from, to string
		status   int
		said     string
	}{
		"the policy":  {"step-up password every session }", "block }", 200, `"outcome":"block"`},
		"the caller":  {"may decide, suppose", "may search", 403, "may search"},
		"the token":   {digest("web"), digest("web2"), 401, ""},
		"the network": {`abroad { 198.51.100.0/24 }`, `abroad { 198.51.100.0/25 }`, 200, `"outcome":"grant"`},
	} {
		rules.set(old.rules)
		body := question("ann", "roster", session("s")+password)
		r := httptest.NewRequestWithContext(t.Context(), "POST", "http://localhost/access/v1/evaluation", nil)
		r.Header.Set("Authorization", "Bearer web")
		r.Header.Set("Content-Type", "application/json")
		r.RemoteAddr = "127.0.0.1:4000"
		src := strings.Replace(ferryRules(), change.from, change.to, 1)
		require.NotEqual(t, ferryRules(), src, name)
		r.Body = io.NopCloser(&slowBody{[]string{body[:40], body[40:]}, func() {
			rules.set(serveOn(t, src, service.Options{}, store).rules)
		}})
		w := httptest.NewRecorder()
		s.ServeHTTP(w, r)
		require.Equal(t, change.status, w.Code, name)
		require.Contains(t, w.Body.String(), change.said, name)
	}
}

// TestRulebookIsAskedForOnce: below the handler nothing asks for the current rulebook, but what goes on by itself.
func TestRulebookIsAskedForOnce(t *testing.T) {
	files, err := filepath.Glob("*.go")
	require.NoError(t, err)
	var found []string
	for _, name := range files {
		if strings.HasSuffix(name, "_test.go") {
			continue
		}
		file, err := parser.ParseFile(token.NewFileSet(), name, nil, 0)
		require.NoError(t, err)
		for _, d := range file.Decls {
			f, ok := d.(*ast.FuncDecl)
			if !ok {
				continue
			}
			ast.Inspect(f, func(n ast.Node) bool {
				if s, ok := n.(*ast.SelectorExpr); ok && (s.Sel.Name == "rules" || s.Sel.Name == "engine") {
					if on, ok := s.X.(*ast.Ident); ok && on.Name == "s" {
						found = append(found, f.Name.Name)
					}
				}
				return true
			})
		}
	}
	slices.Sort(found)
	// serve takes the snapshot of a request; the others go on by themselves, or tell operators.
	require.Equal(t, []string{"NobodyMayAsk", "Untold", "digests", "engine", "lookAtAlerts", "makeDigest", "poll", "pollAll", "pollOne", "ready", "secure", "serve", "summaryContent"}, slices.Compact(found))
}

// TestCreatedAgain: whoever gets the name of somebody who was deleted gets nothing that was theirs, and is not rid of what signals
// said of them by another case.
func TestCreatedAgain(t *testing.T) {
	rules := strings.Replace(fleetSource, "policy risky", "policy clients { who everyone to app risky doing consent case \"few\" when scopes.count <= 1 => grant otherwise => block }\npolicy risky", 1)
	s := heard(t, strings.Replace(rules, "caller fleet", "caller shop { token \""+digest("shop")+"\" may decide, consent sessions ashore }\ncaller fleet", 1))
	held := func(user string) (n int) { // consents of one's own that are granted
		require.NoError(t, s.state.View(t.Context(), func(tx consent.Tx) error {
			for c, err := range tx.Consents(consent.Selection{User: user, State: consent.Granted}) {
				require.NoError(t, err)
				n += map[bool]int{true: 1}[c.User == user]
			}
			return nil
		}))
		return n
	}
	id := s.user("liv", "")
	_, _, text := s.ask("shop", "POST", "/access/v1/evaluation", strings.Replace(question("liv", "risky", `"consent":{"client":"notes","scopes":["a"]}`), "sign-on", "consent", 1))
	require.Contains(t, text, `"decision":true`)
	require.Equal(t, 1, held("liv"))
	require.Equal(t, "grant", s.outcome("web", "liv", "risky", session("s")))
	s.accepted(user("liv"), riscEvent+"account-disabled", claims{})
	require.Equal(t, "block", s.outcome("web", "liv", "risky", session("s")))
	s.scim(204, "DELETE", "/Users/"+id, "")
	require.Zero(t, held("liv"))
	again := s.user("Liv", "")
	require.Equal(t, "block", s.outcome("web", "Liv", "risky", session("t")), "disabled under another case")
	time.Sleep(time.Second) // in which signals are dated
	s.accepted(user("Liv"), riscEvent+"account-enabled", claims{"event_timestamp": s.now().Unix()})
	require.Equal(t, "grant", s.outcome("web", "Liv", "risky", session("t")))
	require.Equal(t, "block", s.outcome("web", "liv", "risky", session("t")), "ids are compared exactly")
	status, _, _ := s.ask("desk", "DELETE", "/sessions/v1/LIV", "")
	require.Equal(t, 204, status)
	require.Equal(t, "block", s.outcome("web", "Liv", "risky", session("t")), "whatever the case")
	s.scim(204, "DELETE", "/Users/"+again, "")
	s.scim(409, "POST", "/Users", fmt.Sprintf(`{"schemas":[%s],"userName":"Ann"}`, userSchema))
	s.scim(409, "POST", "/Groups", fmt.Sprintf(`{"schemas":[%s],"displayName":"Crew"}`, groupSchema))
}

// TestRemovalsThatRemoveNobody are refused, as a change that says two things of one attribute is; and to leave "active" out lets
// nobody in.
func TestRemovalsThatRemoveNobody(t *testing.T) {
	s := serve(t, ferryRules(), service.Options{})
	liv := s.user("liv", `,"active":false`)
	group := s.group("deck", liv)
	for _, members := range []string{`[{"display":"liv"}]`, `[{"$ref":"../Users/` + liv + `"}]`, `[{}]`, `{}`, `[{"value":""}]`, `["` + liv + `"]`} {
		for _, op := range []string{"remove", "add", "replace"} {
			s.scim(400, "PATCH", "/Groups/"+group, patch(fmt.Sprintf(`{"op":%q,"path":"members","value":%s}`, op, members)))
		}
		s.scim(400, "PUT", "/Groups/"+group, fmt.Sprintf(`{"schemas":[%s],"displayName":"deck","members":%s}`, groupSchema, strings.Replace(members, "{}", "[{}]", 1)))
	}
	require.Len(t, s.scim(200, "GET", "/Groups/"+group, "")["members"], 1)
	for _, value := range []string{`{"active":true,"Active":false}`, `{"ACTIVE":false,"active":true}`, `{"active":true,"urn:ietf:params:scim:schemas:core:2.0:User:active":false}`} {
		s.scim(400, "PATCH", "/Users/"+liv, patch(`{"op":"replace","value":`+value+`}`))
	}
	s.scim(200, "PUT", "/Users/"+liv, fmt.Sprintf(`{"schemas":[%s],"userName":"liv","title":"Mate"}`, userSchema))
	require.Equal(t, false, s.scim(200, "GET", "/Users/"+liv, "")["active"])
	s.scim(200, "PUT", "/Users/"+liv, fmt.Sprintf(`{"schemas":[%s],"userName":"liv","active":true}`, userSchema))
	require.Equal(t, true, s.scim(200, "GET", "/Users/"+liv, "")["active"])
}
