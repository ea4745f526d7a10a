package explain_test

import (
	"context"
	"fmt"
	"log"
	"testing/fstest"

	"briskwarden.example/briskwarden"
	"briskwarden.example/briskwarden/explain"
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

func ExampleText() {
	rulebook, err := briskwarden.OpenFS(fstest.MapFS{"rulebook.warden": {Data: []byte(exampleRules)}})
	if err != nil {
		log.Fatal(err)
	}
	s, err := rulebook.SignOn("user ann app payroll at 2026-11-23T08:15Z presenting password")
	if err != nil {
		log.Fatal(err)
	}
	d, err := rulebook.Explain(context.Background(), s)
	if err != nil {
		log.Fatal(err)
	}
	fmt.Print(explain.Text(rulebook, s, d, explain.Options{Width: 72}))
	// Output:
	// BLOCK     ann, sign-on to payroll
	// Told      “You cannot give here what is asked for.” (built in)
	// Mend      enrol in passkey, elsewhere: nobody enrols in this sign-on
	// Decided   passkeys "otherwise", at rulebook.warden:9
	//           asks passkey every 12h (cannot be met here)
	//           because it is the policy's only case
	//
	// Stood by
	//   to: payroll is not among its apps
	//       reading
}
