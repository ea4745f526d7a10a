package cli

import (
	"bufio"
	"context"
	"io"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"briskwarden.example/briskwarden/internal/screen"
)

// CommandPaths are the names of all commands that do something.
func CommandPaths() (paths []string) {
	s := &session{ctx: context.Background(), out: screen.New(os.Stdout), err: screen.New(os.Stderr)}
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

// HelpExamples are the calls of all commands' help, in the order in which they work.
func HelpExamples() (calls []string) {
	for _, x := range examples {
		calls = append(calls, x.calls...)
	}
	return calls
}

// CountExamples counts the examples of a command.
func CountExamples(path string) int {
	c, _, err := (&session{ctx: context.Background(), out: screen.New(io.Discard), err: screen.New(io.Discard)}).command().Find(strings.Fields(path)[1:])
	if err != nil || c.Example == "" {
		return 0
	}
	return strings.Count(c.Example, "\n") + 1
}

// DemoTyped runs the demo as on a terminal on which this is typed.
func DemoTyped(dir, typed string, out io.Writer) error {
	s := &session{ctx: context.Background(), out: screen.New(out), err: screen.New(out), keys: bufio.NewReader(strings.NewReader(typed))}
	command := s.command()
	command.SetArgs([]string{"demo", dir})
	err := command.Execute()
	_ = s.out.Flush()
	return err
}
