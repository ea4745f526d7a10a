package spell

// How commands are spelt for a shell.

import (
	"strings"
	"unicode"
)

// Shell is a command's arguments as a shell takes them: quoted unless there is nothing in them that any shell could read
// anything into.
func Shell(args []string) string {
	quoted := make([]string, len(args))
	for i, a := range args {
		quoted[i] = a
		if a == "" || strings.ContainsFunc(a, func(r rune) bool { return !plain(r) }) {
			quoted[i] = "'" + strings.ReplaceAll(a, "'", `'\''`) + "'"
		}
	}
	return strings.Join(quoted, " ")
}

// plain reports a character that no shell reads anything into.
func plain(r rune) bool {
	return unicode.IsLetter(r) || unicode.IsDigit(r) || strings.ContainsRune("_-./:,@%+=…", r)
}
