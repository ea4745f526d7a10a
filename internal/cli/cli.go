// Package cli has the commands of brisk: they read options, call the core and lay out the answer.
package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"time"

	"github.com/spf13/cobra"

	"briskwarden.example/briskwarden"
	"briskwarden.example/briskwarden/internal/screen"
	"briskwarden.example/briskwarden/internal/spell"
)

// The exit statuses.
const (
	exitDone     = 0
	exitFindings = 1 // findings of level error, a failed expectation
	exitUsage    = 2 // usage, or input that cannot be read
)

// Streams are what a command reads and writes.
type Streams struct {
	In  io.Reader
	Out io.Writer
	Err io.Writer

	Stop <-chan struct{} // when it is closed, a service ends; may be nil
}

// exit ends a command with a status; the message, if any, goes to standard error.
type exit struct {
	status int
	err    error
}

func (e *exit) Error() string {
	if e.err == nil {
		return fmt.Sprintf("exit status %d", e.status)
	}
	return e.err.Error()
}

func (e *exit) Unwrap() error { return e.err }

func usage(format string, args ...any) error {
	return &exit{exitUsage, fmt.Errorf(format, args...)}
}

// session is one run of brisk: its streams and the options that all commands have.
type session struct {
	ctx   context.Context
	in    io.Reader
	out   *screen.Screen
	err   *screen.Screen
	side  io.Writer // standard error, for what draws on it
	stop  <-chan struct{}
	paint screen.Painter

	keys *bufio.Reader // what somebody types who reads along on a terminal; nil otherwise

	dir    string // --rulebook
	opened string // the rulebook's folder, once it is known
	json   bool
	at     string
	state  string // --state
}

// Main runs brisk with the arguments and returns its exit status.
func Main(args []string, streams Streams) int {
	s := &session{ctx: context.Background(), in: streams.In, out: screen.New(streams.Out), err: screen.New(streams.Err), side: streams.Err, stop: streams.Stop, paint: screen.NewPainter(streams.Out)}
	if screen.IsTerminal(streams.In) && screen.IsTerminal(streams.Out) {
		s.keys = bufio.NewReader(streams.In)
	}
	root := s.command()
	root.SetArgs(args)
	root.SetIn(streams.In)
	root.SetOut(s.out.Machine())
	root.SetErr(streams.Err)
	err := root.Execute()
	if flushed := s.out.Flush(); err == nil && flushed != nil {
		err = usage("the output cannot be written: %w", flushed)
	}
	status := s.status(err)
	_ = s.err.Flush()
	return status
}

// status tells of the error, if it has anything to tell, and gives the exit status.
func (s *session) status(err error) int {
	var e *exit
	switch {
	case err == nil:
		return exitDone
	case !errors.As(err, &e):
		e = &exit{exitUsage, err}
	}
	if e.err != nil {
		s.err.Printf("brisk: %v\n", e.err)
	}
	return e.status
}

func (s *session) command() *cobra.Command {
	root := &cobra.Command{
		Use:   "brisk",
		Short: "Write, check and try conditional sign-on policies",
		Long: "brisk reads a rulebook, a folder of text files that say who may sign on to what,\n" +
			"from where, when, on which device, at which risk and with which proof.\n" +
			"Begin with: brisk demo",
		SilenceErrors:     true,
		SilenceUsage:      true,
		CompletionOptions: cobra.CompletionOptions{HiddenDefaultCmd: true},
		Args:              knownCommand,
		RunE:              help,
	}
	flags := root.PersistentFlags()
	flags.StringVarP(&s.dir, "rulebook", "r", "", "the rulebook's folder (default: the nearest one upward)")
	flags.BoolVar(&s.json, "json", false, "answer in JSON")
	flags.StringVar(&s.at, "at", "", "decide as if it were this instant, such as 2026-11-23T08:15")
	root.Version = version
	root.SetVersionTemplate("brisk {{.Version}}\n")
	root.AddCommand(s.checkCommand(), s.fmtCommand(), s.decideCommand(), s.expectCommand(), s.proveCommand(), s.surveyCommand(), s.replayCommand(), s.mergeCommand(), s.compareCommand(), s.reviewCommand(), s.readyCommand(), s.reachCommand(), s.riskCommand(), s.alertsCommand(), s.digestCommand(), s.aboutCommand(), s.consentCommand(), s.serveCommand(), s.tokenCommand(), s.initCommand(), s.demoCommand())
	exemplify(root)
	s.complete(root)
	return root
}

