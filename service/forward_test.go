package service_test

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/golang-jwt/jwt/v5"
	"github.com/stretchr/testify/require"

	"briskwarden.example/briskwarden"
	"briskwarden.example/briskwarden/service"
	"briskwarden.example/briskwarden/signon"
	"briskwarden.example/briskwarden/store/sqlite"
)

const gatewayRules = `rulebook gateway {
  timezone "Europe/Oslo"
  floor none
  break-glass user root.key => security-key every time
  texts "texts/*.json"
}
user ann { groups crew  methods password, passkey, app-code }
user bob { groups crew  methods password }
user "odd%%20nå me" { groups crew  methods password }
user hana { groups crew, guests  type guest  methods password }
user root.key { methods security-key }
user gone { groups crew  active no }
group guests { }
group crew { }
group emergency { user root.key }
app open { about "The noticeboard"  url "https://open.skerry.example/*" }
app roster { about "Who sails when"  url "https://roster.skerry.example/*" }
app roster-admin { url "https://roster.skerry.example/admin/*" }
app codes { url "https://codes.skerry.example/*" }
app ledger { url "https://ledger.skerry.example/*" }
app strict { url "https://strict.skerry.example/*" }
app "https://elsewhere.example/x" { }
network relays { 198.51.100.0/24 }
policy open { who group crew to app open otherwise => grant }
policy roster { who group crew to app roster
  case "relay" when network in relays => block "Call the harbour desk"
  otherwise => step-up password every 10h on any device }
policy admin { who group crew to app roster-admin otherwise => step-up passkey every time session lasts 10h, idle 30m }
policy codes { who group crew to app codes otherwise => step-up app-code every 1h on any device }
policy strict { who group crew to app strict case "relay" when network in relays => block otherwise => grant }
policy ledger { who group crew to app ledger case "browser" when client is browser => grant otherwise => block }
policy named { who everyone to app "https://elsewhere.example/x" otherwise => grant }
issuer desk { url "https://desk.skerry.example"  keys "keys.json"  audience "brisk"  audience "strict" for app strict  cookie "__Host-skerry-session"  who people except type guest
  sign-on "https://desk.skerry.example/sign-on?from=gate"  sessions ashore }
issuer guests { url "https://guests.example"  keys "keys.json"  audience "brisk"  cookie "guest"  who type guest  sign-on "https://guests.example/" }
caller gate { token %q  may forward }
caller roster-gate { token %q  may forward  for app roster }
caller over { token %q until 2020-01-01  may forward }
caller far { token %q  may forward  from network relays }
caller web { token %q  may decide, operate  sessions ashore }
`

// siteCookie is the name of the cookie with the token.
const siteCookie = "__Host-skerry-session"

const bokmal = `{"You were not let in": "Du slapp ikke inn", "You asked for “{app}” on {date} at {time}.": "Du ba om «{app}» {date} kl. {time}.",
 "Call the harbour desk": "Ring havnekontoret", "Who sails when": "Hvem som seiler når", "There is nothing that you can do about it here.": "Her kan du ikke gjøre noe med det."}`

func gateway(t testing.TB) *served { return gatewayWith(t, "") }

// gatewayWith is the gateway's service with more rules.
func gatewayWith(t testing.TB, more string) *served {
	store, err := sqlite.Open(t.TempDir() + "/brisk.state")
	require.NoError(t, err)
	t.Cleanup(func() { store.Close() })
	r, err := briskwarden.OpenFS(fstest.MapFS{"rulebook.warden": {Data: []byte(fmt.Sprintf(gatewayRules, digest("gate"), digest("roster-gate"), digest("over"), digest("far"), digest("web")) + more)},
		"keys.json": {Data: []byte(published())}, "texts/nb.json": {Data: []byte(bokmal)}})
	require.NoError(t, err)
	s := &served{TB: t, state: &clock{Store: store}}
	s.Service = service.New(r, s.state, service.Options{Clock: s.now})
	t.Cleanup(func() { s.Close() })
	return s
}

