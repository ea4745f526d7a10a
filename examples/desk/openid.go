package desk

// OpenID Connect: authorization code with PKCE (RFC 7636), client credentials (RFC 6749, 4.4), and signing out.

import (
	"context"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"briskwarden.example/briskwarden/signon"
)

// Certificate is the method of a machine that proves itself by one.
const Certificate = "certificate"

// Client is a program that signs people on here, or a machine.
type Client struct {
	ID        string
	Name      string
	App       string   // that its people sign on to
	Redirects []string // exactly
	Secret    string   // empty: it proves itself by PKCE alone
	Home      string   // where its people begin; may be empty
	Leave     []string // where they may be led after they have signed out, exactly (RP-Initiated Logout 1.0)
	SignedOut string   // where it is told that a session has ended (back-channel log-out); may be empty

	ThirdParty bool // what it asks for needs consent
	Publisher  string
	Verified   bool

	Machine     bool     // it signs on as itself, by a certificate
	Certificate [32]byte // the SHA-256 of it
	Audience    string   // of a machine's tokens
}

// openID has what the desk answers as an OpenID Provider.
func (d *Desk) openID(mux *http.ServeMux) {
	mux.HandleFunc("GET /.well-known/openid-configuration", d.configuration)
	mux.HandleFunc("GET /keys", d.keySet)
	mux.HandleFunc("GET /authorize", d.authorize)
	mux.HandleFunc("POST /authorize", d.authorize)
	mux.HandleFunc("POST /token", d.token)
	mux.HandleFunc("GET /userinfo", d.userInfo)
	mux.HandleFunc("POST /userinfo", d.userInfo)
}

func (d *Desk) configuration(w http.ResponseWriter, _ *http.Request) {
	at := func(path string) string { return d.URL + path }
	writeJSON(w, http.StatusOK, claims{
		"issuer": d.URL, "authorization_endpoint": at("/authorize"), "token_endpoint": at("/token"), "userinfo_endpoint": at("/userinfo"), "jwks_uri": at("/keys"),
		"end_session_endpoint": at("/sign-out"), "response_types_supported": []string{"code"}, "subject_types_supported": []string{"public"},
		"id_token_signing_alg_values_supported": []string{"RS256"}, "scopes_supported": []string{"openid"}, "code_challenge_methods_supported": []string{"S256"},
		"grant_types_supported": []string{"authorization_code", "client_credentials"}, "acr_values_supported": []string{"aal1", "aal2", "aal3"},
		"token_endpoint_auth_methods_supported": []string{"none", "client_secret_basic", "self_signed_tls_client_auth"},
		"response_modes_supported":              []string{"query"}, "request_uri_parameter_supported": false, "request_parameter_supported": false,
		"backchannel_logout_supported": true, "backchannel_logout_session_supported": true, "authorization_response_iss_parameter_supported": true,
	})
}

func writeJSON(w http.ResponseWriter, status int, v any) {
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(v) // whoever asked has gone, if it fails
}

// client finds a client by its id.
func (d *Desk) client(id string) *Client {
	for _, c := range d.Clients {
		if c.ID == id {
			return c
		}
	}
	return nil
}

// authorization is a client's request that somebody sign on.
type authorization struct {
	*Desk
	client    *Client
	redirect  string
	state     string
	nonce     string
	challenge string
	scopes    []string
	level     int // of assurance that is asked for, 1 to 3; 0 is any
}

func (a *authorization) question() (app, address string) { return a.client.App, "" }
func (a *authorization) onDevice() bool                  { return true }
func (a *authorization) name() string                    { return a.client.Name }
func (a *authorization) start() string                   { return a.client.Home }

