package service_test

import (
	"bytes"
	"fmt"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync/atomic"
	"testing"

	"briskwarden.example/briskwarden/service"
)

// BenchmarkEvaluation asks without a connection between: what is left is the service and its state. For what it reaches
// over HTTP, beside yardsticks, see .ci/measure-service.
func BenchmarkEvaluation(b *testing.B) {
	s := serve(b, ferryRules(), service.Options{})
	var n atomic.Int64
	b.ReportAllocs()
	b.RunParallel(func(pb *testing.PB) {
		for pb.Next() {
			i := n.Add(1)
			body := question([]string{"ann", "bob"}[i%2], "roster", fmt.Sprintf(`"id":"q-%d","ip":"192.0.2.7","client":"browser","session":{"id":"s%d"}`, i, i%100))
			r := httptest.NewRequest("POST", "/access/v1/evaluation", bytes.NewReader([]byte(body)))
			r.RemoteAddr = "127.0.0.1:4000"
			r.Header.Set("Content-Type", "application/json")
			r.Header.Set("Authorization", "Bearer web")
			w := httptest.NewRecorder()
			s.ServeHTTP(w, r)
			if w.Code != http.StatusOK {
				b.Error(w.Body.String())
				return
			}
		}
	})
}

// BenchmarkReceivers asks the same of rulebooks whose alerts, raised by every sign-on, have a receiver that answers, and one
// that never does.
func BenchmarkReceivers(b *testing.B) {
	alive := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) {}))
	defer alive.Close()
	silent := make(chan struct{})
	dead := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) { <-silent }))
	defer dead.Close()
	defer close(silent)
	for name, url := range map[string]string{"alive": alive.URL, "dead": dead.URL} {
		b.Run(name, func(b *testing.B) {
			rules := ferryRules()
			for i := range 20 {
				rules += fmt.Sprintf("\nalert a%d { when network in ashore tell %q }", i, strings.Replace(url, "127.0.0.1", "localhost", 1))
			}
			s := serve(b, rules, service.Options{})
			var n atomic.Int64
			b.RunParallel(func(pb *testing.PB) {
				for pb.Next() {
					i := n.Add(1)
					s.askIn(b.Context(), "web", "POST", "/access/v1/evaluation", question("ann", "roster", fmt.Sprintf(`"id":"q-%d","ip":"127.0.0.1","session":{"id":"s%d"}`, i, i%100)))
				}
			})
		})
	}
}
