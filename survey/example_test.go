package survey_test

import (
	"context"
	"fmt"
	"time"

	"briskwarden.example/briskwarden"
	"briskwarden.example/briskwarden/demo"
	"briskwarden.example/briskwarden/prove"
	"briskwarden.example/briskwarden/survey"
)

func ExampleOf() {
	rules, err := briskwarden.OpenFS(demo.SkerryLine(), briskwarden.WithClock(func() time.Time { return time.Date(2026, 11, 23, 7, 0, 0, 0, time.UTC) }))
	if err != nil {
		fmt.Println(err)
		return
	}
	r, err := survey.Of(context.Background(), rules, prove.Span{})
	if err != nil {
		fmt.Println(err)
		return
	}
	fmt.Println(r.Ways, "ways in,", r.OneFactor, "on one factor")
	fmt.Println(r.Steps[0].What, "closes", r.Steps[0].Closes)
	// Output:
	// 330 ways in, 320 on one factor
	// berth-planner: ask for two factors closes 56
}
