package cli

// Parts of a replay, added up.

import (
	"github.com/spf13/cobra"

	"briskwarden.example/briskwarden/replay"
)

func (s *session) mergeCommand() *cobra.Command {
	var to reportFlags
	c := &cobra.Command{
		Use:   "merge FILE…",
		Short: "Add up the parts of a replay (replay --part 3/8), and tell what all of it comes to",
		Long: "merge reads what \"brisk replay LOG… --part 1/8 > 1.json\" to \"--part 8/8\" have written, in whatever order, and tells the very\n" +
			"same as an undivided replay of the logs by the same rulebook.",
		RunE: func(_ *cobra.Command, files []string) error {
			if len(files) == 0 {
				return usage("name the parts: brisk merge FILE…")
			}
			return s.merge(files, to)
		},
	}
	s.addState(c)
	to.add(c.Flags())
	return c
}

func (s *session) merge(files []string, to reportFlags) error {
	rules, _, done, err := s.beside()
	if err != nil {
		return err
	}
	defer done()
	var parts []replay.Log
	for _, name := range files {
		in, err := s.open(name)
		if err != nil {
			return err
		}
		defer in.Close()
		parts = append(parts, replay.Log{Name: name, In: in})
	}
	summary, err := replay.Merge(rules, parts)
	if err != nil {
		return usage("%w", err)
	}
	if err := s.nothingFound(rules, summary, ""); err != nil {
		return err
	}
	return s.replayed(rules, summary, to)
}
