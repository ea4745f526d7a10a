// Command embedded shows a program that decides by a rulebook which it holds in memory, and
// looks its people up in a directory of its own.
package main

import (
	"context"
	"fmt"
	"log"
	"net/netip"
	"strings"
	"testing/fstest"
	"time"

	"briskwarden.example/briskwarden"
	"briskwarden.example/briskwarden/signon"
)

const policies = `
rulebook quay {
  timezone "Europe/Oslo"
}

app tide-tables { about "When the water comes" }
network harbour { 192.0.2.0/24  2001:db8:40::/48 }

policy tides {
  who group pilots
  to  app tide-tables
  case "in the harbour" when network in harbour => step-up password every session
  otherwise => step-up passkey or password and app-code
  session lasts 10h
}
`

// staff is the program's own directory.
type staff map[string]briskwarden.Person

// Person finds a user by id.
func (s staff) Person(_ context.Context, id string) (briskwarden.Person, bool, error) {
	p, found := s[id]
	return p, found, nil
}

func main() {
	people := staff{
		"tove.lind": {Groups: []string{"pilots"}, Methods: []string{"password", "app-code"}},
		"jan.mork":  {Groups: []string{"pilots"}, Methods: []string{"password"}, Disabled: true},
	}
	rules, err := briskwarden.OpenFS(fstest.MapFS{"rulebook.warden": {Data: []byte(policies)}}, briskwarden.WithPeople(people))
	if err != nil {
		log.Fatal(err)
	}
	at := time.Date(2026, 11, 23, 8, 15, 0, 0, time.UTC)
	for _, s := range []signon.SignOn{
		{User: "tove.lind", App: "tide-tables", Time: at, IP: netip.MustParseAddr("192.0.2.14"), Presented: []string{"password"}},
		{User: "tove.lind", App: "tide-tables", Time: at, IP: netip.MustParseAddr("203.0.113.5"), Presented: []string{"password"}},
		{User: "tove.lind", App: "tide-tables", Time: at},
		{User: "jan.mork", App: "tide-tables", Time: at},
	} {
		d, err := rules.Decide(context.Background(), s)
		if err != nil {
			log.Fatal(err)
		}
		fmt.Printf("%s: %s%s\n", s.User, d.Outcome, next(d))
	}
}

// next tells what the person can do.
func next(d signon.Decision) string {
	var text strings.Builder
	for _, step := range d.Next {
		fmt.Fprintf(&text, ", %s", step.Do)
		for i, set := range step.AnyOf {
			text.WriteString(map[bool]string{true: " ", false: " or "}[i == 0] + strings.Join(set, " and "))
		}
	}
	return text.String()
}
