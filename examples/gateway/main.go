// Command gateway shows an [http.Handler] that asks the rulebook before it serves. What needs
// a stronger proof is answered with a step-up challenge of RFC 9470, what is blocked with 403.
package main

import (
	"context"
	"errors"
	"fmt"
	"log"
	"net"
	"net/http"
	"net/netip"
	"strings"
	"testing/fstest"
	"time"

	"briskwarden.example/briskwarden"
	"briskwarden.example/briskwarden/signon"
)

const policies = `
rulebook gateway { }

user mira.holt { methods password, passkey }
user odd.kvale { methods password }
app payroll { tags money }

policy money {
  who people
  to  tag money
  otherwise => step-up password every session and passkey every 15m on any device
}
`

// Sessions finds who is behind a request, in which session, and what was proved in it.
type Sessions interface {
	SignOn(r *http.Request) (s signon.SignOn, found bool)
}

// Guard asks the rulebook about every request to an app before next serves it.
func Guard(rules *briskwarden.Rulebook, sessions Sessions, app string, next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		s, found := sessions.SignOn(r)
		if !found {
			w.Header().Set("WWW-Authenticate", `Bearer`)
			http.Error(w, "Please sign on.", http.StatusUnauthorized)
			return
		}
		s.App = app
		if from, err := netip.ParseAddrPort(r.RemoteAddr); err == nil {
			s.IP = from.Addr()
		}
		d, err := rules.Decide(s)
		switch {
		case err != nil:
			log.Print(err)
			http.Error(w, "The sign-on could not be judged.", http.StatusForbidden)
		case d.Outcome == signon.Grant:
			next.ServeHTTP(w, r)
		case d.Outcome == signon.StepUp:
			w.Header().Set("WWW-Authenticate", challenge(d))
			http.Error(w, d.Message, http.StatusUnauthorized)
		default:
			http.Error(w, d.Message, http.StatusForbidden)
		}
	})
}

// challenge is the header of RFC 9470, section 3.
func challenge(d signon.Decision) string {
	parts := []string{`Bearer error="insufficient_user_authentication"`, `error_description="a stronger or fresher proof is needed"`}
	if d.ACR != "" {
		parts = append(parts, fmt.Sprintf("acr_values=%q", d.ACR))
	}
	if d.MaxAge != signon.NoMaxAge {
		parts = append(parts, fmt.Sprintf("max_age=\"%d\"", d.MaxAge))
	}
	return strings.Join(parts, ", ")
}

// tokens stands in for a store of sessions: by bearer token.
type tokens map[string]signon.SignOn

// SignOn finds the session of the request's bearer token.
func (t tokens) SignOn(r *http.Request) (signon.SignOn, bool) {
	token, _ := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer ")
	s, found := t[token]
	return s, found
}

func main() {
	rules, err := briskwarden.OpenFS(fstest.MapFS{"rulebook.warden": {Data: []byte(policies)}})
	if err != nil {
		log.Fatal(err)
	}
	now := time.Now()
	session := signon.Session{ID: "s-1", Started: now.Add(-time.Hour)}
	password := signon.Evidence{Method: "password", Time: now.Add(-time.Hour), Session: "s-1"}
	passkey := signon.Evidence{Method: "passkey", Time: now.Add(-5 * time.Minute), Session: "s-1"}
	sessions := tokens{
		"mira-fresh": {User: "mira.holt", Session: session, Evidence: []signon.Evidence{password, passkey}},
		"mira-stale": {User: "mira.holt", Session: session, Evidence: []signon.Evidence{password}},
		"odd":        {User: "odd.kvale", Session: session, Evidence: []signon.Evidence{password}},
	}
	payroll := http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { fmt.Fprintln(w, "This month's salaries.") })

	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		log.Fatal(err)
	}
	server := &http.Server{Handler: Guard(rules, sessions, "payroll", payroll), ReadHeaderTimeout: 5 * time.Second}
	go func() {
		if err := server.Serve(listener); !errors.Is(err, http.ErrServerClosed) {
			log.Print(err)
		}
	}()
	for _, token := range []string{"", "mira-fresh", "mira-stale", "odd"} {
		if err := visit("http://"+listener.Addr().String(), token); err != nil {
			log.Fatal(err)
		}
	}
	if err := server.Shutdown(context.Background()); err != nil {
		log.Fatal(err)
	}
}

// visit asks for the page as the owner of a token, and prints the answer.
func visit(url, token string) error {
	r, err := http.NewRequest(http.MethodGet, url, nil)
	if err != nil {
		return err
	}
	if token != "" {
		r.Header.Set("Authorization", "Bearer "+token)
	}
	answer, err := http.DefaultClient.Do(r)
	if err != nil {
		return err
	}
	defer answer.Body.Close()
	if token == "" {
		token = "(nobody)"
	}
	line := fmt.Sprintf("%-10s  %d  %s", token, answer.StatusCode, answer.Header.Get("WWW-Authenticate"))
	fmt.Println(strings.TrimRight(line, " "))
	return nil
}
