package main

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/go-jose/go-jose/v4"
	"github.com/go-jose/go-jose/v4/jwt"
	"github.com/stretchr/testify/require"
	"golang.org/x/oauth2"
)

// wire is a browser as far as the wire sees it: it keeps cookies, and follows nothing by itself.
type wire struct {
	*testing.T
	h       *harbour
	cookies map[string]map[string]string // by domain
	given   []*http.Cookie               // all that it got
}

func newWire(t *testing.T, h *harbour) *wire {
	return &wire{t, h, map[string]map[string]string{domain: {placeCookie: "home"}}, nil}
}

// do sends a request, and keeps the cookies of the answer.
func (b *wire) do(r *http.Request) (*http.Response, string) {
	b.Helper()
	host := r.URL.Hostname()
	for at, list := range b.cookies {
		for name, value := range list {
			if host == at || at == domain && strings.HasSuffix(host, "."+domain) {
				r.AddCookie(&http.Cookie{Name: name, Value: value})
			}
		}
	}
	client := &http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }, Transport: &http.Transport{
		DialContext: func(ctx context.Context, network, address string) (net.Conn, error) {
			_, port, _ := net.SplitHostPort(address)
			return (&net.Dialer{}).DialContext(ctx, network, "127.0.0.1:"+port)
		}}}
	defer client.CloseIdleConnections()
	answer, err := client.Do(r)
	require.NoError(b, err)
	defer answer.Body.Close()
	body, err := io.ReadAll(answer.Body)
	require.NoError(b, err)
	b.given = append(b.given, answer.Cookies()...)
	for _, c := range answer.Cookies() {
		at := host
		if c.Domain != "" {
			at = c.Domain
		}
		if b.cookies[at] == nil {
			b.cookies[at] = map[string]string{}
		}
		b.cookies[at][c.Name] = c.Value
		if c.MaxAge < 0 {
			delete(b.cookies[at], c.Name)
		}
	}
	return answer, string(body)
}

func (b *wire) get(address string) (*http.Response, string) {
	b.Helper()
	r, err := http.NewRequest(http.MethodGet, address, nil)
	require.NoError(b, err)
	return b.do(r)
}

func (b *wire) post(address string, form url.Values, change ...func(*http.Request)) (*http.Response, string) {
	b.Helper()
	r, err := http.NewRequest(http.MethodPost, address, strings.NewReader(form.Encode()))
	require.NoError(b, err)
	r.Header.Set("Content-Type", "application/x-www-form-urlencoded")
	for _, c := range change {
		c(r)
	}
	return b.do(r)
}

// follow follows answers that lead on, until one does not, or leads to an address that begins like one.
func (b *wire) follow(answer *http.Response, body, until string) (*http.Response, string) {
	b.Helper()
	for range 10 {
		location := answer.Header.Get("Location")
		if location == "" || until != "" && strings.HasPrefix(location, until) {
			return answer, body
		}
		at, err := answer.Request.URL.Parse(location)
		require.NoError(b, err)
		answer, body = b.get(at.String())
	}
	return answer, body
}

func (b *wire) deskURL(path string) string { return b.h.url(deskHost, "front") + path }

// signOn begins a sign-on, and gives name and password.
func (b *wire) signOn(address, user, password, until string) (*http.Response, string) {
	b.Helper()
	answer, body := b.get(address)
	answer, _ = b.follow(answer, body, "")
	flow := answer.Request.URL.Path
	require.Contains(b, flow, "/flow/")
	answer, body = b.post(b.deskURL(flow+"/identify"), url.Values{"user": {user}, "password": {password}})
	return b.follow(answer, body, until)
}

