package signon_test

import (
	"fmt"

	"briskwarden.example/briskwarden/signon"
)

func ExampleDecode() {
	s, err := signon.Decode([]byte(`{"subject":{"id":"mira.holt"},"resource":{"id":"crew-roster"},"context":{"country":"NO"}}`))
	fmt.Println(s.User, s.App, s.Country, err)
	_, err = signon.Decode([]byte(`{"subject":{"id":"mira.holt"},"resource":{"id":"crew-roster"},"context":{"country":"no"}}`))
	fmt.Println(err)
	// Output:
	// mira.holt crew-roster NO <nil>
	// context.country: "no" is no country: ISO 3166-1 alpha-2 in capitals, such as NO
}

func ExampleSignOn_Validate() {
	s := signon.SignOn{User: "mira.holt", App: "crew-roster", Client: "Browser"}
	fmt.Println(s.Validate())
	// Output:
	// context.client: "Browser" is no client: browser, native, legacy or unattended
}
