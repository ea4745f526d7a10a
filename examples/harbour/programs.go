package main

// Programs that sign people on at the desk by OpenID Connect.

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"fmt"
	"net/http"
	"strings"
	"sync"

	"github.com/coreos/go-oidc/v3/oidc"
	"golang.org/x/oauth2"

	"briskwarden.example/briskwarden/examples/desk"
)

func newSecret() string {
	var b [32]byte
	_, _ = rand.Read(b[:]) // never fails
	return hex.EncodeToString(b[:])
}

// program is a client of the desk.
type program struct {
	h      *harbour
	client *desk.Client
	title  string
	url    string
	scopes []string

	mu       sync.Mutex
	begun    map[string]beginning // by state
	sessions map[string]*visitor  // by cookie
}

// beginning is what a program knows of a sign-on that it has begun.
type beginning struct{ verifier, nonce, browser string }

// visitor is somebody who has signed on to a program.
type visitor struct{ User, Session, Scope string }

const programCookie = "__Host-program"

// provider is the desk, as a library of OpenID Connect sees it.
func (p *program) provider(ctx context.Context) (*oidc.Provider, *oauth2.Config, error) {
	provider, err := oidc.NewProvider(ctx, p.h.desk.URL)
	if err != nil {
		return nil, nil, err
	}
	scopes := p.scopes
	if scopes == nil {
		scopes = []string{oidc.ScopeOpenID}
	}
	return provider, &oauth2.Config{ClientID: p.client.ID, Endpoint: provider.Endpoint(), RedirectURL: p.client.Redirects[0], Scopes: scopes}, nil
}

// reach has the libraries ask the desk at its own listener: not every resolver knows names under localhost.
func (p *program) reach(ctx context.Context) context.Context {
	return oidc.ClientContext(ctx, &http.Client{Transport: toFront{p.h}})
}

// toFront sends what is meant for the harbour's names to where they are.
type toFront struct{ h *harbour }

func (t toFront) RoundTrip(r *http.Request) (*http.Response, error) {
	c := r.Clone(r.Context())
	c.Host, c.URL.Host = r.URL.Host, t.h.listens["front"].Addr().String()
	return http.DefaultTransport.RoundTrip(c)
}

func (p *program) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	switch r.URL.Path {
	case "/":
		p.show(w, r)
	case "/sign-on":
		p.signOn(w, r)
	case "/back":
		p.back(w, r)
	default:
		http.NotFound(w, r)
	}
}

func (p *program) show(w http.ResponseWriter, r *http.Request) {
	var who *visitor
	if c, err := r.Cookie(programCookie); err == nil {
		p.mu.Lock()
		who = p.sessions[c.Value]
		p.mu.Unlock()
	}
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	_ = templates.ExecuteTemplate(w, "program", map[string]any{"Title": p.title, "Who": who, "Error": r.URL.Query().Get("error")})
}

// signOn leads to the desk.
func (p *program) signOn(w http.ResponseWriter, r *http.Request) {
	_, config, err := p.provider(p.reach(r.Context()))
	if err != nil {
		http.Error(w, "the desk does not answer", http.StatusBadGateway)
		return
	}
	if asked := r.URL.Query().Get("scope"); asked != "" {
		config.Scopes = strings.Fields(asked)
	}
	state, b := newSecret(), beginning{oauth2.GenerateVerifier(), newSecret(), newSecret()}
	p.mu.Lock()
	if p.begun == nil {
		p.begun, p.sessions = map[string]beginning{}, map[string]*visitor{}
	}
	p.begun[state] = b
	p.mu.Unlock()
	p.setCookie(w, b.browser)
	options := []oauth2.AuthCodeOption{oauth2.S256ChallengeOption(b.verifier), oidc.Nonce(b.nonce)}
	if prompt := r.URL.Query().Get("prompt"); prompt != "" {
		options = append(options, oauth2.SetAuthURLParam("prompt", prompt))
	}
	http.Redirect(w, r, config.AuthCodeURL(state, options...), http.StatusSeeOther)
}

