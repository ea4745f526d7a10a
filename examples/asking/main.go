// Command asking shows a program that has the decision service decide, over HTTP.
//
//	go run ./cmd/brisk serve --open -r RULEBOOK
//	go run ./examples/asking http://127.0.0.1:7575
package main

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"log"
	"net/http"
	"os"

	"briskwarden.example/briskwarden/signon"
)

// ask asks the service about a sign-on. Whatever goes wrong, the outcome is a block.
func ask(ctx context.Context, service, token string, s signon.SignOn) (d signon.Decision, err error) {
	body, err := json.Marshal(s)
	if err != nil {
		return d, err
	}
	r, err := http.NewRequestWithContext(ctx, http.MethodPost, service+"/access/v1/evaluation", bytes.NewReader(body))
	if err != nil {
		return d, err
	}
	r.Header.Set("Content-Type", "application/json")
	r.Header.Set("Authorization", "Bearer "+token)
	answer, err := http.DefaultClient.Do(r)
	if err != nil {
		return d, err
	}
	defer answer.Body.Close()
	if answer.StatusCode != http.StatusOK {
		return d, fmt.Errorf("the service answers %s", answer.Status)
	}
	err = json.NewDecoder(answer.Body).Decode(&d)
	return d, err
}

func main() {
	if len(os.Args) != 2 {
		fmt.Println("name the service: asking http://127.0.0.1:7575")
		return
	}
	d, err := ask(context.Background(), os.Args[1], os.Getenv("BRISK_TOKEN"),
		signon.SignOn{User: "mira.holt", Action: "sign-on", App: "noticeboard", Presented: []string{"password"}})
	if err != nil {
		log.Fatal(err)
	}
	fmt.Println(d.Outcome, d.Message)
}
