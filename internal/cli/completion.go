package cli

// What the shell completes.

import (
	"maps"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"briskwarden.example/briskwarden/internal/diag"
	"briskwarden.example/briskwarden/internal/rulebook"
	"briskwarden.example/briskwarden/internal/spell"
)

// clauseWords begin the clauses of a sign-on.
var clauseWords = []string{"user", "app", "doing", "ip", "country", "at", "client", "device", "session", "presenting", "having", "risk",
	"client-app", "publisher", "scopes", "for"}

// complete lets the shell complete names of the rulebook, and the words of clauses.
func (s *session) complete(root *cobra.Command) {
	args := map[string]func(rb *rulebook.Rulebook, before []string) []string{
		"decide":      clauses,
		"consent ask": clauses,
		"reach": func(rb *rulebook.Rulebook, before []string) []string {
			if len(before) == 0 {
				return []string{"user", "app"}
			}
			return clauses(rb, before)
		},
		"expect": func(rb *rulebook.Rulebook, _ []string) (names []string) {
			for _, x := range rb.Expects {
				names = append(names, x.Name)
			}
			return names
		},
	}
	for path, names := range args {
		if c, _, err := root.Find(strings.Fields(path)); err == nil {
			c.ValidArgsFunction = func(_ *cobra.Command, before []string, begun string) ([]string, cobra.ShellCompDirective) {
				return s.completions(func(rb *rulebook.Rulebook) []string { return names(rb, before) }, begun)
			}
		}
	}
	for _, x := range []struct {
		command, flag string
		names         func(*rulebook.Rulebook) []string
	}{
		{"replay", "user", users}, {"replay", "app", apps}, {"replay", "group", groups}, {"reach", "columns", columnNames},
		{"consent settle", "by", users}, {"consent withdraw", "by", users}, {"consent ban", "by", users}, {"consent unban", "by", users},
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
func (s *session) completions(names func(*rulebook.Rulebook) []string, begun string) (list []string, then cobra.ShellCompDirective) {
	then = cobra.ShellCompDirectiveNoFileComp
	rb, err := s.load()
	if err != nil || rb.Diagnostics.Count(diag.Error) > 0 {
		return nil, then
	}
	for _, name := range names(rb) {
		if strings.HasPrefix(name, begun) && shellQuoted([]string{name}) == name && spell.Printable(name) == name {
			list = append(list, name)
		}
	}
	return list, then
}

// clauses are the words that may stand after others of a sign-on that is told.
func clauses(rb *rulebook.Rulebook, before []string) []string {
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
		return users(rb)
	case "app":
		return apps(rb)
	case "group":
		return groups(rb)
	case "doing":
		return slices.Sorted(maps.Keys(rb.Actions))
	case "device":
		return slices.Sorted(maps.Keys(rb.Devices))
	case "presenting", "having":
		var names []string
		for _, m := range rb.Methods.All() {
			names = append(names, m.Name)
		}
		return names
	case "for":
		return []string{"self", "everyone", "group"}
	}
	return clauseWords
}

func users(rb *rulebook.Rulebook) []string  { return slices.Sorted(maps.Keys(rb.People)) }
func apps(rb *rulebook.Rulebook) []string   { return slices.Sorted(maps.Keys(rb.Apps)) }
func groups(rb *rulebook.Rulebook) []string { return rb.Groups.Names() }
