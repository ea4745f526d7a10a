// Package cli has the commands of brisk: they read options, call the core and lay out the answer.
package cli

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"time"

	"github.com/spf13/cobra"

	"briskwarden.example/briskwarden/internal/diag"
	"briskwarden.example/briskwarden/internal/engine"
	"briskwarden.example/briskwarden/internal/history"
	"briskwarden.example/briskwarden/internal/replay"
	"briskwarden.example/briskwarden/internal/rulebook"
	"briskwarden.example/briskwarden/internal/schedule"
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
	in    io.Reader
	out   *screen
	err   *screen
	side  io.Writer // standard error, for what draws on it
	paint painter

	keys *bufio.Reader // what somebody types who reads along on a terminal; nil otherwise

	dir    string // --rulebook
	opened string // the rulebook's folder, once it is known
	json   bool
	at     string
}

// Main runs brisk with the arguments and returns its exit status.
func Main(args []string, streams Streams) int {
	s := &session{in: streams.In, out: newScreen(streams.Out), err: newScreen(streams.Err), side: streams.Err, paint: newPainter(streams.Out)}
	if isTerminal(streams.In) && isTerminal(streams.Out) {
		s.keys = bufio.NewReader(streams.In)
	}
	root := s.command()
	root.SetArgs(args)
	root.SetIn(streams.In)
	root.SetOut(s.out.machine())
	root.SetErr(streams.Err)
	err := root.Execute()
	if flushed := s.out.to.Flush(); err == nil && flushed != nil {
		err = usage("the output cannot be written: %w", flushed)
	}
	status := s.status(err)
	_ = s.err.to.Flush()
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
		s.err.printf("brisk: %v\n", e.err)
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
	root.AddCommand(s.checkCommand(), s.fmtCommand(), s.decideCommand(), s.expectCommand(), s.replayCommand(), s.compareCommand(), s.readyCommand(), s.reachCommand(), s.riskCommand(), s.consentCommand(), s.initCommand(), s.demoCommand())
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
		if _, err := os.Stat(filepath.Join(dir, rulebook.TopFile)); err == nil {
			return dir, nil
		}
		up := filepath.Dir(dir)
		if up == dir {
			return "", usage("no %s here or in a folder above: name the rulebook's folder with --rulebook DIR, or begin one with \"brisk init DIR\"",
				rulebook.TopFile)
		}
		dir = up
	}
}

// load reads the rulebook, whatever is wrong with it.
func (s *session) load() (*rulebook.Rulebook, error) {
	dir, err := s.folder()
	if err != nil {
		return nil, err
	}
	s.opened = dir
	return readFolder(dir)
}

// readFolder reads the rulebook in a folder, whatever is wrong with it.
func readFolder(dir string) (*rulebook.Rulebook, error) {
	root, err := os.OpenRoot(dir)
	if err != nil {
		return nil, usage("the rulebook cannot be opened: %w", err)
	}
	defer root.Close()
	return rulebook.Load(root.FS(), rulebook.Options{}), nil
}

// sound reads the rulebook. What is wrong with it is told on standard error.
func (s *session) sound() (*rulebook.Rulebook, error) {
	rb, err := s.load()
	if err == nil && rb.Diagnostics.Count(diag.Error) > 0 {
		s.complain(&listing{rb: rb, dir: s.opened}, errorsOf(rb.Diagnostics))
		err = usage("a rulebook with errors never decides")
	}
	return rb, err
}

// engine reads the rulebook and compiles it.
func (s *session) engine() (*engine.Engine, time.Time, error) {
	rb, err := s.sound()
	if err != nil {
		return nil, time.Time{}, err
	}
	now, err := s.clock(rb.Zone)
	if err != nil {
		return nil, now, err
	}
	return engine.New(rb, engine.Sources{Clock: func() time.Time { return now }}), now, nil
}

// learning compiles a rulebook with a history that begins with its own, and learns on.
func learning(rb *rulebook.Rulebook) replay.Side {
	past := history.NewPast(rb.Zone)
	if rb.Past != nil {
		past = rb.Past.Branch()
	}
	return replay.Side{Engine: engine.New(rb, engine.Sources{History: past}), Past: past}
}

// clock is the instant asked for with --at, else the time.
func (s *session) clock(zone *time.Location) (time.Time, error) {
	if s.at == "" {
		return time.Now(), nil
	}
	t, err := schedule.ParseInstant(s.at, zone)
	if err != nil {
		return t, usage("--at: %w", err)
	}
	return t, nil
}

// complain prints findings on standard error.
func (s *session) complain(l *listing, list diag.List) {
	l.out, l.paint = s.err, plain
	l.print(list)
}

func errorsOf(list diag.List) (found diag.List) {
	for _, d := range list {
		if d.Severity == diag.Error {
			found = append(found, d)
		}
	}
	return found
}
