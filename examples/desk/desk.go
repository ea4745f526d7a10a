// Package desk is a small simulated sign-on desk: an OpenID Provider for made-up people, which asks the decision service
// before it lets anybody in, and does at each step what the decision says is next. It stands in for a real one.
//
// It signs people on for web gateways (/sign-on, a token for each site in a cookie of its own), for programs (OpenID Connect, authorization code
// with PKCE), and for machines (client credentials with a certificate).
package desk

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"fmt"
	"log/slog"
	"net/http"
	"net/netip"
	"net/url"
	"sync"
	"time"

	"github.com/go-webauthn/webauthn/webauthn"

	"briskwarden.example/briskwarden/examples/desk/decisions"
	"briskwarden.example/briskwarden/examples/desk/vault"
	"briskwarden.example/briskwarden/signon"
)

// Options say how a desk is set up.
type Options struct {
	URL       string          // its own, which is the "iss" of its tokens
	Cookie    string          // the name of the sites' cookies with their tokens; it begins with "__Host-"
	Sites     map[string]Site // by origin; people are led back to these alone
	Decisions *decisions.Service
	Vault     *vault.Vault
	Clients   []*Client
	Scopes    []ScopeSet
	Now       func() time.Time
	Zone      *time.Location // of the times on pages
	Log       *slog.Logger
	// Circumstances tell from where, and on which managed device, a request comes.
	Circumstances func(*http.Request) (netip.Addr, *signon.Device)
	Contact       string // whom people call
}

// ScopeSet says of scopes what they give, and how much that weighs, 0 to 100.
type ScopeSet struct {
	Title  string
	Lets   string // what it lets a client do: "read who sails when, and change it"
	Weight int
	Scopes []string // a final "*" stands for any ending
}

// Desk is the sign-on desk. It is an [http.Handler].
type Desk struct {
	Options
	keys     *signer
	webauthn *webauthn.WebAuthn
	routes   http.Handler

	mu        sync.Mutex
	browsers  map[string]*browser // by the cookie's value
	flows     map[string]*flow
	codes     map[string]*grant
	siteCodes map[string]*siteGrant
	devices   map[string]map[string]time.Time // by id and person: since when it is remembered
	ended     map[string]time.Time            // by session: when it was, of those whose tokens may still be around
	signedIn  map[string][]*Client            // by session: the clients that have a token of it
}

// New returns a desk.
func New(o Options) (*Desk, error) {
	at, err := url.Parse(o.URL)
	if err != nil {
		return nil, err
	}
	keys, err := newSigner()
	if err != nil {
		return nil, err
	}
	wa, err := webauthn.New(&webauthn.Config{RPID: at.Hostname(), RPDisplayName: "Skerry Line", RPOrigins: []string{o.URL}})
	if err != nil {
		return nil, fmt.Errorf("passkeys: %w", err)
	}
	d := &Desk{Options: o, keys: keys, webauthn: wa, browsers: map[string]*browser{}, flows: map[string]*flow{}, codes: map[string]*grant{}, siteCodes: map[string]*siteGrant{}, devices: map[string]map[string]time.Time{}, ended: map[string]time.Time{}, signedIn: map[string][]*Client{}}
	mux := http.NewServeMux()
	d.pages(mux)
	d.openID(mux)
	apart := http.NewCrossOriginProtection() // whoever posts from another site is refused, but for what clients ask
	for _, open := range []string{"POST /authorize", "POST /userinfo", "POST /token"} {
		apart.AddInsecureBypassPattern(open)
	}
	d.routes = apart.Handler(mux)
	return d, nil
}

// ServeHTTP answers a request. Nothing of the desk is kept by caches, shown in frames, or tells others where it was.
func (d *Desk) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	h := w.Header()
	h.Set("Cache-Control", "no-store")
	h.Set("X-Content-Type-Options", "nosniff")
	h.Set("Referrer-Policy", "no-referrer")
	h.Set("Content-Security-Policy", "default-src 'none'; style-src 'self'; img-src 'self'; script-src 'self'; connect-src 'self'; base-uri 'none'; frame-ancestors 'none'")
	r.Body = http.MaxBytesReader(w, r.Body, 64<<10)
	d.routes.ServeHTTP(w, r)
}

// browser is what the desk knows of one browser, by a cookie whose value nobody can guess.
type browser struct {
	busy     sync.Mutex
	id       string
	user     string // signed on; empty is nobody
	session  string
	signedOn time.Time
	from     netip.Addr  // from where
	proved   time.Time   // the last time that somebody proved something in it
	shown    []string    // what was proved in the session
	returns  []time.Time // when it was led back to a site lately
	device   string      // its id, if somebody wanted it to be remembered
}

const (
	browserCookie = "__Host-desk"
	deviceCookie  = "__Host-desk-device"
)

// randomID is 256 bits that nobody can guess.
func randomID() string {
	var b [32]byte
	_, _ = rand.Read(b[:]) // never fails
	return hex.EncodeToString(b[:])
}

// browserOf finds the browser of a request, or begins to know it.
func (d *Desk) browserOf(w http.ResponseWriter, r *http.Request) *browser {
	d.mu.Lock()
	defer d.mu.Unlock()
	if c, err := r.Cookie(browserCookie); err == nil && d.browsers[c.Value] != nil {
		return d.browsers[c.Value]
	}
	b := &browser{}
	if c, err := r.Cookie(deviceCookie); err == nil && d.devices[c.Value] != nil {
		b.device = c.Value
	}
	d.renew(w, b)
	return b
}

// renew gives a browser another cookie: whoever knew the old one knows nothing of who signs on now. The lock is held.
func (d *Desk) renew(w http.ResponseWriter, b *browser) {
	delete(d.browsers, b.id)
	b.id = randomID()
	d.browsers[b.id] = b
	http.SetCookie(w, &http.Cookie{Name: browserCookie, Value: b.id, Path: "/", HttpOnly: true, Secure: true, SameSite: http.SameSiteLaxMode})
}

// lockedBrowser is the browser of a request, which does one thing at a time. While it was waited for, it may have got another
// cookie: whoever has only the old one is then somebody else.
func (d *Desk) lockedBrowser(w http.ResponseWriter, r *http.Request) (b *browser, done func()) {
	for {
		b := d.browserOf(w, r)
		sent := b.id
		if c, err := r.Cookie(browserCookie); err == nil && d.knows(c.Value, b) {
			sent = c.Value
		}
		b.busy.Lock()
		if d.knows(sent, b) {
			return b, b.busy.Unlock
		}
		b.busy.Unlock()
	}
}

// knows reports whether a cookie is that of a browser.
func (d *Desk) knows(cookie string, b *browser) bool {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.browsers[cookie] == b
}

// signOn notes who a browser is, in a session of its own. Whoever was signed on in it before is signed out.
func (d *Desk) signOn(w http.ResponseWriter, b *browser, t vault.Try) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.renew(w, b)
	if b.user == t.User {
		return
	}
	d.end(b)
	b.user, b.session, b.signedOn, b.from = t.User, randomID()[:32], d.Now(), t.From
}

// signOut ends the session of a browser everywhere. It reports whether the service knows of it already.
func (d *Desk) signOut(ctx context.Context, w http.ResponseWriter, b *browser) (known bool) {
	d.mu.Lock()
	ended := d.end(b)
	d.renew(w, b)
	d.mu.Unlock()
	if ended == nil {
		return true
	}
	select {
	case <-ended:
		return true
	case <-time.After(answerTime):
	case <-ctx.Done():
	}
	return false
}
