package briskwarden_test

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"testing/fstest"
	"time"

	"briskwarden.example/briskwarden"
	"briskwarden.example/briskwarden/signon"
)

var exampleRules = fstest.MapFS{"rulebook.warden": {Data: []byte(`
rulebook quay { timezone "Europe/Oslo" }
user mira.holt { groups crew  methods password, passkey }
app crew-roster { }
network terminals { 192.0.2.0/25 }
policy roster {
  who group crew
  to  app crew-roster
  case "at a terminal" when network in terminals => step-up password
  otherwise => step-up passkey every 12h
}
`)}}

func ExampleOpenFS() {
	rules, err := briskwarden.OpenFS(exampleRules)
	if err != nil {
		fmt.Println(err)
		return
	}
	d, err := rules.Decide(context.Background(), signon.SignOn{User: "mira.holt", App: "crew-roster", IP: netip.MustParseAddr("198.51.100.7")})
	fmt.Println(d.Outcome, d.Next[0].Do, d.Next[0].AnyOf, err)
	// Output: step-up verify [[passkey]] <nil>
}

func ExampleOpenFS_errors() {
	_, err := briskwarden.OpenFS(fstest.MapFS{"rulebook.warden": {Data: []byte("rulebook quay { unmatched maybe }\nfloor aal1")}})
	var check *briskwarden.CheckError
	if errors.As(err, &check) {
		for _, p := range check.Problems {
			fmt.Println(p)
		}
	}
	// Output:
	// rulebook.warden:1:27: expected "block" or "grant", found "maybe"
	// rulebook.warden:2:1: expected a declaration, found "floor"
}

func ExampleRulebook_Explain() {
	rules, err := briskwarden.OpenFS(exampleRules)
	if err != nil {
		fmt.Println(err)
		return
	}
	at := time.Date(2026, 11, 23, 8, 15, 0, 0, time.UTC)
	d, err := rules.Explain(context.Background(), signon.SignOn{User: "mira.holt", App: "crew-roster", Time: at, Presented: []string{"passkey"}})
	if err != nil {
		fmt.Println(err)
		return
	}
	fmt.Println(d.Outcome)
	for _, e := range d.Explanation.Policies {
		fmt.Printf("%s %q at %s, sure %t: %s\n", e.Policy, e.Case, e.At, e.Sure, e.Why)
	}
	// Output:
	// step-up
	// roster "at a terminal" at rulebook.warden:9, sure false: network is unknown: the sign-on has no address
	// roster "otherwise" at rulebook.warden:10, sure true: no case before it is sure
}
