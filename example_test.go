package briskwarden_test

import (
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
	d, err := rules.Decide(signon.SignOn{User: "mira.holt", App: "crew-roster", IP: netip.MustParseAddr("198.51.100.7")})
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
	d, err := rules.Explain(signon.SignOn{User: "mira.holt", App: "crew-roster", Time: at, Presented: []string{"passkey"}})
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

func ExampleRulebook_Ledger() {
	rules, err := briskwarden.OpenFS(fstest.MapFS{"rulebook.warden": {Data: []byte(`
rulebook quay { floor none }
user mira.holt { }
user embla.haug { groups reviewers }
group reviewers { }
app crew-roster { }
scopes sign-in weight 0 { openid }
policy client-consent {
  who   everyone
  to    everything
  doing consent
  case "harmless" when scopes within sign-in => grant
  otherwise => review by group reviewers
}
`)}})
	if err != nil {
		fmt.Println(err)
		return
	}
	store := briskwarden.NewConsentMemory()
	ledger := rules.Ledger(store)
	ask := func(scopes ...string) {
		a, err := ledger.Ask(signon.SignOn{User: "mira.holt", App: "crew-roster", Consent: &signon.Consent{Client: "tidy-notes", Scopes: scopes}})
		if err != nil {
			fmt.Println(err)
			return
		}
		fmt.Println(a.Outcome, "held:", len(a.Held), "asked about:", a.New)
	}
	ask("openid")
	ask("openid", "roster.read")
	settled, err := ledger.Settle(2, briskwarden.Settlement{Grant: true, By: "embla.haug", Because: "Notes need the roster"})
	if err != nil {
		fmt.Println(err)
		return
	}
	fmt.Println(settled.ID, settled.State, settled.Granted)
	ask("openid", "roster.read")
	entries, _, err := briskwarden.VerifyJournal(store)
	fmt.Println(entries, "entries,", err)
	// Output:
	// grant held: 0 asked about: [openid]
	// review held: 1 asked about: [roster.read]
	// c-2 granted [roster.read]
	// grant held: 2 asked about: []
	// 3 entries, <nil>
}
