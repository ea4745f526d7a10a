package cli

// What a service remembers, where commands are told of it.

import (
	"cmp"
	"errors"
	"fmt"
	"io/fs"
	"net/url"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"briskwarden.example/briskwarden"
	"briskwarden.example/briskwarden/service"
	"briskwarden.example/briskwarden/service/state"
	"briskwarden.example/briskwarden/store/postgres"
	"briskwarden.example/briskwarden/store/sqlite"
)

// stateFile is what a service remembers, beside the rulebook.
const stateFile = "brisk.state"

// isDatabase reports an address of a database that nodes share, rather than a file.
func isDatabase(name string) bool {
	return strings.HasPrefix(name, "postgres://") || strings.HasPrefix(name, "postgresql://")
}

// openStore opens a file or a database.
func (s *session) openStore(name string) (store state.Store, err error) {
	if store, err = s.openAny(name); err != nil {
		return nil, usage("%w", err)
	}
	if err := state.Admits(s.ctx, store); err != nil {
		store.Close()
		return nil, usage("%s: %w", name, err)
	}
	return store, nil
}

func (s *session) openAny(name string) (state.Store, error) {
	if isDatabase(name) {
		return postgres.Open(s.ctx, name)
	}
	return sqlite.Open(name)
}

// openState opens what a service of a rulebook remembers: where it says, else where it lay, beside the rulebook, else in the state
// folder of the user or the system.
func (s *session) openState(name, rulebook string) (state.Store, string, error) {
	if name = cmp.Or(name, os.Getenv("BRISK_STATE")); name == "" {
		var err error
		if name, err = s.usualState(rulebook); err != nil {
			return nil, "", usage("%w", err)
		}
	}
	store, err := s.openStore(name)
	return store, name, err
}

// usualState is the file with the state of a rulebook where none is named; its folder is made.
func (s *session) usualState(rulebook string) (string, error) {
	beside := filepath.Join(s.opened, stateFile)
	if sqlite.Exists(beside) {
		s.err.Printf("brisk: %s lies in the rulebook's folder, where it may get into version control. Stop the service, move it with its \"-wal\", and name it with --state.\n", beside)
		return beside, nil
	}
	folder := cmp.Or(os.Getenv("STATE_DIRECTORY"), os.Getenv("XDG_STATE_HOME")) // of systemd's unit; by the XDG base directories
	if folder == "" {
		home, err := os.UserHomeDir()
		if err != nil {
			return "", errors.New("no state folder is known: name a file with --state")
		}
		folder = filepath.Join(home, ".local", "state")
	}
	folder = filepath.Join(folder, "brisk")
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return "", fmt.Errorf("the state folder cannot be made: %w", err)
	}
	return filepath.Join(folder, url.PathEscape(rulebook)+".state"), nil
}

// addState has a command take --state.
func (s *session) addState(c *cobra.Command) {
	c.Flags().StringVar(&s.state, "state", "", "what a service remembers: a file, or postgres://…: the people who are provisioned there are known too")
}

// ledgerBeside opens the ledger that lies beside the rulebook; nil is that none does.
func (s *session) ledgerBeside() (store state.Store, done func(), err error) {
	name := filepath.Join(s.opened, ledgerFile)
	if !sqlite.Exists(name) {
		return nil, func() {}, nil
	}
	if store, err = s.openStore(name); err != nil {
		return nil, nil, err
	}
	return store, func() { store.Close() }, nil
}

// beside opens the rulebook, and with --state what a service remembers. Nothing is begun or changed there.
func (s *session) beside(options ...briskwarden.Option) (rules *briskwarden.Rulebook, remembered *service.Beside, done func(), err error) {
	if rules, _, err = s.rules(options...); err != nil || s.state == "" {
		return rules, nil, func() {}, err
	}
	if _, err := os.Stat(s.state); !isDatabase(s.state) && errors.Is(err, fs.ErrNotExist) {
		return nil, nil, nil, usage("there is no state %s: \"brisk serve\" begins one", s.state)
	}
	store, err := s.openStore(s.state)
	if err != nil {
		return nil, nil, nil, err
	}
	if remembered, err = service.NewBeside(s.ctx, rules, store); err != nil {
		store.Close()
		return nil, nil, nil, usage("%w", err)
	}
	return remembered.Rulebook, remembered, func() {
		remembered.Close()
		store.Close()
	}, nil
}