// asked is the address with which the planner asks the desk, and what it takes to change the code.
func (b *wire) asked(change ...string) (address, verifier string) {
	verifier = oauth2.GenerateVerifier()
	q := url.Values{"client_id": {"planner"}, "redirect_uri": {b.h.planner.client.Redirects[0]}, "response_type": {"code"}, "scope": {"openid"}, "state": {"s"}, "nonce": {"n"},
		"code_challenge": {oauth2.S256ChallengeFromVerifier(verifier)}, "code_challenge_method": {"S256"}}
	for i := 0; i < len(change); i += 2 {
		if q.Del(change[i]); change[i+1] != "" {
			q.Set(change[i], change[i+1])
		}
	}
	return b.deskURL("/authorize?" + q.Encode()), verifier
}

// code signs somebody on for the planner, by password and code, and gives the code.
func (b *wire) code(user string, forward func(time.Duration)) (code, verifier string) {
	b.Helper()
	address, verifier := b.asked()
	answer, _ := b.signOn(address, user, passwordOf(user), b.h.planner.url)
	if answer.Header.Get("Location") == "" {
		forward(time.Minute)
		shown, _ := b.h.vault.Code(user)
		answer, body := b.post(b.deskURL(answer.Request.URL.Path+"/give/app-code"), url.Values{"value": {shown}})
		answer, _ = b.follow(answer, body, b.h.planner.url)
		return codeIn(b, answer), verifier
	}
	return codeIn(b, answer), verifier
}

func codeIn(t testing.TB, answer *http.Response) string {
	at, err := url.Parse(answer.Header.Get("Location"))
	require.NoError(t, err)
	require.NotEmpty(t, at.Query().Get("code"), answer.Header.Get("Location"))
	return at.Query().Get("code")
}

func (b *wire) exchange(form url.Values) (int, map[string]any) {
	b.Helper()
	answer, body := b.post(b.deskURL("/token"), form)
	var said map[string]any
	require.NoError(b, json.Unmarshal([]byte(body), &said), body)
	return answer.StatusCode, said
}

// TestNobodyIsLedAstray: the desk leads back to its sites and clients, and to nowhere else.
func TestNobodyIsLedAstray(t *testing.T) {
	h, _ := open(t, false)
	b := newWire(t, h)
	news := h.url(newsHost, "sites")
	for _, back := range []string{"", "/", "//evil.example/", "https://evil.example/", news + ".evil.example/", news + "@evil.example/", "http://evil.example/?" + news, "javascript:alert(1)",
		strings.Replace(news, "http://", "http://evil@", 1), strings.Replace(news, "http:", "https:", 1), news + "\\@evil.example", "http:" + news, "data:text/html,x", h.url("evil."+domain, "sites")} {
		answer, body := b.get(b.deskURL("/sign-on?return=" + url.QueryEscape(back)))
		require.Equal(t, 400, answer.StatusCode, back)
		require.NotContains(t, body, "evil")
		require.Empty(t, answer.Header.Get("Location"))
	}
	own := h.planner.client.Redirects[0]
	for _, to := range []string{"", "https://evil.example/", own + "/", own + "?x=1", own + "#x", strings.ToUpper(own), own[:len(own)-1], h.notes.client.Redirects[0]} {
		address, _ := b.asked("redirect_uri", to)
		answer, _ := b.get(address)
		require.Equal(t, 400, answer.StatusCode, to)
		require.Empty(t, answer.Header.Get("Location"))
	}
	for _, client := range []string{"", "other", "Planner", scannerUser} {
		address, _ := b.asked("client_id", client)
		answer, _ := b.get(address)
		require.Equal(t, 400, answer.StatusCode, client)
	}
	for want, change := range map[string][]string{"unsupported_response_type": {"response_type", "token"}, "invalid_scope": {"scope", "profile"}, "invalid_request": {"code_challenge_method", "plain"},
		"request_not_supported": {"request", "x"}, "login_required": {"prompt", "none"}} {
		address, _ := b.asked(change...)
		answer, _ := b.get(address)
		at, err := url.Parse(answer.Header.Get("Location"))
		require.NoError(t, err)
		require.True(t, strings.HasPrefix(at.String(), own+"?"), at)
		require.Equal(t, []string{want, h.desk.URL, "s"}, []string{at.Query().Get("error"), at.Query().Get("iss"), at.Query().Get("state")})
	}
	for _, twice := range []string{"state=a", "code_challenge=x", "prompt=none", "max_age=x", "nonce=b"} {
		address, _ := b.asked()
		answer, _ := b.get(address + "&" + twice + "&" + twice)
		require.Contains(t, answer.Header.Get("Location"), "error=invalid_request", twice)
	}
	answer, _ := b.get(h.planner.url + "/back?code=x&state=s&iss=" + url.QueryEscape("https://evil.example"))
	require.Equal(t, 403, answer.StatusCode, "an answer that nobody asked for, of another issuer")
}

