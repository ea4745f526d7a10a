package main

import (
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"net/url"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/go-jose/go-jose/v4"
	"github.com/go-jose/go-jose/v4/jwt"
	"github.com/stretchr/testify/require"

	"briskwarden.example/briskwarden/examples/desk/vault"
)

// claimed are the claims of a token of the desk, unverified.
func claimed(t testing.TB, raw any) (sub string, amr []any) {
	token, err := jwt.ParseSigned(fmt.Sprint(raw), []jose.SignatureAlgorithm{jose.RS256})
	require.NoError(t, err)
	var said struct {
		Subject string `json:"sub"`
		Methods []any  `json:"amr"`
	}
	require.NoError(t, token.UnsafeClaimsWithoutVerification(&said))
	return said.Subject, said.Methods
}

// walk is what one browser does in a flow, beside what was proved in it.
type walk struct {
	*wire
	flow, verifier string
	user           string
	proved         []string
}

// at follows an answer, and notes in which flow it ends: another one begins with nothing proved.
func (w *walk) at(answer *http.Response, body string) (*http.Response, string) {
	answer, body = w.follow(answer, body, w.h.planner.url)
	if strings.HasPrefix(answer.Request.URL.Path, "/flow/") {
		w.flow = answer.Request.URL.Path[:len("/flow/")+64]
	}
	return answer, body
}

// step does what a byte says.
func (w *walk) step(do byte, others *walk, forward func(time.Duration)) {
	people := []string{"odd.kvale", "tuva.haug"}
	who := people[do>>4&1]
	var answer *http.Response
	post := func(path string, form url.Values) { answer, _ = w.at(w.post(w.deskURL(w.flow+path), form)) }
	switch do % 8 {
	case 0, 1:
		address, verifier := w.asked("prompt", []string{"", "login"}[do%8])
		w.verifier, w.user, w.proved = verifier, "", nil
		answer, _ = w.at(w.get(address))
	case 2:
		forward(10 * time.Second)
		post("/identify", url.Values{"user": {who}, "password": {passwordOf(who)}})
		if answer.StatusCode != 404 {
			w.user, w.proved = who, []string{"pwd"}
		}
	case 3:
		forward(time.Minute)
		code, _ := w.h.vault.Code(who)
		post("/give/app-code", url.Values{"value": {code}})
		if who == w.user {
			w.proved = append(w.proved, "otp")
		}
	case 4:
		post("/choose", url.Values{"methods": {vault.AppCode}})
	case 5:
		answer, _ = w.at(w.get(w.deskURL(w.flow)))
	case 6:
		w.flow = others.flow // which is the other browser's
		return
	case 7:
		answer, _ = w.at(w.post(w.deskURL("/sign-out"), nil))
		w.user, w.proved = "", nil
	}
	location := answer.Header.Get("Location")
	if !strings.HasPrefix(location, w.h.planner.url) || !strings.Contains(location, "code=") {
		return
	}
	_, got := w.exchange(url.Values{"grant_type": {"authorization_code"}, "client_id": {"planner"}, "redirect_uri": {w.h.planner.client.Redirects[0]}, "code": {codeIn(w, answer)}, "code_verifier": {w.verifier}})
	sub, amr := claimed(w, got["id_token"])
	if w.user != "" {
		require.Equal(w, w.user, sub)
	}
	for _, v := range amr {
		require.True(w, slices.Contains(w.proved, fmt.Sprint(v)), "the token says %v of %s, who proved %v", amr, sub, w.proved)
	}
	w.proved = nil
}

// FuzzFlows has two people take random steps in two browsers: nobody gets a token that says more than that person proved in
// that flow. It makes no passkeys, changes of passwords, enrolments and consents.
func FuzzFlows(f *testing.F) {
	h, forward := open(f, false)
	h.planner.client.App = accountApp
	f.Add([]byte{0, 2, 3, 18, 3, 19, 5})
	f.Add([]byte{0, 18, 0x84, 0x93, 1, 2, 4, 3, 0x86, 0x85, 7, 5})
	f.Add([]byte{0, 2, 0x80, 0x92, 6, 5, 3, 0x87, 0, 5, 18, 19, 3})
	f.Fuzz(func(t *testing.T, steps []byte) {
		forward(5 * time.Minute)
		walks := []*walk{{wire: newWire(t, h)}, {wire: newWire(t, h)}}
		for _, w := range walks {
			w.cookies[domain][placeCookie] = "norvik"
		}
		for _, do := range steps[:min(len(steps), 24)] {
			w := walks[do>>7]
			if w.flow == "" && do%8 > 1 {
				continue
			}
			w.step(do, walks[1-do>>7], forward)
		}
	})
}

