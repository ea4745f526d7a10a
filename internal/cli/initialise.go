package cli

// brisk init.

import (
	"embed"
	"errors"
	"io/fs"
	"os"
	"path/filepath"

	"github.com/spf13/cobra"

	"briskwarden.example/briskwarden"
)

//go:embed starter
var starter embed.FS

func (s *session) initCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "init DIR",
		Short: "Write a small starter rulebook with comments that teach",
		RunE: func(_ *cobra.Command, args []string) error {
			if len(args) != 1 {
				return usage("name the folder to write into: brisk init DIR")
			}
			return s.initialise(args[0])
		},
	}
}

func (s *session) initialise(dir string) error {
	files, err := fs.Sub(starter, "starter")
	if err != nil {
		return err
	}
	if err := writeRulebook(dir, files); err != nil {
		return err
	}
	s.out.Printf("Wrote a starter rulebook into %s. Read it, then try:\n\n", dir)
	s.out.Printf("  brisk check -r %s\n  brisk expect -r %s\n", dir, dir)
	s.out.Printf("  brisk decide -r %s user ada.berg app payroll ip 192.0.2.17 presenting password\n", dir)
	return nil
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
	if errors.Is(err, fs.ErrExist) {
		return usage("%w; what stands in %s is left as it is", err, dir)
	}
	if err != nil {
		return usage("%w", err)
	}
	return nil
}