// TestCodesCountOnce: of the one who asked, in time, for what was asked.
func TestCodesCountOnce(t *testing.T) {
	h, forward := open(t, false)
	own := h.planner.client.Redirects[0]
	form := func(code, verifier string) url.Values {
		return url.Values{"grant_type": {"authorization_code"}, "client_id": {"planner"}, "redirect_uri": {own}, "code": {code}, "code_verifier": {verifier}}
	}
	b := newWire(t, h)
	code, verifier := b.code("tuva.haug", forward)
	status, got := b.exchange(form(code, verifier))
	require.Equal(t, 200, status, got)
	status, again := b.exchange(form(code, verifier))
	require.Equal(t, 400, status)
	require.Equal(t, "invalid_grant", again["error"])
	for name, change := range map[string]func(url.Values){
		"another verifier": func(f url.Values) { f.Set("code_verifier", oauth2.GenerateVerifier()) }, "no verifier": func(f url.Values) { f.Del("code_verifier") },
		"another client": func(f url.Values) { f.Set("client_id", "tidy-notes") }, "another address": func(f url.Values) { f.Set("redirect_uri", own+"/") },
		"code twice": func(f url.Values) { f.Add("code", f.Get("code")) }, "a machine": func(f url.Values) { f.Set("client_id", scannerUser) },
		"a minute later": func(url.Values) { forward(61 * time.Second) },
	} {
		b := newWire(t, h)
		code, verifier := b.code("tuva.haug", forward)
		f := form(code, verifier)
		change(f)
		status, _ := b.exchange(f)
		require.Contains(t, []int{400, 401}, status, name)
		status, _ = b.exchange(form(code, verifier))
		if name != "a machine" && name != "code twice" { // which were never asked about the code
			require.Equal(t, 400, status, "%s: the code is used up", name)
		}
	}
	for name, token := range map[string]any{"an ID token": got["id_token"], "an access token": got["access_token"]} {
		r, err := http.NewRequest(http.MethodGet, h.url(newsHost, "sites")+"/", nil)
		require.NoError(t, err)
		r.Header.Set("Authorization", fmt.Sprint("Bearer ", token))
		answer, _ := newWire(t, h).do(r)
		require.Equal(t, 303, answer.StatusCode, "%s of a client opens no site", name)
	}
	r, err := http.NewRequest(http.MethodGet, b.deskURL("/userinfo"), nil)
	require.NoError(t, err)
	r.Header.Set("Authorization", fmt.Sprint("Bearer ", got["id_token"]))
	answer, _ := b.do(r)
	require.Equal(t, 401, answer.StatusCode)
	r.Header.Set("Authorization", fmt.Sprint("Bearer ", got["access_token"]))
	answer, body := b.do(r)
	require.Equal(t, 200, answer.StatusCode, body)
}