// person is a token of the desk.
func (s *served) person(sub, session string, proved time.Time, amr ...string) *set {
	return &set{claims{"typ": "at+jwt", "kid": "rsa"}, jwt.SigningMethodRS256, signing, claims{"iss": "https://desk.skerry.example", "aud": "brisk", "sub": sub, "sid": session,
		"iat": s.now().Unix(), "exp": s.now().Add(100 * time.Hour).Unix(), "auth_time": float64(proved.UnixMilli()) / 1000, "amr": amr}}
}

// visit asks for an address as a gateway does.
func (s *served) visit(address, token string, change ...func(*http.Request)) (int, http.Header) {
	s.Helper()
	all := append([]func(*http.Request){func(r *http.Request) {
		r.Header.Set("Caller-Token", "gate")
		r.Header.Set("Asked-URL", address)
		r.Header.Set("Asked-Method", "GET")
		r.Header.Set("X-Forwarded-For", "192.0.2.7")
	}}, change...)
	status, header, _ := s.ask(token, "GET", "/forward/v1", "", all...)
	return status, header
}

func with(name string, values ...string) func(*http.Request) {
	return func(r *http.Request) {
		r.Header.Del(name)
		for _, v := range values {
			r.Header.Add(name, v)
		}
	}
}

const (
	openSite   = "https://open.skerry.example/"
	rosterSite = "https://roster.skerry.example/week"
	adminSite  = "https://roster.skerry.example/admin/"
)

// TestForward is one session, from the first visit to its end.
func TestForward(t *testing.T) {
	s := gateway(t)
	status, h := s.visit(openSite, s.person("ann", "s1", s.now()).String())
	require.Equal(t, 204, status)
	require.Equal(t, "ann", h.Get("Remote-User"))
	require.Len(t, h.Get("Decision-ID"), 32)
	status, h = s.visit(openSite, s.person("odd%20nå me", "s", s.now()).String())
	require.Equal(t, 204, status)
	require.Equal(t, "odd%2520n%C3%A5%20me", h.Get("Remote-User"))

	status, h = s.visit("https://OPEN.skerry.example:443/b%7e?q=1&x=%2F", "")
	require.Equal(t, 401, status)
	require.Equal(t, "Bearer", h.Get("WWW-Authenticate"))
	require.Equal(t, "https://desk.skerry.example/sign-on?from=gate&return="+url.QueryEscape("https://open.skerry.example/b~?q=1&x=%2F"), h.Get("Sign-On-URL"))
	require.NotEmpty(t, h.Get("Decision-ID"))

	first := s.person("ann", "s1", s.now(), "pwd").String()
	status, _ = s.visit(rosterSite, first)
	require.Equal(t, 204, status)
	status, h = s.visit(adminSite, first)
	require.Equal(t, 401, status)
	require.Equal(t, `Bearer error="insufficient_user_authentication", error_description="a stronger or fresher proof is needed", acr_values="aal3", max_age="0"`, h.Get("WWW-Authenticate"))
	require.Contains(t, h.Get("Sign-On-URL"), "acr_values=aal3&from=gate&max_age=0&return=")
	status, _ = s.visit(rosterSite, first, with("X-Forwarded-For", "198.51.100.3"))
	require.Equal(t, 403, status)
	status, _ = s.visit(rosterSite, s.person("gone", "s9", s.now(), "pwd").String())
	require.Equal(t, 403, status)
	status, _ = s.visit("https://ledger.skerry.example/", first)
	require.Equal(t, 403, status, "nobody says that it is a browser")
	status, _ = s.visit("https://ledger.skerry.example/", "", with("Cookie", siteCookie+"="+first))
	require.Equal(t, 204, status)

	status, _, _ = s.ask("web", "DELETE", "/sessions/v1/ann/s1", "")
	require.Equal(t, 204, status)
	for _, site := range []string{openSite, rosterSite} {
		status, _ = s.visit(site, first)
		require.Equal(t, 403, status, "the session has ended")
	}
	require.Equal(t, "block", s.outcome("web", "ann", "open", `"session":{"id":"s1"}`), "for those who share it, too")
}

