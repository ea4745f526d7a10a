package cli

// brisk init.

import (
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"briskwarden.example/briskwarden"
)

//go:embed starter
var starter embed.FS

// starters are the rulebooks that one can begin with, the first by default, each with a sign-on to try.
var starters = []struct{ name, about, try string }{
	{"small-office", "an office, and salaries", "user ada.berg app payroll ip 192.0.2.17 presenting password"},
	{"shop-floor", "shared tablets, shifts and machines", "user kari.bru app work-orders ip 192.0.2.17 device bench-1 presenting password"},
	{"service", "a service on the web, and who runs it", "user per.vang app production ip 203.0.113.9 presenting security-key"},
}

func (s *session) initCommand() *cobra.Command {
	var kind string
	c := &cobra.Command{
		Use:   "init DIR",
		Short: "Write a small starter rulebook with comments that teach",
		Long:  "init writes a starter rulebook, with expectations and promises, of one of three kinds:\n\n",
		RunE: func(_ *cobra.Command, args []string) error {
			if len(args) != 1 {
				return usage("name the folder to write into: brisk init DIR")
			}
			return s.initialise(args[0], kind)
		},
	}
	for _, k := range starters {
		c.Long += fmt.Sprintf("  %-14s %s\n", k.name, k.about)
	}
	c.Flags().StringVar(&kind, "for", starters[0].name, "what kind: "+strings.Join(starterNames(), ", "))
	return c
}

func starterNames() (names []string) {
	for _, k := range starters {
		names = append(names, k.name)
	}
	return names
}

func (s *session) initialise(dir, kind string) error {
	i := slices.Index(starterNames(), kind)
	if i < 0 {
		return usage("--for: there is no %q; there are %s", kind, strings.Join(starterNames(), ", "))
	}
	files, err := fs.Sub(starter, "starter/"+kind)
	if err != nil {
		return err
	}
	if err := writeRulebook(dir, files); err != nil {
		return err
	}
	into := dir
	if filepath.Clean(dir) == "." {
		into = "this folder"
	}
	s.out.Printf("Wrote a starter rulebook into %s. Read it, then try:\n\n", into)
	s.out.Printf("  brisk check -r %s\n  brisk expect -r %s\n  brisk prove -r %s\n", dir, dir, dir)
	s.out.Printf("  brisk decide -r %s %s\n", dir, starters[i].try)
	return nil
}

// ignored is what a service and the ledger keep beside a rulebook: it names people, and belongs into no version control.
const ignored = "# What brisk remembers of people\n*.state\n*.state-*\n*.ledger\n*.ledger-*\nsignons/\n"

// writeIgnored writes .gitignore, unless there is one.
func writeIgnored(dir string) error {
	f, err := os.OpenFile(filepath.Join(dir, ".gitignore"), os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o644)
	if errors.Is(err, fs.ErrExist) {
		return nil
	}
	if err != nil {
		return err
	}
	_, err = f.WriteString(ignored)
	return errors.Join(err, f.Close())
}

// writeRulebook writes files into a folder that holds no rulebook yet; nothing there is overwritten.
func writeRulebook(dir string, files fs.FS) error {
	if _, err := os.Stat(filepath.Join(dir, briskwarden.TopFile)); err == nil {
		return usage("%s holds a rulebook already; nothing was written", dir)
	}
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return usage("%w", err)
	}
	err := os.CopyFS(dir, files)
	if err == nil {
		err = writeIgnored(dir)
	}
	if errors.Is(err, fs.ErrExist) {
		return usage("%w; what stands in %s is left as it is", err, dir)
	}
	if err != nil {
		return usage("%w", err)
	}
	return nil
}