// TestLevels: a client may ask for a level, and is told which was reached.
func TestLevels(t *testing.T) {
	h, forward := open(t, false)
	for _, c := range []struct{ asked, user, want string }{{"", "leif.dale", "aal1"}, {"aal2", "odd.kvale", "aal2"}, {"aal9 urn:x aal2", "odd.kvale", "aal2"}, {"aal3", "odd.kvale", "aal1"}, {"aal2", "odd.kvale", "aal2"}} {
		h.planner.client.App = accountApp // where a password is enough
		forward(time.Minute)
		b := newWire(t, h)
		b.cookies[domain][placeCookie] = "norvik"
		address, verifier := b.asked("acr_values", c.asked)
		answer, _ := b.signOn(address, c.user, passwordOf(c.user), h.planner.url)
		if strings.HasSuffix(c.asked, "aal2") {
			shown, _ := h.vault.Code(c.user)
			var body string
			answer, body = b.post(b.deskURL(answer.Request.URL.Path+"/give/app-code"), url.Values{"value": {shown}})
			answer, _ = b.follow(answer, body, h.planner.url)
		}
		status, got := b.exchange(url.Values{"grant_type": {"authorization_code"}, "client_id": {"planner"}, "redirect_uri": {h.planner.client.Redirects[0]}, "code": {codeIn(t, answer)}, "code_verifier": {verifier}})
		require.Equal(t, 200, status)
		token, err := jwt.ParseSigned(fmt.Sprint(got["id_token"]), []jose.SignatureAlgorithm{jose.RS256})
		require.NoError(t, err)
		var said map[string]any
		require.NoError(t, token.UnsafeClaimsWithoutVerification(&said))
		require.Equal(t, c.want, said["acr"], c.asked)
	}
}

// accountApp is an app that whoever is known gets into by a password.
const accountApp = "noticeboard"

var flowID = regexp.MustCompile(`[0-9a-f]{64}`)

// TestNobodyIsGivenAway: names that nobody has are answered as others are, in words and time; and nobody guesses long.
func TestNobodyIsGivenAway(t *testing.T) {
	stopped := tuesday(time.Now())()
	h, forward := openBy(t, false, func() time.Time { return stopped }) // however long hashing takes
	try := func(user, password string) (string, time.Duration) {
		b := newWire(t, h)
		answer, body := b.get(h.url(newsHost, "sites") + "/")
		answer, _ = b.follow(answer, body, "")
		begun := time.Now()
		answer, body = b.post(b.deskURL(answer.Request.URL.Path+"/identify"), url.Values{"user": {user}, "password": {password}})
		took := time.Since(begun)
		require.Equal(t, 303, answer.StatusCode)
		_, body = b.follow(answer, body, "")
		if !strings.Contains(body, "do not belong together") {
			return "in", took
		}
		return strings.ReplaceAll(flowID.ReplaceAllString(body, "ID"), user, "USER"), took
	}
	var known, unknown []time.Duration
	for range 7 {
		a, took := try("mira.holt", "wrong")
		known = append(known, took)
		b, took := try("mira.hult", "wrong")
		unknown = append(unknown, took)
		require.Equal(t, a, b)
	}
	slices.Sort(known)
	slices.Sort(unknown)
	require.InDelta(t, 1, float64(known[3])/float64(unknown[3]), 0.6, "%v, %v", known, unknown)
	for range 10 {
		try("mira.holt", "wrong")
	}
	said, _ := try("mira.holt", passwordOf("mira.holt"))
	require.NotEqual(t, "in", said, "tried too often")
	forward(time.Minute)
	said, _ = try("mira.holt", passwordOf("mira.holt"))
	require.Equal(t, "in", said)
}

