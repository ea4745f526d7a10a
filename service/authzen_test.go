package service_test

import (
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"fmt"
	"math/big"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/go-json-experiment/json"

	"crypto/ecdsa"
	"crypto/elliptic"

	"github.com/stretchr/testify/require"

	"briskwarden.example/briskwarden/service"
)

// call asks, and gives the answer as it stands.
func (s *served) call(token, path, body string, change ...func(*http.Request)) (int, map[string]any) {
	s.Helper()
	status, header, text := s.ask(token, "POST", "/access/v1/"+path, body, change...)
	require.Equal(s, "application/json", header.Get("Content-Type"), text)
	require.Equal(s, "no-store", header.Get("Cache-Control"))
	var answer map[string]any
	require.NoError(s, json.Unmarshal([]byte(text), &answer), text)
	return status, answer
}

// TestEvaluationMembers goes through the members of an Access Evaluation request and response, one by one.
func TestEvaluationMembers(t *testing.T) {
	s := serve(t, ferryRules(), service.Options{})
	status, answer := s.call("web", "evaluation", question("ann", "roster", `"presented":["password"],"session":{"id":"s"},"unknown":{"x":1}`))
	require.Equal(t, http.StatusOK, status)
	require.Equal(t, true, answer["decision"])
	require.NotContains(t, answer["context"], "demands")
	require.NotContains(t, answer["context"], "policies", "explanations go to who may explain")
	status, answer = s.call("site", "evaluation", question("ann", "payroll", ""))
	require.Equal(t, http.StatusOK, status)
	require.Equal(t, false, answer["decision"], "a step-up is 200, and no")
	require.Contains(t, answer["context"], "demands")
	require.Contains(t, answer["context"], "policies")

	whole := map[string]string{"subject": `{"type":"user","id":"ann"}`, "action": `{"name":"sign-on"}`, "resource": `{"type":"app","id":"roster"}`}
	body := func(member, value string) string {
		var parts []string
		for _, name := range []string{"subject", "action", "resource"} {
			v := whole[name]
			if name == member {
				v = value
			}
			if v != "" {
				parts = append(parts, fmt.Sprintf("%q:%s", name, v))
			}
		}
		return "{" + strings.Join(parts, ",") + "}"
	}
	for _, c := range [][3]string{
		{"subject", "", "subject.type: is missing"}, {"subject", `{"id":"ann"}`, "subject.type: is missing"}, {"subject", `{"type":"user"}`, "subject.id: is missing"},
		{"subject", `{"type":"robot","id":"ann"}`, "subject.type"}, {"subject", `"ann"`, "subject"}, {"subject", `{"type":"user","id":7}`, "subject.id"},
		{"action", "", "action.name: is missing"}, {"action", `{}`, "action.name: is missing"}, {"action", `{"name":["sign-on"]}`, "action.name"},
		{"resource", "", "resource.type: is missing"}, {"resource", `{"type":"app"}`, "resource.id: is missing"}, {"resource", `{"type":"tag","id":"x"}`, "resource.type"},
		{"subject", `{"type":"user","id":"ann","id":"bob"}`, "duplicate"}, {"subject", `null`, "subject.type: is missing"},
	} {
		for range 2 { // the second time its shape might be known
			status, answer = s.call("web", "evaluation", body(c[0], c[1]))
			require.Equal(t, http.StatusBadRequest, status, c)
			require.Contains(t, answer["error"], c[2], c)
		}
	}
	for _, junk := range []string{"", "null", "[]", "{", `{"subject":` + strings.Repeat(`{"a":`, 20000), "\xff\xfe", question("ann", "roster", `"ip":"300.1.1.1"`),
		question("ann", "roster", fmt.Sprintf(`"session":{"id":%q}`, strings.Repeat("s", 1025))), question("ann", "roster", fmt.Sprintf(`"device":{"id":%q}`, strings.Repeat("d", 1025))), question(strings.Repeat("u", 5000), "roster", ""),
		question("a\xff", "roster", "")} {
		r := func(r *http.Request) { r.Header.Set("Content-Type", "application/json") }
		status, answer = s.call("web", "evaluation", junk, r)
		require.Equal(t, http.StatusBadRequest, status, "%.40q", junk)
		require.NotEmpty(t, answer["error"])
	}
	large := question("ann", "roster", `"id":"`+strings.Repeat("x", 1<<20)+`"`)
	status, _ = s.call("web", "evaluation", large)
	require.Equal(t, http.StatusRequestEntityTooLarge, status)
	status, _ = s.call("web", "evaluation", large, func(r *http.Request) { r.ContentLength = -1 })
	require.Equal(t, http.StatusRequestEntityTooLarge, status)
	status, _ = s.call("web", "evaluation", "{}", func(r *http.Request) { r.Header.Set("Content-Type", "text/plain") })
	require.Equal(t, http.StatusUnsupportedMediaType, status)
	status, _ = s.call("web", "evaluation", question("ann", "roster", ""), func(r *http.Request) { r.Header.Set("Content-Type", "application/json; charset=utf-8") })
	require.Equal(t, http.StatusOK, status)
	status, header, _ := s.ask("web", "GET", "/access/v1/evaluation", "")
	require.Equal(t, http.StatusMethodNotAllowed, status)
	require.Equal(t, "POST", header.Get("Allow"))
	status, _ = s.call("web", "evaluate", "{}")
	require.Equal(t, http.StatusNotFound, status)
	_, header, _ = s.ask("web", "POST", "/access/v1/evaluation", "{}", func(r *http.Request) { r.Header.Set("X-Request-ID", "r-7") })
	require.Equal(t, "r-7", header.Get("X-Request-ID"))
}