// TestWhatStands is about proof that is asked for every time: how fresh it must be, and for how long it stands.
func TestWhatStands(t *testing.T) {
	s := gateway(t)
	admin := func(proved time.Time, session string) int {
		status, _ := s.visit(adminSite, s.person("ann", session, proved, "hwk", "pop", "user").String())
		soon()
		return status
	}
	proved := s.now()
	require.Equal(t, 204, admin(proved, "s1"))
	s.state.pass(20 * time.Minute)
	require.Equal(t, 204, admin(proved, "s1"), "it stands until the policy's idle")
	require.Equal(t, 401, admin(proved, "s2"), "in another session it was never fresh")
	s.state.pass(29 * time.Minute)
	require.Equal(t, 204, admin(proved, "s1"))
	s.state.pass(30 * time.Minute)
	require.Equal(t, 401, admin(proved, "s1"), "idle")
	require.Equal(t, 401, admin(s.now().Add(-61*time.Second), "s1"))
	again := s.now().Add(-59700 * time.Millisecond)
	require.Equal(t, 204, admin(again, "s1"), "she has proved it anew")
	require.Equal(t, 401, admin(proved, "s1"), "and an old token is an old token")
	require.Equal(t, 401, admin(again, "s1"), "after which it is no longer fresh")
	require.Equal(t, 204, admin(s.now(), ""))
	require.Equal(t, 401, admin(s.now().Add(-2*time.Minute), ""), "without a session nothing stands")

	proved = s.now()
	status, _ := s.visit(rosterSite, s.person("ann", "s5", proved, "pwd").String())
	require.Equal(t, 204, status)
	s.state.pass(9 * time.Hour)
	roster := func(proved time.Time) int {
		status, _ := s.visit(rosterSite, s.person("ann", "s5", proved, "pwd").String())
		return status
	}
	require.Equal(t, 204, roster(proved))
	s.state.pass(61 * time.Minute)
	require.Equal(t, 401, roster(proved), "to visit makes no proof younger")
}

// TestTokensForOneSite: what one site is given counts at no other.
func TestTokensForOneSite(t *testing.T) {
	s := gateway(t)
	const strictSite = "https://strict.skerry.example/"
	token := func(audience any) string {
		p := s.person("ann", "s1", s.now(), "pwd")
		p.claims["aud"] = audience
		return p.String()
	}
	for _, c := range []struct {
		site     string
		audience any
		want     int
	}{{openSite, "brisk", 204}, {strictSite, "brisk", 401}, {strictSite, "strict", 204}, {openSite, "strict", 401}, {strictSite, []string{"x", "strict"}, 204}, {strictSite, "", 401}} {
		status, _ := s.visit(c.site, token(c.audience))
		require.Equal(t, c.want, status, "%s at %s", c.audience, c.site)
		status, _ = s.visit(c.site, "", with("Cookie", siteCookie+"="+token(c.audience)))
		require.Equal(t, c.want, status, "%s at %s", c.audience, c.site)
	}
	_, h := s.visit(strictSite, token("strict"), with("X-Forwarded-For", "198.51.100.3"))
	for audience, want := range map[string]int{"strict": 200, "brisk": 404} {
		status, _, _ := s.ask(token(audience), "GET", "/why/v1/"+h.Get("Decision-ID"), "")
		require.Equal(t, want, status, audience)
	}
}

// TestCookieTwice: a new sign-on does not help, and the desk is told.
func TestCookieTwice(t *testing.T) {
	s := gateway(t)
	ann := s.person("ann", "s1", s.now(), "pwd").String()
	status, h := s.visit(openSite, "", with("Cookie", siteCookie+"="+ann+"; "+siteCookie+"="+ann))
	require.Equal(t, 401, status)
	require.Contains(t, h.Get("Sign-On-URL"), "problem=cookie-twice")
	_, h = s.visit(openSite, ann+"x")
	require.NotContains(t, h.Get("Sign-On-URL"), "problem")
}

