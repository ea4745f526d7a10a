package sqlite_test

import (
	"context"
	"fmt"
	"log"
	"os"
	"path/filepath"
	"testing/fstest"

	"briskwarden.example/briskwarden"
	"briskwarden.example/briskwarden/consent"
	"briskwarden.example/briskwarden/signon"
	"briskwarden.example/briskwarden/store/sqlite"
)

func Example() {
	dir, err := os.MkdirTemp("", "")
	if err != nil {
		log.Fatal(err)
	}
	defer os.RemoveAll(dir)
	store, err := sqlite.Open(filepath.Join(dir, "clients.ledger"))
	if err != nil {
		log.Fatal(err)
	}
	defer store.Close()
	rules, err := briskwarden.OpenFS(fstest.MapFS{"rulebook.warden": {Data: []byte("rulebook quay { floor none }\nuser ann { }\napp news { }\n" +
		"policy consents { who everyone to everything doing consent otherwise => grant }\n")}})
	if err != nil {
		log.Fatal(err)
	}
	ledger := consent.New(store, rules)
	answer, err := ledger.Ask(context.Background(), signon.SignOn{User: "ann", App: "news", Consent: &signon.Consent{Client: "notes", Scopes: []string{"openid"}}})
	if err != nil {
		log.Fatal(err)
	}
	fmt.Println(answer.Outcome, answer.Consent.ID)
	// Output: grant c-1
}