// version is that of the release (semver.org) which this is, or becomes.
const version = "0.1.0"

// help is what a command tells that only has others below it.
func help(c *cobra.Command, _ []string) error { return c.Help() }

// knownCommand reports what is no command.
func knownCommand(root *cobra.Command, args []string) error {
	if len(args) == 0 {
		return nil
	}
	var names []string
	for _, c := range root.Commands() {
		names = append(names, c.Name())
	}
	return usage("%s has no command %q%s", root.CommandPath(), args[0], hint(args[0], names))
}

// hint suggests the nearest known name at the end of a sentence.
func hint(name string, known []string) string {
	if text := spell.Hint(name, known); text != "" {
		return "; " + text
	}
	return ""
}

// folder is the rulebook's folder: the one asked for, or the nearest one upward.
func (s *session) folder() (string, error) {
	if s.dir != "" {
		return s.dir, nil
	}
	dir, err := os.Getwd()
	if err != nil {
		return "", usage("the working folder is not known: %w", err)
	}
	for {
		if _, err := os.Stat(filepath.Join(dir, briskwarden.TopFile)); err == nil {
			return dir, nil
		}
		up := filepath.Dir(dir)
		if up == dir {
			return "", usage("no %s here or in a folder above: name the rulebook's folder with --rulebook DIR, or begin one with \"brisk init DIR\"",
				briskwarden.TopFile)
		}
		dir = up
	}
}

// root opens the rulebook's folder.
func (s *session) root() (*os.Root, error) {
	dir, err := s.folder()
	if err != nil {
		return nil, err
	}
	s.opened = dir
	root, err := os.OpenRoot(dir)
	if err != nil {
		return nil, usage("the rulebook cannot be opened: %w", err)
	}
	return root, nil
}

// rules opens the rulebook, whose clock says what --at says. What is wrong with it is told on
// standard error.
func (s *session) rules(options ...briskwarden.Option) (rules *briskwarden.Rulebook, now time.Time, err error) {
	if s.opened, err = s.folder(); err != nil {
		return nil, now, err
	}
	options = append(options, briskwarden.WithClock(func() time.Time { return now }))
	if rules, err = s.rulesIn(s.opened, options...); err != nil {
		return nil, now, err
	}
	now, err = s.clock(rules)
	return rules, now, err
}

// rulesIn opens the rulebook in a folder.
func (s *session) rulesIn(dir string, options ...briskwarden.Option) (*briskwarden.Rulebook, error) {
	rules, err := briskwarden.Open(dir, options...)
	var wrong *briskwarden.CheckError
	switch {
	case errors.As(err, &wrong):
		s.reportProblems(dir, wrong.Problems)
		return nil, errUnsound
	case err != nil:
		return nil, usage("%w", err)
	}
	return rules, nil
}

var errUnsound = usage("a rulebook with errors never decides")

// clock is the instant asked for with --at, else the time.
func (s *session) clock(rules *briskwarden.Rulebook) (time.Time, error) {
	if s.at == "" {
		return time.Now(), nil
	}
	t, err := rules.Instant(s.at)
	if err != nil {
		return t, usage("--at: %w", err)
	}
	return t, nil
}

// reportProblems prints the errors among problems on standard error.
func (s *session) reportProblems(dir string, list []briskwarden.Problem) {
	l := &listing{out: s.err, dir: dir, paint: screen.Plain}
	l.print(slices.DeleteFunc(slices.Clone(list), func(p briskwarden.Problem) bool { return p.Severity != briskwarden.Error }))
}