// TestEvaluations goes through the Access Evaluations API: defaults, semantics, and items that cannot be read.
func TestEvaluations(t *testing.T) {
	s := serve(t, ferryRules(), service.Options{})
	list := func(body string) (decisions []any) {
		t.Helper()
		status, answer := s.call("web", "evaluations", body)
		require.Equal(t, http.StatusOK, status, answer)
		for _, e := range answer["evaluations"].([]any) {
			decisions = append(decisions, e.(map[string]any)["decision"])
		}
		return decisions
	}
	const defaults = `"subject":{"type":"user","id":"ann"},"action":{"name":"sign-on"},"context":{"presented":["password"],"session":{"id":"s"}}`
	resource := func(id string) string { return fmt.Sprintf(`{"resource":{"type":"app","id":%q}}`, id) }
	three := fmt.Sprintf(`%s,"evaluations":[%s,%s,%s]`, defaults, resource("roster"), resource("payroll"), resource("log"))
	require.Equal(t, []any{true, false, false}, list("{"+three+"}"))
	require.Equal(t, []any{true, false, false}, list("{"+three+`,"options":{"evaluations_semantic":"execute_all"}}`))
	require.Equal(t, []any{true, false}, list("{"+three+`,"options":{"evaluations_semantic":"deny_on_first_deny"}}`))
	require.Equal(t, []any{true}, list("{"+three+`,"options":{"evaluations_semantic":"permit_on_first_permit"}}`))
	status, answer := s.call("web", "evaluations", "{"+three+`,"options":{"evaluations_semantic":"deny"}}`)
	require.Equal(t, http.StatusBadRequest, status, answer)

	// An item's own member takes the place of the default, whole: bob has no passkey, and his context presents nothing.
	require.Equal(t, []any{true, false}, list(fmt.Sprintf(`{%s,"resource":{"type":"app","id":"roster"},"evaluations":[{},{"subject":{"type":"user","id":"bob"},"context":{}}]}`, defaults)))
	// What cannot be read is a deny in its place.
	require.Equal(t, []any{false, true, false, false, false}, list(fmt.Sprintf(`{%s,"evaluations":[{"resource":{"type":"app"}},%s,7,null,{"resource":{"type":"app","id":"roster"},"context":{"ip":"x"}}]}`, defaults, resource("roster"))))
	require.Equal(t, []any{false}, list(fmt.Sprintf(`{%s,"evaluations":[7,%s],"options":{"evaluations_semantic":"deny_on_first_deny"}}`, defaults, resource("roster"))))
	_, answer = s.call("web", "evaluations", fmt.Sprintf(`{%s,"evaluations":[{"resource":{"type":"app"},"context":{"id":"q-7"}}]}`, defaults))
	first := answer["evaluations"].([]any)[0].(map[string]any)["context"].(map[string]any)
	require.Equal(t, "q-7", first["id"])
	require.Equal(t, "block", first["outcome"])
	require.Contains(t, first["error"], "resource.id")
	// Without items it is a single evaluation.
	_, answer = s.call("web", "evaluations", question("ann", "roster", `"presented":["password"]`))
	require.Equal(t, true, answer["decision"])
	_, answer = s.call("web", "evaluations", strings.TrimSuffix(question("ann", "roster", ""), "}")+`,"evaluations":[]}`)
	require.Equal(t, false, answer["decision"])
	status, _ = s.call("web", "evaluations", `{"evaluations":[`+strings.TrimSuffix(strings.Repeat("{},", 1001), ",")+"]}")
	require.Equal(t, http.StatusRequestEntityTooLarge, status)
	status, _ = s.call("web", "evaluations", `{"evaluations":{}}`)
	require.Equal(t, http.StatusBadRequest, status)

	// What is not asked any more is not remembered either.
	list(fmt.Sprintf(`{"evaluations":[%s,%s],"options":{"evaluations_semantic":"deny_on_first_deny"}}`, question("ann", "payroll", ""), question("bob", "roster", `"presented":["password"],"session":{"id":"never"}`)))
	soon()
	require.Equal(t, "step-up", s.outcome("web", "bob", "roster", `"session":{"id":"never"}`))
}

