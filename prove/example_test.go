package prove_test

import (
	"context"
	"fmt"
	"time"

	"briskwarden.example/briskwarden"
	"briskwarden.example/briskwarden/demo"
	"briskwarden.example/briskwarden/prove"
)

// A program's own tests hold its rulebook to what it promises: a test fails with the report where one is broken.
func ExamplePromises() {
	monday := func() time.Time { return time.Date(2026, 11, 23, 7, 0, 0, 0, time.UTC) }
	rules, err := briskwarden.OpenFS(demo.SkerryLine(), briskwarden.WithClock(monday),
		briskwarden.WithPromises("who group finance to tag money never grant without passkey"))
	if err != nil {
		fmt.Println(err)
		return
	}
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	report, err := prove.Promises(ctx, rules, prove.Span{}, "the keys need the strongest proof", "who group finance to tag money never grant without passkey")
	if err != nil {
		fmt.Println(err)
		return
	}
	fmt.Println("all hold:", report.Holds())
	for _, p := range report.Promises {
		fmt.Println(p.Promise+":", p.Answer)
		if people, apps := p.Reach(); len(people) > 0 {
			fmt.Println(len(people), "people at", apps)
		}
	}
	// Output:
	// all hold: false
	// the keys need the strongest proof: holds
	// who group finance to tag money never grant without passkey: broken
	// 5 people at [ledger payroll]
}

// A rewrite that is to change nothing is held to that.
func ExampleCompare() {
	monday := func() time.Time { return time.Date(2026, 11, 23, 7, 0, 0, 0, time.UTC) }
	before, _ := briskwarden.OpenFS(demo.SkerryLine())
	after, err := briskwarden.OpenFS(demo.SkerryLine(), briskwarden.WithClock(monday))
	if err != nil {
		fmt.Println(err)
		return
	}
	c, err := prove.Compare(context.Background(), before, after, prove.Span{}, prove.Scope{To: "tag money"})
	if err != nil {
		fmt.Println(err)
		return
	}
	fmt.Println("same:", c.Same)
	// Output:
	// same: true
}
