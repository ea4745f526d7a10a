// Command gateway shows a web application that asks the rulebook before it serves. What needs a
// stronger proof is answered with a step-up challenge of RFC 9470, what is blocked with 403.
package main

import (
	"context"
	"errors"
	"fmt"
	"log"
	"net"
	"net/http"
	"strings"
	"testing/fstest"
	"time"

	"briskwarden.example/briskwarden"
	"briskwarden.example/briskwarden/middleware"
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

// tokens stands in for a store of sessions: by bearer token.
type tokens map[string]signon.SignOn

// SignOn finds the session of the request's bearer token.
func (t tokens) SignOn(r *http.Request) (signon.SignOn, bool, error) {
	token, _ := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer ")
	s, found := t[token]
	return s, found, nil
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
	guard := middleware.New(rules, sessions, middleware.Options{App: "payroll"})
	server := &http.Server{Handler: guard(payroll), ReadHeaderTimeout: 5 * time.Second}
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