// TestAnotherPersonBeginsAnew: a stolen password of one and the app of another give nobody a token of both.
func TestAnotherPersonBeginsAnew(t *testing.T) {
	h, forward := open(t, false)
	b := newWire(t, h)
	address, verifier := b.asked()
	answer, _ := b.signOn(address, "odd.kvale", passwordOf("odd.kvale"), h.planner.url)
	flow := answer.Request.URL.Path
	forward(time.Minute)
	code, _ := h.vault.Code("odd.kvale")
	require.NotEmpty(t, code)
	first, _ := b.post(b.deskURL(flow+"/identify"), url.Values{"user": {"tuva.haug"}, "password": {passwordOf("tuva.haug")}})
	require.NotContains(t, first.Header.Get("Location"), flow)
	for _, at := range []string{flow, strings.TrimSuffix(first.Header.Get("Location"), "/")} {
		answer, body := b.post(b.deskURL(strings.TrimPrefix(at, b.deskURL(""))+"/give/app-code"), url.Values{"value": {code}})
		answer, _ = b.follow(answer, body, h.planner.url)
		if location := answer.Header.Get("Location"); strings.Contains(location, "code=") {
			_, got := b.exchange(url.Values{"grant_type": {"authorization_code"}, "client_id": {"planner"}, "redirect_uri": {h.planner.client.Redirects[0]}, "code": {codeIn(t, answer)}, "code_verifier": {verifier}})
			sub, amr := claimed(t, got["id_token"])
			require.Equal(t, "tuva.haug", sub)
			require.NotContains(t, amr, "otp")
		}
	}
}

// TestOldCookieAfterTheLock: whoever knew the cookie from before is somebody else, even where both ask at the same time.
func TestOldCookieAfterTheLock(t *testing.T) {
	h, forward := open(t, false)
	for range 12 {
		forward(time.Minute)
		attacker, victim := newWire(t, h), newWire(t, h)
		answer, body := attacker.get(attacker.deskURL("/methods"))
		answer, _ = attacker.follow(answer, body, "")
		flow, fixed := answer.Request.URL.Path, attacker.cookies[deskHost]["__Host-desk"]
		victim.cookies[deskHost] = map[string]string{"__Host-desk": fixed}
		var all sync.WaitGroup
		for _, path := range []string{"/", "/", "/sign-out", "/methods", flow} {
			all.Go(func() {
				spy := newWire(t, h)
				for range 8 {
					spy.cookies[deskHost] = map[string]string{"__Host-desk": fixed}
					answer, body := spy.get(spy.deskURL(path))
					if path == "/methods" {
						answer, body = spy.follow(answer, body, "")
					}
					if strings.Contains(body, "You are signed on as") || strings.HasPrefix(answer.Request.URL.Path, "/flow/") && strings.Contains(body, "Set up one more") {
						t.Errorf("somebody else sees %s", path)
					}
				}
			})
		}
		all.Go(func() {
			victim.post(victim.deskURL(flow+"/identify"), url.Values{"user": {"leif.dale"}, "password": {passwordOf("leif.dale")}})
		})
		all.Wait()
	}
}

// TestSigningOutEndsEverything: codes, tokens and sessions, also where a client or the service does not answer.
func TestSigningOutEndsEverything(t *testing.T) {
	h, forward := open(t, false)
	silent := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		_, _ = io.Copy(io.Discard, r.Body)
		<-r.Context().Done()
	}))
	t.Cleanup(silent.Close)
	h.planner.client.App, h.planner.client.SignedOut = accountApp, silent.URL
	site := h.url(newsHost, "sites") + "/"
	for name, out := range map[string]func(b *wire){
		"signing out": func(b *wire) { b.post(b.deskURL("/sign-out"), nil) },
		"another person": func(b *wire) {
			address, _ := b.asked("prompt", "login")
			answer, body := b.get(address)
			answer, _ = b.follow(answer, body, "")
			b.post(b.deskURL(answer.Request.URL.Path+"/identify"), url.Values{"user": {"tuva.haug"}, "password": {passwordOf("tuva.haug")}})
		},
	} {
		forward(time.Minute)
		b := newWire(t, h)
		b.cookies[domain][placeCookie] = "norvik"
		b.signOn(site, "leif.dale", passwordOf("leif.dale"), "")
		answer, body := b.get(site)
		require.Equal(t, 200, answer.StatusCode, body)
		code := func() (code, verifier string) {
			address, verifier := b.asked()
			answer, body := b.get(address)
			answer, _ = b.follow(answer, body, h.planner.url)
			return codeIn(t, answer), verifier
		}
		exchange := func(code, verifier string) (int, map[string]any) {
			return b.exchange(url.Values{"grant_type": {"authorization_code"}, "client_id": {"planner"}, "redirect_uri": {h.planner.client.Redirects[0]}, "code": {code}, "code_verifier": {verifier}})
		}
		status, got := exchange(code())
		require.Equal(t, 200, status)
		unused, verifier := code()
		begun := time.Now()
		out(b)
		require.Less(t, time.Since(begun), 3*time.Second, name)
		status, _ = exchange(unused, verifier)
		require.Equal(t, 400, status, "%s: a code from before", name)
		r, err := http.NewRequest(http.MethodGet, b.deskURL("/userinfo"), nil)
		require.NoError(t, err)
		r.Header.Set("Authorization", fmt.Sprint("Bearer ", got["access_token"]))
		answer, _ = b.do(r)
		require.Equal(t, 401, answer.StatusCode, name)
		require.Eventually(t, func() bool {
			answer, _ := b.get(site)
			return answer.StatusCode != 200
		}, 3*time.Second, 50*time.Millisecond, "%s: the site", name)
	}
}