func (p *program) setCookie(w http.ResponseWriter, value string) {
	http.SetCookie(w, &http.Cookie{Name: programCookie, Value: value, Path: "/", HttpOnly: true, Secure: true, SameSite: http.SameSiteLaxMode})
}

// back takes the desk's answer: only one that this browser has asked for, and that says that it is the desk's.
func (p *program) back(w http.ResponseWriter, r *http.Request) {
	q := r.URL.Query()
	p.mu.Lock()
	b, asked := p.begun[q.Get("state")]
	delete(p.begun, q.Get("state"))
	p.mu.Unlock()
	c, err := r.Cookie(programCookie)
	if !asked || err != nil || c.Value != b.browser || q.Get("iss") != p.h.desk.URL {
		http.Error(w, "nobody has asked for that", http.StatusForbidden)
		return
	}
	if q.Get("error") != "" {
		http.Redirect(w, r, "/?error="+q.Get("error"), http.StatusSeeOther)
		return
	}
	who, err := p.exchange(p.reach(r.Context()), q.Get("code"), b)
	if err != nil {
		http.Error(w, err.Error(), http.StatusForbidden)
		return
	}
	cookie := newSecret()
	p.mu.Lock()
	p.sessions[cookie] = who
	p.mu.Unlock()
	p.setCookie(w, cookie)
	http.Redirect(w, r, "/", http.StatusSeeOther)
}

// exchange changes a code into who somebody is.
func (p *program) exchange(ctx context.Context, code string, b beginning) (*visitor, error) {
	provider, config, err := p.provider(ctx)
	if err != nil {
		return nil, err
	}
	token, err := config.Exchange(ctx, code, oauth2.VerifierOption(b.verifier))
	if err != nil {
		return nil, err
	}
	raw, _ := token.Extra("id_token").(string)
	id, err := provider.Verifier(&oidc.Config{ClientID: p.client.ID, Now: p.h.now}).Verify(ctx, raw)
	if err != nil {
		return nil, err
	}
	var claims struct {
		Session string `json:"sid"`
	}
	if err := id.Claims(&claims); err != nil || id.Nonce != b.nonce {
		return nil, fmt.Errorf("the token answers another question")
	}
	scope, _ := token.Extra("scope").(string)
	return &visitor{id.Subject, claims.Session, scope}, nil
}

// signedOut takes the desk's word that a session has ended (OpenID Connect Back-Channel Logout 1.0).
func (h *harbour) signedOut(w http.ResponseWriter, r *http.Request) {
	for _, p := range []*program{h.planner, h.notes} {
		if p.client.ID != r.PathValue("client") {
			continue
		}
		session, err := p.loggedOut(p.reach(r.Context()), r.PostFormValue("logout_token"))
		if err != nil {
			http.Error(w, "no log-out token", http.StatusBadRequest)
			return
		}
		p.mu.Lock()
		for cookie, who := range p.sessions {
			if who.Session == session {
				delete(p.sessions, cookie)
			}
		}
		p.mu.Unlock()
	}
}

// loggedOut verifies a log-out token, and gives the session that has ended.
func (p *program) loggedOut(ctx context.Context, raw string) (session string, err error) {
	provider, _, err := p.provider(ctx)
	if err != nil {
		return "", err
	}
	token, err := provider.Verifier(&oidc.Config{ClientID: p.client.ID, Now: p.h.now}).Verify(ctx, raw)
	if err != nil {
		return "", err
	}
	var claims struct {
		Session string         `json:"sid"`
		Events  map[string]any `json:"events"`
		Nonce   string         `json:"nonce"`
	}
	if err := token.Claims(&claims); err != nil {
		return "", err
	}
	if _, is := claims.Events["http://schemas.openid.net/event/backchannel-logout"]; !is || claims.Nonce != "" || claims.Session == "" {
		return "", fmt.Errorf("it is no log-out token")
	}
	return claims.Session, nil
}