// authorize takes a client's request. Before client and address are known to belong together, nobody is led anywhere.
func (d *Desk) authorize(w http.ResponseWriter, r *http.Request) {
	if err := r.ParseForm(); err != nil {
		d.show(w, http.StatusBadRequest, "over", page{Title: "There is nowhere to go", Text: "The request cannot be read."})
		return
	}
	q := r.Form // of the address, or of the form that is posted (OpenID Connect Core 1.0, 3.1.2.1)
	a := &authorization{Desk: d, client: d.client(one(q, "client_id")), redirect: one(q, "redirect_uri"), state: one(q, "state"), nonce: one(q, "nonce"),
		challenge: one(q, "code_challenge"), scopes: strings.Fields(one(q, "scope")), level: askedLevel(one(q, "acr_values"))}
	if a.client == nil || a.client.Machine || !slices.Contains(a.client.Redirects, a.redirect) {
		d.show(w, http.StatusBadRequest, "over", page{Title: "There is nowhere to go", Text: "The program that sent you here is not known, or asks to be answered elsewhere."})
		return
	}
	for _, name := range []string{"response_type", "state", "nonce", "scope", "code_challenge", "code_challenge_method", "prompt", "max_age", "request", "request_uri", "response_mode", "acr_values"} {
		if len(q[name]) > 1 {
			a.refuse(w, r, "invalid_request", name+" stands twice")
			return
		}
	}
	prompt, age := strings.Fields(one(q, "prompt")), one(q, "max_age")
	seconds, err := strconv.Atoi(age)
	limit := time.Duration(-1) // how long ago the last proof may be; negative is any time
	if age != "" {
		limit = time.Duration(seconds) * time.Second
	}
	switch {
	case q.Has("request") || q.Has("request_uri"):
		a.refuse(w, r, "request_not_supported", "")
	case one(q, "response_type") != "code":
		a.refuse(w, r, "unsupported_response_type", "")
	case !slices.Contains(a.scopes, "openid"):
		a.refuse(w, r, "invalid_scope", "openid is missing")
	case one(q, "code_challenge_method") != "S256" || len(a.challenge) != 43:
		a.refuse(w, r, "invalid_request", "PKCE by S256 is required")
	case age != "" && (err != nil || seconds < 0):
		a.refuse(w, r, "invalid_request", "max_age")
	case one(q, "response_mode") != "" && one(q, "response_mode") != "query":
		a.refuse(w, r, "invalid_request", "response_mode")
	case slices.ContainsFunc(prompt, func(p string) bool { return !slices.Contains([]string{"none", "login", "consent"}, p) }), slices.Contains(prompt, "none") && len(prompt) > 1:
		a.refuse(w, r, "invalid_request", "prompt")
	case slices.Contains(prompt, "none"):
		a.silently(w, r, limit)
	default:
		b, done := d.lockedBrowser(w, r)
		proved := b.proved
		done()
		d.begin(w, r, a, slices.Contains(prompt, "login") || limit >= 0 && d.Now().Sub(proved) > limit)
	}
}

// one is a parameter; twice is as if it were something else.
func one(q url.Values, name string) string {
	if len(q[name]) == 1 {
		return q[name][0]
	}
	return ""
}

// refuse leads back to the client with an error.
func (a *authorization) refuse(w http.ResponseWriter, r *http.Request, code, why string) {
	a.answer(w, r, url.Values{"error": {code}, "error_description": {why}})
}

// answer leads back to the client, and says who answers (RFC 9207).
func (a *authorization) answer(w http.ResponseWriter, r *http.Request, values url.Values) {
	at, err := url.Parse(a.redirect)
	if err != nil { // it is one of the client's own
		http.Error(w, "no address", http.StatusInternalServerError)
		return
	}
	q := at.Query()
	for name := range values {
		if values.Get(name) != "" {
			q.Set(name, values.Get(name))
		}
	}
	q.Set("iss", a.URL)
	if a.state != "" {
		q.Set("state", a.state)
	}
	at.RawQuery = q.Encode()
	http.Redirect(w, r, at.String(), http.StatusSeeOther)
}

// silently answers without showing anything: with a code, or with why there would be something to show.
func (a *authorization) silently(w http.ResponseWriter, r *http.Request, limit time.Duration) {
	b, done := a.lockedBrowser(w, r)
	defer done()
	if b.user == "" || limit >= 0 && a.Now().Sub(b.proved) > limit {
		a.refuse(w, r, "login_required", "")
		return
	}
	f := &flow{id: randomID(), browser: b.id, to: a, begun: a.Now(), attempt: attempt{user: b.user}}
	d, err := a.decide(r, f, b, plainSignOn)
	switch {
	case err != nil || d.Outcome == signon.Block:
		a.refuse(w, r, "access_denied", "")
	case d.Outcome != signon.Grant:
		a.refuse(w, r, "interaction_required", "")
	case a.client.ThirdParty:
		a.refuse(w, r, "consent_required", "")
	default:
		a.finish(w, r, f, b, d)
	}
}

