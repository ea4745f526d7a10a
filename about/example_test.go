package about_test

import (
	"context"
	"fmt"
	"log"

	"briskwarden.example/briskwarden"
	"briskwarden.example/briskwarden/about"
	"briskwarden.example/briskwarden/demo"
)

func ExampleFind() {
	rules, err := briskwarden.OpenFS(demo.SkerryLine())
	if err != nil {
		log.Fatal(err)
	}
	network, err := about.Find(context.Background(), rules, about.Network, "relays", about.Options{})
	if err != nil {
		log.Fatal(err)
	}
	for _, m := range network.Speaks {
		fmt.Printf("%s %s: %s, at %s\n", m.What, m.Name, m.How, m.At)
	}
	// Output:
	// alert from-a-relay: in a condition, at alerts.warden:3
	// alert severe-risk: in a condition, at alerts.warden:11
	// expect nobody comes in through a relay: comes from it, at expectations.warden:22
	// expect the red envelope opens everything: comes from it, at expectations.warden:84
	// network relays: declares it, at places.warden:8
	// policy base: in a condition, at policies/everyone.warden:3
	// promise nobody comes through a relay: in a condition, at promises.warden:35
	// risk model: in a condition, at proofs.warden:19
}
