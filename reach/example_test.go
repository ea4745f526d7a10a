package reach_test

import (
	"context"
	"fmt"
	"log"
	"testing/fstest"

	"briskwarden.example/briskwarden"
	"briskwarden.example/briskwarden/reach"
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
`

func ExampleUser() {
	rulebook, err := briskwarden.OpenFS(fstest.MapFS{"rulebook.warden": {Data: []byte(exampleRules)}})
	if err != nil {
		log.Fatal(err)
	}
	so, err := rulebook.SignOn("presenting password")
	if err != nil {
		log.Fatal(err)
	}
	ann, err := reach.User(context.Background(), rulebook, "ann", []reach.Circumstance{{Name: "at her desk", SignOn: so}})
	if err != nil {
		log.Fatal(err)
	}
	for _, app := range ann.Apps {
		fmt.Println(app.App, app.Fares[0].Outcome)
	}
	// Output:
	// news grant
	// payroll block
}
