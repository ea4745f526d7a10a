package cli

// brisk serve and brisk token.

import (
	"cmp"
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"os"
	"os/signal"
	"runtime/debug"
	"syscall"
	"time"

	"github.com/go-json-experiment/json"
	"github.com/spf13/cobra"

	"briskwarden.example/briskwarden"
	"briskwarden.example/briskwarden/internal/plainjson"
	"briskwarden.example/briskwarden/service"
	"briskwarden.example/briskwarden/service/state"
)

// serveFlags are how a service is started.
type serveFlags struct {
	listening service.Listening
	options   service.Options
	state     string
	signOns   string
	restored  bool
}

func (s *session) serveCommand() *cobra.Command {
	var f serveFlags
	c := &cobra.Command{
		Use:   "serve",
		Short: "Answer other programs over HTTP, and remember sessions and proofs for them",
		Long: "serve answers what decide answers, by the AuthZEN Authorization API 1.0, to the callers of the rulebook, and\n" +
			"remembers what decisions rest on. It runs until it is told to stop, logs on standard error, and reads the\n" +
			"rulebook anew when its files change. To try it on this machine: brisk serve --open",
		Args: cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error { return s.serve(&f) },
	}
	flags := c.Flags()
	flags.StringVar(&f.listening.Address, "listen", "127.0.0.1:7575", "the address to listen at")
	flags.StringVar(&f.listening.Operations, "operations", "127.0.0.1:7576", "the address of /livez, /readyz and /metrics")
	flags.StringVar(&f.state, "state", "", "what is remembered: a file, or postgres://… (default: BRISK_STATE, else a file in the state folder of the user or the system, named by the rulebook)")
	flags.StringVar(&f.signOns, "signons", "", "log every decision into a folder, as sign-on logs")
	flags.StringVar(&f.options.URL, "url", "", "the address by which others reach the service, such as https://brisk.skerry.example")
	flags.StringVar(&f.listening.Certificate, "tls-cert", "", "the certificate of the service, a file in PEM")
	flags.StringVar(&f.listening.Key, "tls-key", "", "its key, a file in PEM")
	flags.StringVar(&f.listening.ClientCA, "client-ca", "", "the authorities of client certificates, a file in PEM")
	flags.BoolVar(&f.options.BehindProxy, "behind-proxy", false, "a proxy in front of the service encrypts connections")
	flags.StringVar(&f.options.Mail.Server, "smtp", "", "HOST:PORT of the mail server for alerts and digests; name and password: "+service.MailUser+", "+service.MailPassword)
	flags.StringVar(&f.options.Mail.From, "mail-from", "", "the address that mail comes from (default: brisk at the host of --url)")
	flags.BoolVar(&f.options.Open, "open", false, "let every program of this machine ask everything, to try it out")
	flags.BoolVar(&f.restored, "restored", false, "the state was brought back from a backup: first end all sessions")
	return c
}

// garbage is how much the heap may grow before it is collected, in percent: what a service holds is small, and most of
// what a request takes is soon gone.
const garbage = 400

func (s *session) serve(f *serveFlags) (err error) {
	if s.at != "" {
		return usage("the service's own clock tells the time: --at is for other commands")
	}
	if err := f.options.Mail.Complete(f.options.URL); err != nil {
		return usage("--smtp: %w", err)
	}
	ctx, stop := s.untilStopped()
	defer stop()
	if os.Getenv("GOGC") == "" {
		debug.SetGCPercent(garbage)
	}
	f.options.Log = slog.New(slog.NewJSONHandler(plainjson.Writer{To: s.side}, nil))
	if s.opened, err = s.folder(); err != nil {
		return err
	}
	f.options.Folder = s.opened
	var running *service.Service
	live, err := s.live(briskwarden.WithLogger(f.options.Log), briskwarden.WithReloads(func(r *briskwarden.Rulebook, err error) {
		if running != nil {
			running.Reloaded(r, err)
		}
	}))
	if err != nil {
		return err
	}
	store, name, err := s.openState(f.state, live.Rulebook().Name())
	if err != nil {
		return err
	}
	defer store.Close()
	if err := state.Begin(s.ctx, store); err != nil {
		return usage("%w", err)
	}
	own := []string{name}
	if f.signOns != "" {
		host, _ := os.Hostname()
		if f.options.SignOns, err = service.OpenLog(f.signOns, cmp.Or(host, "node")); err != nil {
			return usage("--signons: %w", err)
		}
		defer f.options.SignOns.Close()
		own = append(own, f.signOns)
	}
	running = service.New(live, store, f.options)
	defer running.Close()
	if running.NobodyMayAsk() {
		s.err.Printf("brisk: nobody may ask: the rulebook has no caller. \"brisk token\" makes a token and the line for a caller; --open is for trying\n")
	}
	return s.run(ctx, f, live, running, own)
}

