package cli

// What the shell completes.

import (
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"briskwarden.example/briskwarden"
	"briskwarden.example/briskwarden/expect"
	"briskwarden.example/briskwarden/internal/spell"
	"briskwarden.example/briskwarden/reach"
)

// clauseWords begin the clauses of a sign-on.
var clauseWords = []string{"user", "app", "doing", "ip", "country", "at", "client", "device", "session", "presenting", "having", "risk",
	"client-app", "publisher", "scopes", "for", "suppose"}

// complete lets the shell complete names of the rulebook, and the words of clauses.
func (s *session) complete(root *cobra.Command) {
	args := map[string]func(rules *briskwarden.Rulebook, before []string) []string{
		"decide":      clauses,
		"consent ask": clauses,
		"reach": func(rules *briskwarden.Rulebook, before []string) []string {
			if len(before) == 0 {
				return []string{"user", "app"}
			}
			return clauses(rules, before)
		},
		"expect": func(rules *briskwarden.Rulebook, _ []string) (names []string) {
			return expect.Names(rules)
		},
	}
	for path, names := range args {
		if c, _, err := root.Find(strings.Fields(path)); err == nil {
			c.ValidArgsFunction = func(_ *cobra.Command, before []string, begun string) ([]string, cobra.ShellCompDirective) {
				return s.completions(func(rules *briskwarden.Rulebook) []string { return names(rules, before) }, begun)
			}
		}
	}
	for _, x := range []struct {
		command, flag string
		names         func(*briskwarden.Rulebook) []string
	}{
		{"replay", "user", (*briskwarden.Rulebook).Users}, {"replay", "app", (*briskwarden.Rulebook).Apps}, {"replay", "group", (*briskwarden.Rulebook).Groups}, {"reach", "columns", reach.Names},
		{"consent settle", "by", (*briskwarden.Rulebook).Users}, {"consent withdraw", "by", (*briskwarden.Rulebook).Users}, {"consent ban", "by", (*briskwarden.Rulebook).Users}, {"consent unban", "by", (*briskwarden.Rulebook).Users},
	} {
		if c, _, err := root.Find(strings.Fields(x.command)); err == nil {
			_ = c.RegisterFlagCompletionFunc(x.flag, func(_ *cobra.Command, _ []string, begun string) ([]string, cobra.ShellCompDirective) {
				return s.completions(x.names, begun)
			})
		}
	}
}

// completions are the names that begin so; those that a shell would take for several words,
// or that steer a terminal, are left out.
func (s *session) completions(names func(*briskwarden.Rulebook) []string, begun string) (list []string, then cobra.ShellCompDirective) {
	then = cobra.ShellCompDirectiveNoFileComp
	dir, err := s.folder()
	if err != nil {
		return nil, then
	}
	rules, err := briskwarden.Open(dir)
	if err != nil {
		return nil, then
	}
	for _, name := range names(rules) {
		if strings.HasPrefix(name, begun) && spell.Shell([]string{name}) == name && spell.Printable(name) == name {
			list = append(list, name)
		}
	}
	return list, then
}

// clauses are the words that may stand after others of a sign-on that is told.
func clauses(rules *briskwarden.Rulebook, before []string) []string {
	last := ""
	if len(before) > 0 {
		last = before[len(before)-1]
	}
	if strings.HasSuffix(last, ",") { // a list goes on
		for i := len(before) - 1; i >= 0; i-- {
			if slices.Contains(clauseWords, before[i]) {
				last = before[i]
				break
			}
		}
	}
	switch last {
	case "user":
		return rules.Users()
	case "app":
		return rules.Apps()
	case "group":
		return rules.Groups()
	case "doing":
		return rules.Actions()
	case "device":
		return rules.Devices()
	case "presenting", "having":
		return rules.Methods()
	case "for":
		return []string{"self", "everyone", "group"}
	}
	return clauseWords
}
