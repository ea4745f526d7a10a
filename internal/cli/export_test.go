package cli

import (
	"os"

	"github.com/spf13/cobra"
)

// CommandPaths are the names of all commands that do something.
func CommandPaths() (paths []string) {
	s := &session{out: newScreen(os.Stdout), err: newScreen(os.Stderr)}
	var walk func(*cobra.Command)
	walk = func(c *cobra.Command) {
		if !c.HasSubCommands() {
			paths = append(paths, c.CommandPath())
		}
		for _, sub := range c.Commands() {
			walk(sub)
		}
	}
	walk(s.command())
	return paths
}
