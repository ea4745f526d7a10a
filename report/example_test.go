package report_test

import (
	"context"
	"fmt"
	"log"
	"strings"
	"testing/fstest"

	"briskwarden.example/briskwarden"
	"briskwarden.example/briskwarden/replay"
	"briskwarden.example/briskwarden/report"
)

func ExampleReplay() {
	rules, err := briskwarden.OpenFS(fstest.MapFS{"rulebook.warden": {Data: []byte("rulebook quay { floor none }\nuser ann { }\napp news { }\n" +
		"policy closed { who everyone to app news otherwise => block }\n")}})
	if err != nil {
		log.Fatal(err)
	}
	const signOns = `{"subject":{"id":"ann"},"resource":{"id":"news"},"context":{"time":"2026-11-23T08:00:00Z","outcome":"grant"}}`
	summary, err := replay.Run(context.Background(), rules, []replay.Log{{Name: "monday.jsonl", In: strings.NewReader(signOns)}}, replay.Options{})
	if err != nil {
		log.Fatal(err)
	}
	page := report.Replay(rules, summary)
	fmt.Println(page.Answer)
	var html strings.Builder
	if err := page.Write(&html); err != nil {
		log.Fatal(err)
	}
	fmt.Println(strings.Contains(html.String(), page.Title))
	// Output:
	// 1 of 1 sign-on would change, all from grant to block.
	// true
}
