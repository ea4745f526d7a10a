// Command harbour starts, on this machine, all that a made-up ferry operator needs for people, machines and boxes to sign on:
// the decision service, a sign-on desk, sites behind a web gateway, programs that sign people on, and a VPN box. It prints
// where they are and what to try, and stops at Ctrl-C.
//
//	go run ./examples/harbour
//
// Where nginx is installed it stands before the sites; else a small gateway of the example does.
package main

import (
	"context"
	"flag"
	"fmt"
	"log"
	"os"
	"os/signal"
	"syscall"
	"time"
)

func main() {
	port := flag.Int("port", 7580, "the first of the ports that it listens on")
	lasts := flag.Duration("for", 0, "stop by itself after so long; 0 is at Ctrl-C")
	flag.Parse()
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	if *lasts > 0 {
		var end context.CancelFunc
		ctx, end = context.WithTimeout(ctx, *lasts)
		defer end()
	}
	h, err := start(options{port: *port, now: tuesday(time.Now()), nginx: true, log: os.Stderr})
	if err != nil {
		log.Fatal(err)
	}
	fmt.Print(h.welcome())
	<-ctx.Done()
	fmt.Println("Stopping.")
	if err := h.close(); err != nil {
		log.Fatal(err)
	}
}

// tuesday is a clock that begins at a time of the demo: the morning of 24 November 2026, in Oslo.
func tuesday(begin time.Time) func() time.Time {
	morning := time.Date(2026, 11, 24, 8, 0, 0, 0, time.UTC)
	return func() time.Time { return morning.Add(time.Since(begin)) }
}