// TestSearches finds what is granted, page by page, and remembers nothing.
func TestSearches(t *testing.T) {
	s := serve(t, ferryRules(), service.Options{})
	liv := s.user("liv", fmt.Sprintf(`,%s:{"methods":["password"]}`, signOnSchema))
	s.group("crew", liv)
	found := func(what, body string) (ids []string, next string) {
		t.Helper()
		status, answer := s.call("alone", "search/"+what, body)
		require.Equal(t, http.StatusOK, status, answer)
		for _, r := range answer["results"].([]any) {
			id, _ := r.(map[string]any)["id"].(string)
			if id == "" {
				id = r.(map[string]any)["name"].(string)
			}
			ids = append(ids, id)
		}
		return ids, answer["page"].(map[string]any)["next_token"].(string)
	}
	const subjects = `"subject":{"type":"user"},"action":{"name":"sign-on"},"resource":{"type":"app","id":"roster"},"context":{"presented":["password"],"session":{"id":"s"}}`
	ids, next := found("subject", "{"+subjects+"}")
	require.Equal(t, []string{"ann", "bob", "liv"}, ids, "in the order of ids, provisioned people too")
	require.Empty(t, next)
	var all []string
	token := ""
	for pages := 0; pages == 0 || token != ""; pages++ {
		require.Less(t, pages, 4)
		ids, token = found("subject", fmt.Sprintf(`{%s,"page":{"limit":1,"token":%q}}`, subjects, token))
		all = append(all, ids...)
	}
	require.Equal(t, []string{"ann", "bob", "liv"}, all)
	ids, _ = found("resource", `{"subject":{"type":"user","id":"ann"},"action":{"name":"sign-on"},"resource":{"type":"app"},"context":{"presented":["passkey","password"],"session":{"id":"s"}}}`)
	require.Equal(t, []string{"payroll", "roster"}, ids)
	ids, _ = found("action", `{"subject":{"type":"user","id":"ann"},"resource":{"type":"app","id":"roster"},"context":{"presented":["password"]}}`)
	require.Equal(t, []string{"sign-on"}, ids)
	soon()
	require.Equal(t, "step-up", s.outcome("alone", "ann", "roster", `"session":{"id":"s"}`), "a search remembers nothing")
	for _, wrong := range []string{`{"subject":{"type":"user"},"action":{"name":"sign-on"},"resource":{"type":"app"}}`, strings.Replace("{"+subjects+"}", `"user"`, `"robot"`, 1),
		"{" + subjects + `,"page":{"limit":0}}`, "{" + subjects + `,"page":{"token":"%"}}`, `{"action":{"name":"sign-on"},"resource":{"type":"app","id":"roster"}}`} {
		status, _ := s.call("alone", "search/subject", wrong)
		require.Equal(t, http.StatusBadRequest, status, wrong)
	}
	status, _ := s.call("web", "search/subject", "{"+subjects+"}")
	require.Equal(t, http.StatusForbidden, status)
}

