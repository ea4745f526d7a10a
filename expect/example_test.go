package expect_test

import (
	"context"
	"fmt"
	"log"
	"testing/fstest"

	"briskwarden.example/briskwarden"
	"briskwarden.example/briskwarden/expect"
)

const exampleRules = `rulebook quay { }
user ann { methods password }
user bob { methods password, passkey }
app payroll { }
app news { }
policy passkeys {
  who people
  to  app payroll
  otherwise => step-up passkey every 12h
}
policy reading {
  who people
  to  app news
  otherwise => step-up password
}
expect "ann reads" { user ann app news presenting password => grant }
expect "ann is paid" { user ann app payroll presenting password => grant }
`

func ExampleRun() {
	rulebook, err := briskwarden.OpenFS(fstest.MapFS{"rulebook.warden": {Data: []byte(exampleRules)}})
	if err != nil {
		log.Fatal(err)
	}
	results, err := expect.Run(context.Background(), rulebook)
	if err != nil {
		log.Fatal(err)
	}
	for _, r := range results.Expectations {
		fmt.Println(r.Name, r.Passed, r.Failed)
	}
	// Output:
	// ann reads true []
	// ann is paid false [the outcome is block, not grant]
}
