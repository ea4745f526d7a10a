package findings_test

import (
	"context"
	"fmt"
	"log"
	"testing/fstest"

	"briskwarden.example/briskwarden/findings"
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
group idle { }
`

func ExampleRead() {
	report, err := findings.Read(context.Background(), fstest.MapFS{"rulebook.warden": {Data: []byte(exampleRules)}}, findings.Options{})
	if err != nil {
		log.Fatal(err)
	}
	for _, f := range report.Findings {
		fmt.Println(f.Problem, "["+f.Code+"]")
	}
	// Output:
	// rulebook.warden:9:3: 1 user cannot meet the case "otherwise" (passkey every 12h), and no policy lets them enrol: ann [cannot-enrol]
	// rulebook.warden:16:7: nobody is in the group idle [empty-group]
}
