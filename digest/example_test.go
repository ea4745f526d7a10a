package digest_test

import (
	"context"
	"fmt"
	"log"
	"strings"
	"testing/fstest"
	"time"

	"briskwarden.example/briskwarden"
	"briskwarden.example/briskwarden/digest"
	"briskwarden.example/briskwarden/replay"
)

func ExampleMake() {
	rules, err := briskwarden.OpenFS(fstest.MapFS{"rulebook.warden": {Data: []byte(`rulebook quay { timezone "UTC" }
user ann { methods password }
app news { }
app payroll { }
policy reading { who people to app news otherwise => step-up password }
`)}})
	if err != nil {
		log.Fatal(err)
	}
	signOns := `{"subject":{"id":"ann"},"resource":{"id":"news"},"context":{"time":"2026-11-18T09:00:00Z","outcome":"grant"}}
{"subject":{"id":"ann"},"resource":{"id":"payroll"},"context":{"time":"2026-11-19T09:00:00Z","outcome":"block"}}
`
	d, err := digest.Make(context.Background(), rules, []replay.Log{{Name: "november.jsonl", In: strings.NewReader(signOns)}},
		digest.Options{To: time.Date(2026, 11, 23, 7, 0, 0, 0, time.UTC)})
	if err != nil {
		log.Fatal(err)
	}
	fmt.Println(d.Headline())
	for _, s := range d.Sections() {
		fmt.Println(s.Title)
	}
	// Output:
	// 2 sign-ons, 1 not let in at once. To look at: 1 source gone quiet.
	// Gone quiet
	// Stopped by the policies as they are now: once, 0 before; the most by
	// Sign-ons: 2, 0 before
}