// grant is what a code stands for. It counts once, for a minute.
type grant struct {
	*authorization
	user    string
	session string
	proved  []string
	level   int // of assurance
	at      time.Time
	made    time.Time
	scopes  []string
}

const codesFor = time.Minute

// finish gives the client a code, after it was allowed what it asks for.
func (a *authorization) finish(w http.ResponseWriter, r *http.Request, f *flow, b *browser, d signon.Decision) {
	if a.client.ThirdParty && !a.consented(w, r, f, b) {
		return
	}
	g := &grant{a, b.user, b.session, f.proved, levelOf(f.counted(b)), b.proved, a.Now(), a.scopes}
	code := randomID()
	a.mu.Lock()
	for old, g := range a.codes {
		if a.Now().Sub(g.made) > codesFor {
			delete(a.codes, old)
		}
	}
	a.codes[code] = g
	if !slices.Contains(a.signedIn[b.session], a.client) {
		a.signedIn[b.session] = append(a.signedIn[b.session], a.client)
	}
	a.mu.Unlock()
	f.drop()
	a.answer(w, r, url.Values{"code": {code}})
}

// tokenError is an error of RFC 6749, 5.2.
func tokenError(w http.ResponseWriter, status int, code string) {
	if status == http.StatusUnauthorized {
		w.Header().Set("WWW-Authenticate", `Basic realm="desk"`)
	}
	writeJSON(w, status, map[string]string{"error": code})
}

// token changes a code into tokens, or a machine's certificate into one.
func (d *Desk) token(w http.ResponseWriter, r *http.Request) {
	if err := r.ParseForm(); err != nil {
		tokenError(w, http.StatusBadRequest, "invalid_request")
		return
	}
	switch one(r.PostForm, "grant_type") {
	case "":
		tokenError(w, http.StatusBadRequest, "invalid_request")
	case "authorization_code":
		d.exchange(w, r)
	case "client_credentials":
		d.machine(w, r)
	default:
		tokenError(w, http.StatusBadRequest, "unsupported_grant_type")
	}
}

// asking is the client of a request to the token endpoint, if it proves itself.
func (d *Desk) asking(r *http.Request) *Client {
	id, secret, basic := r.BasicAuth()
	if !basic {
		id = one(r.PostForm, "client_id")
	}
	c := d.client(id)
	if c == nil || subtle.ConstantTimeCompare([]byte(secret), []byte(c.Secret)) != 1 {
		return nil
	}
	return c
}

// exchange gives the tokens that a code stands for: to the client that it was given to, who knows what it was asked by.
func (d *Desk) exchange(w http.ResponseWriter, r *http.Request) {
	c := d.asking(r)
	if c == nil || c.Machine {
		tokenError(w, http.StatusUnauthorized, "invalid_client")
		return
	}
	code := one(r.PostForm, "code")
	d.mu.Lock()
	g := d.codes[code]
	delete(d.codes, code)
	d.mu.Unlock()
	sum := sha256.Sum256([]byte(one(r.PostForm, "code_verifier")))
	if g == nil || g.client != c || g.redirect != one(r.PostForm, "redirect_uri") || d.Now().Sub(g.made) > codesFor ||
		subtle.ConstantTimeCompare([]byte(base64.RawURLEncoding.EncodeToString(sum[:])), []byte(g.challenge)) != 1 {
		tokenError(w, http.StatusBadRequest, "invalid_grant")
		return
	}
	identity := claims{"iss": d.URL, "aud": c.ID, "sub": g.user, "sid": g.session, "iat": d.Now().Unix(), "exp": d.Now().Add(10 * time.Minute).Unix(), "auth_time": numericDate(g.at)}
	if amr := amrOf(g.proved); len(amr) > 0 {
		identity["amr"] = amr
	}
	if g.level > 0 {
		identity["acr"] = "aal" + strconv.Itoa(g.level)
	}
	if g.nonce != "" {
		identity["nonce"] = g.nonce
	}
	id, err := d.keys.sign("JWT", identity)
	access, failed := d.keys.sign("at+jwt", claims{"iss": d.URL, "aud": d.URL, "sub": g.user, "sid": g.session, "client_id": c.ID, "scope": strings.Join(g.scopes, " "),
		"jti": randomID(), "iat": d.Now().Unix(), "exp": d.Now().Add(10 * time.Minute).Unix()})
	if err != nil || failed != nil {
		tokenError(w, http.StatusInternalServerError, "server_error")
		return
	}
	writeJSON(w, http.StatusOK, claims{"access_token": access, "token_type": "Bearer", "expires_in": 600, "id_token": id, "scope": strings.Join(g.scopes, " ")})
}