// TestBrowsersAreKeptApart: another site posts nothing, another browser goes on with nothing, and what is known of a browser before
// somebody signs on is worth nothing afterwards.
func TestBrowsersAreKeptApart(t *testing.T) {
	h, _ := open(t, false)
	attacker := newWire(t, h)
	answer, body := attacker.get(h.url(newsHost, "sites") + "/")
	require.Contains(t, answer.Header.Get("Location"), "/sign-on?return=")
	answer, body = attacker.follow(answer, body, "")
	flow := answer.Request.URL.Path
	require.Contains(t, body, "A stand-in")
	require.Contains(t, answer.Header.Get("Content-Security-Policy"), "frame-ancestors 'none'")

	victim := newWire(t, h)
	answer, _ = victim.get(attacker.deskURL(flow))
	require.Equal(t, 404, answer.StatusCode, "another's flow")
	fixed := attacker.cookies[deskHost]["__Host-desk"]
	require.NotEmpty(t, fixed)
	victim.cookies[deskHost] = map[string]string{"__Host-desk": fixed}
	for name, header := range map[string][2]string{"another site": {"Sec-Fetch-Site", "cross-site"}, "another host": {"Sec-Fetch-Site", "same-site"}, "another origin": {"Origin", "https://evil.example"}} {
		answer, _ := victim.post(attacker.deskURL(flow+"/identify"), url.Values{"user": {"mira.holt"}, "password": {passwordOf("mira.holt")}}, func(r *http.Request) { r.Header.Set(header[0], header[1]) })
		require.Equal(t, 403, answer.StatusCode, name)
	}
	answer, _ = victim.post(attacker.deskURL(flow+"/identify"), url.Values{"user": {"mira.holt"}, "password": {passwordOf("mira.holt")}})
	require.Equal(t, 303, answer.StatusCode)
	answered := answer.Header.Get("Location")
	require.NotEqual(t, fixed, victim.cookies[deskHost]["__Host-desk"])
	answer, body = attacker.get(attacker.deskURL("/"))
	require.Equal(t, 200, answer.StatusCode)
	require.NotContains(t, body, "mira.holt")
	for _, path := range []string{flow, answered} {
		answer, _ = attacker.get(attacker.deskURL(path))
		require.Equal(t, 404, answer.StatusCode)
	}

	answer, _ = victim.get(attacker.deskURL(flow))
	require.Equal(t, 404, answer.StatusCode, "the flow of before is over")
	answer, body = victim.get(victim.deskURL(answered))
	last, said := victim.follow(answer, body, "")
	require.Equal(t, 403, last.StatusCode, "the site gives its token to the browser that has begun")
	require.Contains(t, said, h.url(newsHost, "sites"), "and a way back")
	require.Empty(t, victim.cookies[newsHost][sessionCookie])
	answer, body = victim.get(h.url(newsHost, "sites") + "/")
	last, said = victim.follow(answer, body, "")
	require.Equal(t, 200, last.StatusCode)
	require.Contains(t, said, "mira.holt")
	require.NotEmpty(t, victim.cookies[newsHost][sessionCookie])
	for _, c := range victim.given {
		require.True(t, c.HttpOnly && c.Secure && c.SameSite == http.SameSiteLaxMode && c.Path == "/", c)
		require.True(t, strings.HasPrefix(c.Name, "__Host-") && c.Domain == "", c)
	}
	answer, _ = victim.post(attacker.deskURL(flow+"/give/password"), url.Values{"value": {passwordOf("mira.holt")}})
	require.Equal(t, 404, answer.StatusCode, "a flow that has come to its end")

	stray := newWire(t, h)
	answer, body = stray.get(stray.deskURL("/methods"))
	answer, _ = stray.follow(answer, body, "")
	for _, do := range []string{"/give/app-code", "/give/password", "/change", "/enrol", "/code", "/allow", "/key-options/passkey", "/key/passkey", "/new-key-options", "/new-key", "/choose"} {
		answer, body := stray.post(stray.deskURL(answer.Request.URL.Path+do), url.Values{"value": {"000000"}, "methods": {"passkey"}, "new": {"a storm off Eastholm"}, "again": {"a storm off Eastholm"}})
		_, body = stray.follow(answer, body, "")
		require.NotContains(t, body, "You are signed on", do)
	}
}

