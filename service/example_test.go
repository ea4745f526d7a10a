package service_test

import (
	"encoding/json"
	"fmt"
	"io"
	"log"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing/fstest"

	"briskwarden.example/briskwarden"
	"briskwarden.example/briskwarden/service"
	"briskwarden.example/briskwarden/signon"
	"briskwarden.example/briskwarden/store/sqlite"
)

func ExampleNew() {
	rules, err := briskwarden.OpenFS(fstest.MapFS{"rulebook.warden": {Data: []byte(`rulebook quay { }
user ann { methods password }
app news { }
policy reading { who people to app news otherwise => step-up password every session }
`)}})
	if err != nil {
		log.Fatal(err)
	}
	dir, err := os.MkdirTemp("", "quay-")
	if err != nil {
		log.Fatal(err)
	}
	defer os.RemoveAll(dir)
	store, err := sqlite.Open(filepath.Join(dir, "quay.state"))
	if err != nil {
		log.Fatal(err)
	}
	defer store.Close()
	s := service.New(rules, store, service.Options{Open: true}) // for trying it out: a rulebook names its callers
	defer s.Close()
	server := httptest.NewServer(s)
	defer server.Close()
	ask := func(told string) {
		answer, err := http.Post(server.URL+"/access/v1/evaluation", "application/json", strings.NewReader(
			`{"subject":{"type":"user","id":"ann"},"action":{"name":"sign-on"},"resource":{"type":"app","id":"news"},"context":`+told+`}`))
		if err != nil {
			log.Fatal(err)
		}
		defer answer.Body.Close()
		text, err := io.ReadAll(answer.Body)
		if err != nil {
			log.Fatal(err)
		}
		var decision signon.Decision
		if err := json.Unmarshal(text, &decision); err != nil {
			log.Fatal(err)
		}
		fmt.Println(decision.Outcome)
	}
	ask(`{"session":{"id":"morning"}}`)
	ask(`{"session":{"id":"morning"},"presented":["password"]}`)
	ask(`{"session":{"id":"morning"}}`) // it is remembered
	// Output:
	// step-up
	// grant
	// grant
}