// untilStopped is done once the command is told to stop.
func (s *session) untilStopped() (ctx context.Context, stop context.CancelFunc) {
	ctx, stop = signal.NotifyContext(s.ctx, syscall.SIGTERM, os.Interrupt)
	if s.stop != nil {
		go func() {
			<-s.stop
			stop()
		}()
	}
	return ctx, stop
}

// run answers until the context ends. The files of its own that lie in the rulebook's folder are no change of that.
func (s *session) run(ctx context.Context, f *serveFlags, live *briskwarden.Live, running *service.Service, own []string) error {
	if f.restored {
		if err := running.Restored(ctx); err != nil {
			return usage("the sessions from before the backup could not be ended: %w", err)
		}
		s.out.Printf("All sessions and proofs from before the backup are ended.\n")
	}
	if err := running.Follow(ctx, live, s.opened, own...); err != nil {
		return usage("%w", err)
	}
	go s.reloadOnHangUp(ctx, live)
	err := running.Listen(ctx, f.listening, func(address, operations net.Addr) {
		s.tellServing(live.Rulebook(), running.Untold(), f, address, operations)
	})
	if err != nil {
		return usage("%w", err)
	}
	return nil
}

// live opens the rulebook to be held up to date.
func (s *session) live(options ...briskwarden.Option) (*briskwarden.Live, error) {
	live, err := briskwarden.OpenLive(s.opened, options...)
	var wrong *briskwarden.CheckError
	switch {
	case errors.As(err, &wrong):
		s.reportProblems(s.opened, wrong.Problems)
		return nil, errUnsound
	case err != nil:
		return nil, usage("%w", err)
	}
	return live, nil
}

func (s *session) reloadOnHangUp(ctx context.Context, live *briskwarden.Live) {
	asked := make(chan os.Signal, 1)
	signal.Notify(asked, syscall.SIGHUP)
	defer signal.Stop(asked)
	for {
		select {
		case <-ctx.Done():
			return
		case <-asked:
			_ = live.Reload() // which logs what is wrong
		}
	}
}

// tellServing tells that the service is there, and how to ask it.
func (s *session) tellServing(rules *briskwarden.Rulebook, untold []service.Untold, f *serveFlags, address, operations net.Addr) {
	scheme := "http"
	if f.listening.Certificate != "" {
		scheme = "https"
	}
	s.out.Printf("brisk serves %s at %s://%s\n", rules.Name(), scheme, address)
	if f.options.Open {
		s.out.Printf("OPEN: every program of this machine may ask, end sessions and provision people, without proof of who it is.\n\n"+
			"  curl -s %s://%s/access/v1/evaluation -H 'Content-Type: application/json' \\\n"+
			"    -d '{\"subject\":{\"type\":\"user\",\"id\":\"USER\"},\"action\":{\"name\":\"sign-on\"},\"resource\":{\"type\":\"app\",\"id\":\"APP\"}}'\n\n", scheme, address)
	}
	for _, u := range untold {
		s.out.Printf("%s %s: %s\n", s.paint.Amber("cannot be told:"), u.To, u.Why)
	}
	if operations != nil {
		s.out.Printf("operations: http://%s/readyz and /metrics\n", operations)
	}
	_ = s.out.Flush()
}

func (s *session) tokenCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "token",
		Short: "Make a caller's token: shown once, with the line of the rulebook that lets it in",
		Long: "token makes a token of 256 bits at random for a program that asks the service, and prints the line for the\n" +
			"caller in the rulebook, which has its digest alone and ends a year from now. The token itself is kept nowhere.",
		Args: cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error { return s.token() },
	}
}

func (s *session) token() error {
	random := make([]byte, 32)
	if _, err := rand.Read(random); err != nil {
		return usage("no token can be made: %w", err)
	}
	token := base64.RawURLEncoding.EncodeToString(random)
	until := time.Now().AddDate(1, 0, 0).Format("2006-01-02")
	line := fmt.Sprintf("token \"sha256:%x\" until %s", sha256.Sum256([]byte(token)), until)
	if s.json {
		return json.MarshalWrite(s.out.Machine(), struct {
			Token string `json:"token"`
			Line  string `json:"line"`
		}{token, line}, json.Deterministic(true))
	}
	s.out.Printf("The token, for the caller alone; it is shown this once:\n\n  %s\n\nThe line for the caller in the rulebook:\n\n  %s\n", token, line)
	return nil
}
