package spell

import (
	"strings"
	"unicode"
)

// Shell is a command's arguments as a shell takes them: quoted where it would read anything into them.
func Shell(args []string) string {
	quoted := make([]string, len(args))
	for i, a := range args {
		quoted[i] = a
		if strings.IndexFunc(a, func(r rune) bool { return unicode.IsSpace(r) || strings.ContainsRune(`{}()'"$&;|<>*`, r) }) >= 0 {
			quoted[i] = "'" + strings.ReplaceAll(a, "'", `'\''`) + "'"
		}
	}
	return strings.Join(quoted, " ")
}