// TestMetadata is built from the address that the service was given, whatever Host a request names, and for everybody.
func TestMetadata(t *testing.T) {
	s := serve(t, ferryRules(), service.Options{URL: "https://brisk.skerry.example"})
	status, _, body := s.ask("", "GET", "/.well-known/authzen-configuration", "", func(r *http.Request) { r.Host = "elsewhere.example" })
	require.Equal(t, http.StatusOK, status)
	require.JSONEq(t, `{"policy_decision_point":"https://brisk.skerry.example",
	  "access_evaluation_endpoint":"https://brisk.skerry.example/access/v1/evaluation","access_evaluations_endpoint":"https://brisk.skerry.example/access/v1/evaluations",
	  "search_subject_endpoint":"https://brisk.skerry.example/access/v1/search/subject","search_resource_endpoint":"https://brisk.skerry.example/access/v1/search/resource",
	  "search_action_endpoint":"https://brisk.skerry.example/access/v1/search/action"}`, body)
}

// TestCallers is who may ask, what, and from where.
func TestCallers(t *testing.T) {
	s := serve(t, ferryRules(), service.Options{})
	body := question("ann", "roster", "")
	for token, want := range map[string]int{"web": 200, "": 401, "nobody": 401, "old": 401, "far": 403, "desk": 200} {
		status, header, _ := s.ask(token, "POST", "/access/v1/evaluation", body)
		require.Equal(t, want, status, token)
		require.Equal(t, want == 401, strings.HasPrefix(header.Get("WWW-Authenticate"), "Bearer"), token)
	}
	for _, header := range []string{"web", "Basic web", "Bearer", "Bearer  web", "Bearer web web", "Bearer " + digest("web")} {
		status, _, _ := s.ask("", "POST", "/access/v1/evaluation", body, func(r *http.Request) { r.Header.Set("Authorization", header) })
		require.Equal(t, 401, status, header)
	}
	status, _, _ := s.ask("", "POST", "/access/v1/evaluation", body, func(r *http.Request) { r.Header["Authorization"] = []string{"Bearer web", "Bearer desk"} })
	require.Equal(t, 401, status, "two tokens")
	status, _, text := s.ask("far", "POST", "/access/v1/evaluation", body, func(r *http.Request) { r.RemoteAddr = "[::ffff:198.51.100.9]:4000" })
	require.Equal(t, 200, status, text)
	status, _, _ = s.ask("far", "POST", "/access/v1/evaluation", body, func(r *http.Request) { r.Header.Set("X-Forwarded-For", "198.51.100.9") })
	require.Equal(t, 403, status, "the connection's own address")

	for _, app := range []string{"log", "nothing"} {
		status, _, text := s.ask("site", "POST", "/access/v1/evaluation", question("ann", app, ""))
		require.Equal(t, 403, status, "whether it exists or not")
		require.NotContains(t, text, app)
	}
	_, _, text = s.ask("web", "DELETE", "/sessions/v1/ann", "")
	require.Contains(t, text, "web may decide, suppose", "it is told what it may")
	for _, c := range []string{`"time":"2027-01-01T00:00:00Z"`, `"suppose":{"user.risk":"low"}`, `"outcome":"grant"`} {
		status, _, _ := s.ask("alone", "POST", "/access/v1/evaluation", question("ann", "roster", c))
		require.Equal(t, 403, status, c)
		status, _, _ = s.ask("web", "POST", "/access/v1/evaluation", question("ann", "roster", c))
		require.Equal(t, 200, status, c)
	}
	status, _, _ = s.ask("alone", "POST", "/access/v1/evaluation", question("ann", "roster", fmt.Sprintf(`"time":%q`, time.Now().Add(-4*time.Minute).Format(time.RFC3339))))
	require.Equal(t, 200, status, "a time near the clock is the clock's")
	status, _, _ = s.ask("web", "POST", "/access/v1/evaluation", strings.Replace(question("ann", "roster", ""), "sign-on", "consent", 1))
	require.Equal(t, 403, status)

	// Whoever may not explain is told the same of who is unknown, disabled or not allowed.
	var answers []string
	for _, user := range []string{"nobody", "gone", "root.key", "ann"} {
		_, _, answer := s.ask("web", "POST", "/access/v1/evaluation", question(user, "log", `"device":{"id":"d"}`))
		answers = append(answers, answer)
	}
	require.Equal(t, answers[0], answers[1])
	require.Equal(t, answers[0], answers[3])
	require.NotContains(t, answers[3], "device")
	_, _, explained := s.ask("desk", "POST", "/access/v1/evaluation", question("ann", "log", `"device":{"id":"d"}`))
	require.Contains(t, explained, "This device is new")
}

