package replay_test

import (
	"context"
	"fmt"
	"log"
	"strings"
	"testing/fstest"

	"briskwarden.example/briskwarden"
	"briskwarden.example/briskwarden/replay"
	"briskwarden.example/briskwarden/signon"
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

const exampleLog = `{"subject":{"id":"ann"},"resource":{"id":"payroll"},"context":{"time":"2026-11-23T08:00:00Z","presented":["password"],"outcome":"grant"}}
{"subject":{"id":"bob"},"resource":{"id":"payroll"},"context":{"time":"2026-11-23T09:00:00Z","presented":["passkey"],"outcome":"grant"}}
`

func ExampleRun() {
	rulebook, err := briskwarden.OpenFS(fstest.MapFS{"rulebook.warden": {Data: []byte(exampleRules)}})
	if err != nil {
		log.Fatal(err)
	}
	summary, err := replay.Run(context.Background(), rulebook, []replay.Log{{Name: "monday.jsonl", In: strings.NewReader(exampleLog)}}, replay.Options{})
	if err != nil {
		log.Fatal(err)
	}
	fmt.Println(summary.Outcomes[signon.Grant], "granted,", summary.Outcomes[signon.Block], "blocked")
	changes, _, _ := summary.Recorded.Changes()
	for _, c := range changes {
		fmt.Println(c.Count, "from", c.From, "to", c.To)
	}
	// Output:
	// 1 granted, 1 blocked
	// 1 from grant to block
}

func ExampleCompare() {
	before, err := briskwarden.OpenFS(fstest.MapFS{"rulebook.warden": {Data: []byte(exampleRules)}})
	if err != nil {
		log.Fatal(err)
	}
	after, err := briskwarden.OpenFS(fstest.MapFS{"rulebook.warden": {Data: []byte(strings.Replace(exampleRules, "step-up passkey every 12h", "step-up password", 1))}})
	if err != nil {
		log.Fatal(err)
	}
	c, err := replay.Compare(context.Background(), before, after, []replay.Log{{Name: "monday.jsonl", In: strings.NewReader(exampleLog)}}, replay.Options{})
	if err != nil {
		log.Fatal(err)
	}
	for _, g := range c.Groups {
		fmt.Println(g.Count, "from", g.From, "to", g.To, "because", strings.Join(g.Because, " and "))
	}
	// Output:
	// 1 from grant to step-up because passkeys "otherwise" is different
	// 1 from block to grant because passkeys "otherwise" is different
}