// TestValuesThatFitSeveral: what a value may stand for counts for what all that it may be meet.
func TestValuesThatFitSeveral(t *testing.T) {
	s := gateway(t)
	codes := func(amr ...string) int {
		status, _ := s.visit("https://codes.skerry.example/", s.person("ann", "s1", s.now(), amr...).String())
		return status
	}
	require.Equal(t, 401, codes("otp"), "a code of an app, of mail, or of recovery")
	require.Equal(t, 401, codes("pwd", "mfa", "unheard"))
	require.Equal(t, "step-up", s.outcome("web", "ann", "codes", `"session":{"id":"s1"}`), "and is not remembered as what it may be")
	status, _ := s.visit(adminSite, s.person("ann", "s2", s.now(), "hwk", "pop").String())
	require.Equal(t, 401, status, "a security key is no passkey")
	status, _ = s.visit(adminSite, s.person("ann", "s2", s.now(), "user", "pop", "hwk", "mfa").String())
	require.Equal(t, 204, status)
}

// TestForwardIsNotFooled tries what a visitor, another issuer or a gateway that is set up wrongly could send.
func TestForwardIsNotFooled(t *testing.T) {
	s := gateway(t)
	good := func() *set { return s.person("ann", "s1", s.now(), "pwd") }
	token := good().String()
	claim := func(name string, value any) string {
		c := good()
		if c.claims[name] = value; value == nil {
			delete(c.claims, name)
		}
		return c.String()
	}
	signed := func(header, value string, method jwt.SigningMethod, key any) string {
		c := good()
		c.method, c.key, c.header["alg"], c.header[header] = method, key, method.Alg(), value
		return c.String()
	}
	for name, bad := range map[string]string{
		"a signal": signed("typ", "secevent+jwt", jwt.SigningMethodRS256, signing), "a log-out token": signed("typ", "logout+jwt", jwt.SigningMethodRS256, signing),
		"a log-out token without its type": claim("events", claims{"http://schemas.openid.net/event/backchannel-logout": claims{}}),
		"another's key":                    signed("kid", "rsa", jwt.SigningMethodRS256, foreign), "no signature": signed("kid", "rsa", jwt.SigningMethodNone, jwt.UnsafeAllowNoneSignatureType),
		"a shared secret": signed("kid", "rsa", jwt.SigningMethodHS256, []byte(published())), "crit": signed("crit", "x", jwt.SigningMethodRS256, signing),
		"another audience": claim("aud", "ledger"), "no audience": claim("aud", nil), "another issuer": claim("iss", "https://desk.skerry.example/"), "no issuer": claim("iss", nil),
		"over": claim("exp", s.now().Add(-61*time.Second).Unix()), "without end": claim("exp", nil), "not yet": claim("nbf", s.now().Add(2*time.Minute).Unix()),
		"no sub": claim("sub", nil), "empty sub": claim("sub", ""), "the sub of another issuer": claim("sub", "hana"), "an emergency account of nobody": claim("sub", "hana"),
		"sub of another type": claim("sub", 7), "amr of another type": claim("amr", "pwd"), "auth_time in words": claim("auth_time", "now"), "junk": "x.y.z", "cut": token[:len(token)-4],
	} {
		status, h := s.visit(openSite, bad)
		require.Equal(t, 401, status, name)
		require.Equal(t, `Bearer error="invalid_token"`, h.Get("WWW-Authenticate"), name)
		require.NotEmpty(t, h.Get("Sign-On-URL"), name)
	}
	status, _ := s.visit(openSite, claim("sub", "nobody"))
	require.Equal(t, 403, status)
	guest := good()
	guest.claims["iss"], guest.claims["sub"] = "https://guests.example", "hana"
	status, _ = s.visit(openSite, guest.String())
	require.Equal(t, 204, status)
	guest.claims["sub"] = "ann"
	status, _ = s.visit(openSite, guest.String())
	require.Equal(t, 401, status)

	for name, change := range map[string]func(*http.Request){
		"token and cookie": with("Cookie", siteCookie+"="+token), "two cookies": func(r *http.Request) {
			r.Header.Del("Authorization")
			r.Header.Set("Cookie", siteCookie+"="+token+"; "+siteCookie+"="+token)
		},
		"the cookie of another issuer": func(r *http.Request) { r.Header.Del("Authorization"); r.Header.Set("Cookie", "guest="+token) },
		"two tokens":                   with("Authorization", "Bearer "+token, "Bearer "+token), "a token and a password": with("Authorization", "Bearer "+token, "Basic YTpi"),
		"no token": with("Authorization", "Basic YTpi"),
	} {
		status, _ := s.visit(openSite, token, change)
		require.Equal(t, 401, status, name)
	}
	for name, change := range map[string]func(*http.Request){
		"two addresses of the visitor": with("X-Forwarded-For", "192.0.2.7", "192.0.2.8"), "a list": with("X-Forwarded-For", "192.0.2.7, 192.0.2.8"), "none": with("X-Forwarded-For"),
		"a port": with("X-Forwarded-For", "192.0.2.7:80"), "a zone": with("X-Forwarded-For", "fe80::1%eth0"), "two URLs": with("Asked-URL", openSite, openSite), "no URL": with("Asked-URL"),
		"an old name": with("X-Original-URL", openSite), "an old name of the method": with("X-Original-Method", "GET"),
		"no method": with("Asked-Method"), "two methods": with("Asked-Method", "GET", "POST"), "a method that is none": with("Asked-Method", "GET /"),
	} {
		status, h := s.visit(openSite, token, change)
		require.Equal(t, 400, status, name)
		require.Empty(t, h.Get("Remote-User"))
	}
	for _, address := range []string{"https://other.skerry.example/", "https://mira@open.skerry.example/", "https://open.skerry.example//x", "https://open.skerry.example/a%2fb",
		"https://open.skerry.example/;x", "https://open.skerry.example/a\\b", "http://open.skerry.example/", "https://open.skerry.example:8443/", "https://elsewhere.example/x", "/"} {
		status, h := s.visit(address, token)
		require.Equal(t, 403, status, address)
		require.Empty(t, h.Get("Sign-On-URL"), address)
		status, _ = s.visit(address, "")
		require.Equal(t, 403, status, address)
	}
	for _, c := range []struct {
		token string
		want  int
	}{{"", 400}, {"other", 400}, {"web", 400}, {"over", 400}, {"far", 400}, {"roster-gate", 403}} {
		status, _ := s.visit(openSite, token, with("Caller-Token", c.token))
		require.Equal(t, c.want, status, c.token)
	}
	for name, change := range map[string]func(*http.Request){"in the person's header": with("Caller-Token"), "twice": with("Caller-Token", "gate", "gate")} {
		status, h, body := s.ask("gate", "GET", "/forward/v1", "", with("Asked-URL", openSite), change)
		require.Equal(t, 400, status, name)
		require.Contains(t, body, "Caller-Token")
		require.NotContains(t, body, "Authorization")
		require.Empty(t, h.Get("WWW-Authenticate"))
	}
	status, _ = s.visit(rosterSite, token, with("Caller-Token", "roster-gate"))
	require.Equal(t, 204, status)

	s.state.away.Store(true)
	status, h := s.visit(openSite, token)
	require.Equal(t, 403, status)
	require.Equal(t, "1", h.Get("Retry-After"))
}