// TestOpen lets in whoever is on this machine, and asks for it, alone.
func TestOpen(t *testing.T) {
	s := serve(t, ferryRules(), service.Options{Open: true})
	body := question("ann", "roster", "")
	for host, want := range map[string]int{"localhost": 200, "localhost:7575": 200, "127.0.0.1:7575": 200, "[::1]:7575": 200, "brisk.example": 403, "localhost.example": 403, "127.0.0.1.example": 403, "": 403} {
		status, _, _ := s.ask("", "POST", "/access/v1/evaluation", body, func(r *http.Request) { r.Host = host })
		require.Equal(t, want, status, host)
	}
	status, _, _ := s.ask("", "POST", "/access/v1/evaluation", body, func(r *http.Request) { r.RemoteAddr = "192.0.2.9:1" })
	require.Equal(t, 403, status)
	require.Error(t, s.Listen(t.Context(), service.Listening{Address: "0.0.0.0:0"}, nil))
	require.Error(t, serve(t, ferryRules(), service.Options{}).Listen(t.Context(), service.Listening{Address: ":0"}, nil))
	require.ErrorContains(t, serve(t, ferryRules(), service.Options{BehindProxy: true}).Listen(t.Context(), service.Listening{Address: ":0"}, nil), "far")
}

// TestCertificates asks for a certificate, and for a token too where both stand.
func TestCertificates(t *testing.T) {
	made := func(from, to time.Duration) *x509.Certificate {
		key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
		require.NoError(t, err)
		now := time.Now()
		der, err := x509.CreateCertificate(rand.Reader, &x509.Certificate{SerialNumber: big.NewInt(1), NotBefore: now.Add(from), NotAfter: now.Add(to)},
			&x509.Certificate{SerialNumber: big.NewInt(1)}, &key.PublicKey, key)
		require.NoError(t, err)
		c, err := x509.ParseCertificate(der)
		require.NoError(t, err)
		return c
	}
	alone, both, over := made(-time.Hour, time.Hour), made(-time.Hour, time.Hour), made(-time.Hour, -time.Minute)
	sum := func(c *x509.Certificate) string { return digest(string(c.Raw)) }
	s := serve(t, ferryRules()+fmt.Sprintf("caller scanner { certificate %q  may decide }\ncaller gate { certificate %q  token %q  may decide }\ncaller late { certificate %q  may decide }\n",
		sum(alone), sum(both), digest("gate"), sum(over)), service.Options{})
	for _, c := range []struct {
		token string
		with  *x509.Certificate
		want  int
	}{{"", alone, 200}, {"", both, 401}, {"gate", nil, 401}, {"gate", alone, 401}, {"gate", both, 200}, {"", over, 401}, {"web", alone, 200}, {"nobody", alone, 401}} {
		status, _, _ := s.ask(c.token, "POST", "/access/v1/evaluation", question("ann", "roster", ""), func(r *http.Request) {
			r.TLS = &tls.ConnectionState{}
			if c.with != nil {
				r.TLS.PeerCertificates = []*x509.Certificate{c.with}
			}
		})
		require.Equal(t, c.want, status, "%v", c)
	}
}
