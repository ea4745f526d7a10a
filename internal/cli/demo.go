package cli

import "github.com/spf13/cobra"

func (s *session) demoCommand() *cobra.Command {
	return &cobra.Command{Use: "demo [DIR]", Short: "Walk through the whole job on the demo rulebook"}
}
