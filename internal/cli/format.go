package cli

// brisk fmt.

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"

	"github.com/rogpeppe/go-internal/diff"
	"github.com/spf13/cobra"

	"briskwarden.example/briskwarden/internal/lines"
	"briskwarden.example/briskwarden/language"
)

type fmtOptions struct{ diff, list bool }

func (s *session) fmtCommand() *cobra.Command {
	var o fmtOptions
	c := &cobra.Command{
		Use:   "fmt [FILE…]",
		Short: "Give rulebook files their one layout, comments kept",
		Long:  "fmt writes the files that are not in the one layout, and names them.\nWithout FILE it takes all files of the rulebook.",
		RunE:  func(_ *cobra.Command, files []string) error { return s.format(files, o) },
	}
	c.Flags().BoolVar(&o.diff, "diff", false, "show what would change, and write nothing")
	c.Flags().BoolVar(&o.list, "list", false, "name the files that would change, and write nothing")
	return c
}

func (s *session) format(files []string, o fmtOptions) error {
	if len(files) == 0 {
		dir, err := s.folder()
		if err != nil {
			return err
		}
		if files, err = rulebookFiles(dir); err != nil {
			return err
		}
	}
	var failed error
	for _, name := range files {
		if err := s.formatFile(name, o); err != nil {
			failed = err
		}
	}
	return failed
}

func rulebookFiles(dir string) (files []string, err error) {
	err = filepath.WalkDir(dir, func(name string, d os.DirEntry, err error) error {
		if err == nil && !d.IsDir() && filepath.Ext(name) == ".warden" {
			files = append(files, fromHere(name))
		}
		return err
	})
	if err != nil {
		return nil, usage("%w", err)
	}
	return files, nil
}

// fromHere is the name of a file as a person in the working folder would type it.
func fromHere(name string) string {
	if !filepath.IsAbs(name) {
		return name
	}
	if dir, err := os.Getwd(); err == nil {
		if short, err := filepath.Rel(dir, name); err == nil && len(short) < len(name) {
			return short
		}
	}
	return name
}

func (s *session) formatFile(name string, o fmtOptions) error {
	src, err := os.ReadFile(name)
	if err != nil {
		return usage("%w", err)
	}
	formatted, err := language.Format(name, src)
	if err != nil {
		(&listing{out: s.out, paint: s.paint}).print(syntaxProblems(err, name, string(src)))
		return &exit{exitFindings, fmt.Errorf("%s is left as it is: it does not parse", name)}
	}
	if bytes.Equal(src, formatted) {
		return nil
	}
	switch {
	case o.diff:
		s.out.Source(diff.Diff(name, src, name+" (formatted)", formatted))
		return nil
	case !o.list:
		if err := lines.WriteFile(name, formatted); err != nil {
			return usage("%w", err)
		}
	}
	s.out.Println(name)
	return nil
}
