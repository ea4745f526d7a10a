package ready_test

import (
	"context"
	"fmt"
	"log"
	"testing/fstest"
	"time"

	"briskwarden.example/briskwarden"
	"briskwarden.example/briskwarden/ready"
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

func ExampleFind() {
	rulebook, err := briskwarden.OpenFS(fstest.MapFS{"rulebook.warden": {Data: []byte(exampleRules)}})
	if err != nil {
		log.Fatal(err)
	}
	report, err := ready.Find(context.Background(), rulebook, time.Now())
	if err != nil {
		log.Fatal(err)
	}
	for _, gap := range report.Gaps {
		fmt.Println(gap.Person, "lacks", gap.Missing, "for", gap.Policy)
	}
	// Output: ann lacks passkey for passkeys
}