// TestGatewayAlerts: whoever is let in or stopped at a gateway alerts as anywhere else.
func TestGatewayAlerts(t *testing.T) {
	h := hooked(t, nil)
	s := gatewayWith(t, fmt.Sprintf("alert relayed { when network in relays  at most 1 per user every 4h  tell %q }\n", h.url()))
	token := s.person("ann", "s1", s.now(), "pwd").String()
	for range 3 {
		s.visit(rosterSite, token, with("X-Forwarded-For", "198.51.100.3"))
	}
	s.visit(rosterSite, token)
	eventually(t, func() bool { return len(h.got()) == 1 })
	require.Equal(t, "ann", h.got()[0].told.Data["user"])
}

// TestWhy: the person is told what happened, in her language, and nobody else is.
func TestWhy(t *testing.T) {
	s := gateway(t)
	why := func(id, token string, change ...func(*http.Request)) (int, http.Header, string) {
		return s.ask(token, "GET", "/why/v1/"+id, "", change...)
	}
	ann := s.person("ann", "s1", s.now(), "pwd").String()
	_, h := s.visit(rosterSite, ann, with("X-Forwarded-For", "198.51.100.3"))
	id := h.Get("Decision-ID")
	status, h, body := why(id, ann)
	require.Equal(t, 200, status)
	require.Equal(t, "no-store", h.Get("Cache-Control"))
	require.Equal(t, "text/html; charset=utf-8", h.Get("Content-Type"))
	for _, said := range []string{`<html lang="en">`, "You were not let in", "Call the harbour desk", "You asked for “Who sails when” on ", id} {
		require.Contains(t, body, said)
	}
	for _, secret := range []string{"relay", "policy", "198.51.100"} {
		require.NotContains(t, body, secret)
	}
	_, h, body = why(id, ann, with("Accept-Language", "no, en;q=0.5"), with("Accept", "application/json"))
	require.Equal(t, "nb", h.Get("Content-Language"))
	var told map[string]any
	require.NoError(t, json.Unmarshal([]byte(body), &told))
	require.Equal(t, "Ring havnekontoret", told["message"])
	require.Contains(t, told["happened"], "Du ba om «Hvem som seiler når» ")
	require.NotContains(t, told, "next", "the policy's own words are advice")
	_, h = s.visit("https://nothing.skerry.example/", ann)
	status, _, body = why(h.Get("Decision-ID"), ann)
	require.Equal(t, 200, status)
	for _, said := range []string{"No application has this address.", "There is nothing that you can do about it here.", "Ask whoever looks after", h.Get("Decision-ID")} {
		require.Contains(t, body, said)
	}
	for _, accept := range []string{"fr", "*", strings.Repeat("nb,", 5000), "\x00", "nb;q=x"} {
		_, h, _ = why(id, ann, with("Accept-Language", accept))
		require.Contains(t, []string{"en", "nb"}, h.Get("Content-Language"))
	}

	_, h = s.visit(adminSite, ann)
	_, _, body = why(h.Get("Decision-ID"), "", with("Cookie", siteCookie+"="+ann))
	require.Contains(t, body, "One more proof is needed")
	require.Contains(t, body, "Prove that it is you: passkey.")
	require.Contains(t, body, `href="https://desk.skerry.example/sign-on?acr_values=aal3&amp;`)

	for name, token := range map[string]string{"another": s.person("bob", "s2", s.now(), "pwd").String(), "nobody": "", "a token that does not verify": ann + "x", "a caller": "web"} {
		status, _, body = why(id, token)
		require.Equal(t, 404, status, name)
		require.NotContains(t, body, "harbour desk")
	}
	status, _, _ = why("0123456789abcdef0123456789abcdef", ann)
	require.Equal(t, 404, status)
	s.state.pass(7*24*time.Hour + time.Minute)
	status, _, _ = why(id, s.person("ann", "s1", s.now()).String())
	require.Equal(t, 404, status, "a week is over")
}

