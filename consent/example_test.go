package consent_test

import (
	"context"
	"fmt"
	"testing/fstest"

	"briskwarden.example/briskwarden"
	"briskwarden.example/briskwarden/consent"
	"briskwarden.example/briskwarden/signon"
)

func Example() {
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
	store := consent.NewMemory()
	ledger := consent.New(store, rules)
	ask := func(scopes ...string) {
		a, err := ledger.Ask(context.Background(), signon.SignOn{User: "mira.holt", App: "crew-roster", Consent: &signon.Consent{Client: "tidy-notes", Scopes: scopes}})
		if err != nil {
			fmt.Println(err)
			return
		}
		fmt.Println(a.Outcome, "held:", len(a.Held), "asked about:", a.New)
	}
	ask("openid")
	ask("openid", "roster.read")
	settled, err := ledger.Settle(context.Background(), 2, consent.Settlement{Grant: true, By: "embla.haug", Because: "Notes need the roster"})
	if err != nil {
		fmt.Println(err)
		return
	}
	fmt.Println(settled.ID, settled.State, settled.Granted)
	ask("openid", "roster.read")
	verified, err := consent.Verify(context.Background(), store)
	fmt.Println(verified.Entries, "entries,", err)
	// Output:
	// grant held: 0 asked about: [openid]
	// review held: 1 asked about: [roster.read]
	// c-2 granted [roster.read]
	// grant held: 2 asked about: []
	// 3 entries, <nil>
}