// TestSitesAreReachedThroughTheGateway by the small gateway of the example, as behind nginx.
func TestSitesAreReachedThroughTheGateway(t *testing.T) {
	for _, nginx := range []bool{false, true} {
		if nginx {
			needs(t, "nginx")
		}
		h, _ := open(t, nginx)
		b := newWire(t, h)
		answer, body := b.signOn(h.url(newsHost, "sites")+"/", "leif.dale", passwordOf("leif.dale"), "")
		require.Equal(t, 200, answer.StatusCode)
		require.Contains(t, body, `<strong id="user">leif.dale</strong>`)
		r, err := http.NewRequest(http.MethodGet, h.url(newsHost, "sites")+"/", nil)
		require.NoError(t, err)
		for name, value := range map[string]string{"Remote-User": "root", "Remote_User": "root", "X-Original-URL": "x", "X-Forwarded-For": "192.0.2.14", "Caller-Token": "x"} {
			r.Header.Set(name, value)
		}
		_, body = b.do(r)
		require.Contains(t, body, `<strong id="user">leif.dale</strong>`)
		require.NotContains(t, body, "token")
		answer, _ = b.get(h.url(rosterHost, "sites") + "/week/%2e%2e/admin/")
		require.Contains(t, answer.Header.Get("Location"), "/why/v1/")
		r.Host, r.Header = "elsewhere.harbour.localhost", http.Header{}
		_, err = http.DefaultTransport.RoundTrip(r)
		require.Error(t, err, "a host that is no site gets no answer")
	}
}

// TestCodesForSites: a code counts once, for a minute, at its site, in the browser that has begun; and what a site is given
// counts at no other.
func TestCodesForSites(t *testing.T) {
	h, forward := open(t, false)
	news, roster := h.url(newsHost, "sites"), h.url(rosterHost, "sites")
	code := func(b *wire) string {
		answer, body := b.get(news + "/")
		answer, _ = b.follow(answer, body, news+"/signed-on?code=")
		if strings.Contains(answer.Request.URL.Path, "/flow/") && answer.Header.Get("Location") == "" {
			answer, body = b.post(b.deskURL(answer.Request.URL.Path+"/identify"), url.Values{"user": {"leif.dale"}, "password": {passwordOf("leif.dale")}})
			answer, _ = b.follow(answer, body, news+"/signed-on?code=")
		}
		return strings.TrimPrefix(answer.Header.Get("Location"), news)
	}
	b := newWire(t, h)
	given := code(b)
	require.Contains(t, given, "/signed-on?code=")
	for name, try := range map[string]func() (*http.Response, string){
		"at another site":         func() (*http.Response, string) { return b.get(roster + given) },
		"in another browser":      func() (*http.Response, string) { return newWire(t, h).get(news + given) },
		"at the desk, by no site": func() (*http.Response, string) { return b.get(b.deskURL(given)) },
		"after a minute":          func() (*http.Response, string) { forward(61 * time.Second); return b.get(news + given) },
		"with a nonce of another": func() (*http.Response, string) {
			b.cookies[newsHost]["__Host-sign-on"] = strings.Repeat("0", 64)
			return b.get(news + given)
		},
	} {
		answer, _ := try()
		require.Equal(t, 403, answer.StatusCode, name)
		require.Empty(t, b.cookies[newsHost][sessionCookie], name)
		forward(11 * time.Second)
		given = code(b)
	}
	answer, _ := b.get(news + given)
	require.Equal(t, news+"/", answer.Header.Get("Location"))
	token := b.cookies[newsHost][sessionCookie]
	require.NotEmpty(t, token)
	answer, _ = b.get(news + given)
	require.Equal(t, 403, answer.StatusCode, "a second time")

	r, err := http.NewRequest(http.MethodGet, roster+"/week", nil)
	require.NoError(t, err)
	r.Header.Set("Authorization", "Bearer "+token)
	answer, _ = newWire(t, h).do(r)
	require.Contains(t, answer.Header.Get("Location"), "/sign-on?", "the token of one site at another")

	b.cookies[newsHost] = map[string]string{} // as of a browser that refuses the site's cookies
	forward(time.Minute)
	for range 8 {
		answer, body := b.get(news + "/")
		nonce := b.cookies[newsHost]["__Host-sign-on"]
		answer, body = b.follow(answer, body, "")
		b.cookies[newsHost] = map[string]string{"__Host-sign-on": nonce}
		if answer.StatusCode == 403 {
			require.Contains(t, body, "again and again")
			return
		}
	}
	require.Fail(t, "it is led in a circle without end")
}
