// Package middleware has a web application ask the rulebook before it serves a request.
//
//	guard := middleware.New(rules, sessions, middleware.Options{App: "payroll"})
//	http.Handle("/payroll/", guard(payroll))
package middleware

import (
	"context"
	"log/slog"
	"net/http"
	"net/netip"

	"briskwarden.example/briskwarden/signon"
)

// Decider decides on sign-ons, as a [*briskwarden.Rulebook] and a [*briskwarden.Live] do,
// from many goroutines at once.
type Decider interface {
	Decide(ctx context.Context, s signon.SignOn) (signon.Decision, error)
}

// Sessions finds who is behind a request. It is called from many goroutines at once.
type Sessions interface {
	// SignOn gives the user of a request, with the session and what was proved in it, and what is
	// known of the device and the client. Found is false when nobody is signed on. Without an
	// address in it, the other end of the connection counts: behind a proxy, state the address that
	// the proxy vouches for.
	SignOn(r *http.Request) (s signon.SignOn, found bool, err error)
}

// Options say how requests are guarded.
type Options struct {
	App    string       // that requests are to, by its name in the rulebook; empty is the app that the session states
	Logger *slog.Logger // of requests that could not be judged; nil is slog.Default()
}

// New returns what wraps a handler so that it serves only what the rulebook grants. Nobody signed
// on is answered with 401 and a challenge of RFC 6750; what needs a stronger or fresher proof with
// 401 and the challenge of RFC 9470; what is blocked, waits for a review or could not be judged
// with 403. The body is the message for the person.
func New(rules Decider, sessions Sessions, o Options) func(http.Handler) http.Handler {
	g := &guard{rules, sessions, o}
	if o.Logger == nil {
		g.Logger = slog.Default()
	}
	return func(next http.Handler) http.Handler {
		return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			if g.admits(w, r) {
				next.ServeHTTP(w, r)
			}
		})
	}
}

type guard struct {
	rules    Decider
	sessions Sessions
	Options
}

// admits reports whether a request may be served; one that may not it answers.
func (g *guard) admits(w http.ResponseWriter, r *http.Request) bool {
	s, found, err := g.sessions.SignOn(r)
	if err == nil && !found {
		w.Header().Set("WWW-Authenticate", "Bearer")
		refuse(w, http.StatusUnauthorized, "Please sign on.")
		return false
	}
	var d signon.Decision
	if err == nil {
		if g.App != "" {
			s.App = g.App
		}
		if from, wrong := netip.ParseAddrPort(r.RemoteAddr); wrong == nil && !s.IP.IsValid() {
			s.IP = from.Addr().WithZone("")
		}
		d, err = g.rules.Decide(r.Context(), s)
	}
	switch {
	case err != nil:
		g.Logger.ErrorContext(r.Context(), "request refused: it cannot be judged", slog.Any("error", err))
		refuse(w, http.StatusForbidden, "The sign-on could not be judged.")
	case d.Outcome == signon.Grant:
		return true
	case d.Outcome == signon.StepUp:
		w.Header().Set("WWW-Authenticate", d.Challenge())
		refuse(w, http.StatusUnauthorized, d.Message)
	default:
		refuse(w, http.StatusForbidden, d.Message)
	}
	return false
}

func refuse(w http.ResponseWriter, status int, message string) {
	w.Header().Set("Cache-Control", "no-store")
	http.Error(w, message, status)
}