// machine signs a machine on by its certificate, and gives it a token for gateways.
func (d *Desk) machine(w http.ResponseWriter, r *http.Request) {
	c := d.client(one(r.PostForm, "client_id"))
	if c == nil || !c.Machine || r.TLS == nil || len(r.TLS.PeerCertificates) == 0 || sha256.Sum256(r.TLS.PeerCertificates[0].Raw) != c.Certificate ||
		d.Now().Before(r.TLS.PeerCertificates[0].NotBefore) || d.Now().After(r.TLS.PeerCertificates[0].NotAfter) {
		tokenError(w, http.StatusUnauthorized, "invalid_client")
		return
	}
	from, _ := d.Circumstances(r)
	session := randomID()[:32]
	decision, err := d.Decisions.Decide(r.Context(), signon.SignOn{User: c.ID, App: c.App, IP: from, Client: "unattended", Presented: []string{Certificate}, Session: signon.Session{ID: session}}, "")
	switch {
	case err != nil:
		tokenError(w, http.StatusServiceUnavailable, "temporarily_unavailable")
		return
	case decision.Outcome != signon.Grant: // nobody is there who could prove more
		tokenError(w, http.StatusBadRequest, "invalid_grant")
		return
	}
	now := d.Now()
	token, err := d.keys.sign("at+jwt", claims{"iss": d.URL, "aud": c.Audience, "sub": c.ID, "sid": session, "client_id": c.ID, "jti": randomID(), "iat": now.Unix(),
		"exp": now.Add(time.Hour).Unix(), "auth_time": numericDate(now), "amr": amrOf([]string{Certificate})})
	if err != nil {
		tokenError(w, http.StatusInternalServerError, "server_error")
		return
	}
	writeJSON(w, http.StatusOK, claims{"access_token": token, "token_type": "Bearer", "expires_in": 3600})
}

// userInfo tells a client about the person, as far as its scopes go.
func (d *Desk) userInfo(w http.ResponseWriter, r *http.Request) {
	scheme, token, _ := strings.Cut(r.Header.Get("Authorization"), " ")
	if !strings.EqualFold(scheme, "Bearer") {
		w.Header().Set("WWW-Authenticate", "Bearer")
		writeJSON(w, http.StatusUnauthorized, map[string]string{"error": "invalid_request"})
		return
	}
	c, err := d.keys.verify(token, "at+jwt", d.URL, d.URL, d.Now())
	if session, _ := c["sid"].(string); err != nil || d.isOver(session) {
		w.Header().Set("WWW-Authenticate", `Bearer error="invalid_token"`)
		writeJSON(w, http.StatusUnauthorized, map[string]string{"error": "invalid_token"})
		return
	}
	writeJSON(w, http.StatusOK, claims{"sub": c["sub"], "scope": c["scope"]})
}

// tellSignOut tells a client that a session has ended (OpenID Connect Back-Channel Logout 1.0).
func (d *Desk) tellSignOut(ctx context.Context, c *Client, user, session string) error {
	if c.SignedOut == "" {
		return nil
	}
	token, err := d.keys.sign("logout+jwt", claims{"iss": d.URL, "aud": c.ID, "sub": user, "sid": session, "jti": randomID(), "iat": d.Now().Unix(),
		"exp": d.Now().Add(2 * time.Minute).Unix(), "events": claims{"http://schemas.openid.net/event/backchannel-logout": claims{}}})
	if err != nil {
		return err
	}
	r, err := http.NewRequestWithContext(ctx, http.MethodPost, c.SignedOut, strings.NewReader(url.Values{"logout_token": {token}}.Encode()))
	if err != nil {
		return err
	}
	r.Header.Set("Content-Type", "application/x-www-form-urlencoded")
	answer, err := http.DefaultClient.Do(r)
	if err != nil {
		return err
	}
	defer answer.Body.Close()
	if answer.StatusCode >= 300 {
		return fmt.Errorf("it answers %s", answer.Status)
	}
	return nil
}
