package review_test

import (
	"context"
	"fmt"
	"testing/fstest"
	"time"

	"briskwarden.example/briskwarden"
	"briskwarden.example/briskwarden/review"
)

func ExampleChange() {
	open := func(policies string) *briskwarden.Rulebook {
		rules, err := briskwarden.OpenFS(fstest.MapFS{"rulebook.warden": {Data: []byte(`rulebook r { floor password }
user ann { methods password, app-code }
app payroll { }
` + policies)}}, briskwarden.WithClock(func() time.Time { return time.Date(2026, 11, 23, 7, 0, 0, 0, time.UTC) }))
		if err != nil {
			panic(err)
		}
		return rules
	}
	before := open(`policy inside { about "Two factors"  owner "x"  who everyone  to everything  otherwise => step-up password and app-code }`)
	after := open(`policy inside { about "One will do"  owner "x"  who everyone  to everything  otherwise => step-up password }`)
	r, err := review.Change(context.Background(), before, after, review.Options{})
	if err != nil {
		fmt.Println(err)
		return
	}
	fmt.Println(r.Loosens(), r.Sentence())
	// Output:
	// true It loosens in 1 way (1 person, 1 app).
}
