package service_test

import (
	"bufio"
	"fmt"
	"io"
	"net"
	"net/http"
	"sync/atomic"
	"testing"

	"briskwarden.example/briskwarden/service"
)

func BenchmarkHTTP(b *testing.B) {
	s := serve(b, ferryRules(), service.Options{})
	l, _ := net.Listen("tcp", "127.0.0.1:0")
	go http.Serve(l, s)
	var n atomic.Int64
	b.SetParallelism(32)
	b.RunParallel(func(pb *testing.PB) {
		conn, err := net.Dial("tcp", l.Addr().String())
		if err != nil {
			b.Error(err)
			return
		}
		in := bufio.NewReader(conn)
		for pb.Next() {
			i := n.Add(1)
			presented := ""
			if i%10 == 0 {
				presented = `,"presented":["password"]`
			}
			body := question([]string{"ann", "bob"}[i%2], "roster", fmt.Sprintf(`"id":"q-%d","ip":"192.0.2.7","client":"browser","device":{"id":"deck-tab-%d","os":"android","version":"14","form":"tablet"},"session":{"id":"s%d"}%s`, i, i%20, i%100, presented))
			fmt.Fprintf(conn, "POST /access/v1/evaluation HTTP/1.1\r\nHost: brisk\r\nAuthorization: Bearer web\r\nContent-Type: application/json\r\nContent-Length: %d\r\n\r\n%s", len(body), body)
			r, err := http.ReadResponse(in, nil)
			if err != nil {
				b.Error(err)
				return
			}
			io.ReadAll(r.Body)
		}
	})
}