// TestOldPasswordIsTold: that somebody has tried often does not make the old password a new one.
func TestOldPasswordIsTold(t *testing.T) {
	v := vault.New(time.Now)
	v.Add("ann", "a storm off Eastholm")
	for range 12 {
		v.CheckPassword(vault.Try{User: "ann"}, "wrong")
	}
	require.EqualError(t, v.SetPassword("ann", "a storm off Eastholm"), "the old one")
}

// TestOpenIDToTheLetter is about what OpenID Connect Core 1.0 and RFC 6749 ask of an answer.
func TestOpenIDToTheLetter(t *testing.T) {
	h, forward := open(t, false)
	h.planner.client.App = accountApp
	b := newWire(t, h)
	b.cookies[domain][placeCookie] = "norvik"
	errorOf := func(change ...string) string {
		address, _ := b.asked(change...)
		answer, _ := b.get(address)
		at, err := url.Parse(answer.Header.Get("Location"))
		require.NoError(t, err)
		return at.Query().Get("error")
	}
	require.Equal(t, "invalid_request", errorOf("response_mode", "form_post"))
	require.Equal(t, "invalid_request", errorOf("prompt", "none login"))
	require.Equal(t, "", errorOf("prompt", "login consent", "response_mode", "query"))

	address, _ := b.asked()
	b.signOn(address, "leif.dale", passwordOf("leif.dale"), h.planner.url)
	require.Equal(t, "", errorOf("prompt", "none", "max_age", "60"))
	forward(2 * time.Minute)
	require.Equal(t, "login_required", errorOf("prompt", "none", "max_age", "60"), "max_age counts where nothing may be shown, too")

	address, verifier := b.asked("prompt", "none")
	at, form, _ := strings.Cut(address, "?")
	values, err := url.ParseQuery(form)
	require.NoError(t, err)
	answer, _ := b.post(at, values, func(r *http.Request) { r.Header.Set("Sec-Fetch-Site", "cross-site") })
	exchange := url.Values{"grant_type": {"authorization_code"}, "client_id": {"planner"}, "redirect_uri": {h.planner.client.Redirects[0]}, "code": {codeIn(t, answer)}, "code_verifier": {verifier}}
	status, got := b.exchange(exchange)
	require.Equal(t, 200, status, "what a form asks for")
	token, err := jwt.ParseSigned(fmt.Sprint(got["id_token"]), []jose.SignatureAlgorithm{jose.RS256})
	require.NoError(t, err)
	var said map[string]any
	require.NoError(t, token.UnsafeClaimsWithoutVerification(&said))
	require.NotContains(t, said, "amr", "nothing was proved in this flow")

	for scheme, want := range map[string]int{"bearer ": 200, "BEARER ": 200, "": 401, "Basic ": 401} {
		for _, method := range []string{http.MethodGet, http.MethodPost} {
			r, err := http.NewRequest(method, b.deskURL("/userinfo"), nil)
			require.NoError(t, err)
			r.Header.Set("Authorization", scheme+fmt.Sprint(got["access_token"]))
			answer, _ := b.do(r)
			require.Equal(t, want, answer.StatusCode, scheme)
		}
	}
	exchange.Del("grant_type")
	status, got = b.exchange(exchange)
	require.Equal(t, 400, status)
	require.Equal(t, "invalid_request", got["error"])
	answer, _ = b.post(b.deskURL("/token"), url.Values{"grant_type": {"authorization_code"}, "client_id": {"nobody"}})
	require.Equal(t, 401, answer.StatusCode)
	require.NotEmpty(t, answer.Header.Get("WWW-Authenticate"))
}