// TestAppsByTheirAddress: evaluations may name an app by its address.
func TestAppsByTheirAddress(t *testing.T) {
	s := gateway(t)
	ask := func(typ, id string) string {
		body := strings.Replace(question("ann", "APP", ""), `"type":"app","id":"APP"`, fmt.Sprintf(`"type":%q,"id":%q`, typ, id), 1)
		status, _, answer := s.ask("web", "POST", "/access/v1/evaluation", body)
		require.Equal(t, 200, status, answer)
		var d signon.Decision
		require.NoError(t, json.Unmarshal([]byte(answer), &d))
		return d.Outcome.String()
	}
	for range 3 { // as the shapes of requests are learned
		require.Equal(t, "grant", ask("url", "https://open.skerry.example/x?y"))
		require.Equal(t, "step-up", ask("url", "https://roster.skerry.example/%61dmin"))
		require.Equal(t, "block", ask("url", "https://open.skerry.example//x"))
		require.Equal(t, "block", ask("url", "https://elsewhere.example/x"))
		require.Equal(t, "grant", ask("app", "https://elsewhere.example/x"))
		require.Equal(t, "block", ask("app", "https://open.skerry.example/x"))
		require.Equal(t, "block", ask("url", "open"))
		require.Equal(t, "grant", ask("app", "open"))
	}
}
