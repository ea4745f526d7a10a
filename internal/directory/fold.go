package directory

import (
	"strings"

	"golang.org/x/text/secure/precis"
)

// Fold folds the name of a person or a group (RFC 8265, UsernameCaseMapped): two names that are equal then are easily taken for
// each other. One that the profile does not allow, such as one with blanks, is taken in small letters.
func Fold(name string) string {
	plain := func(c rune) bool { return c > ' ' && c < 0x7f && (c < 'A' || c > 'Z') }
	if name != "" && strings.TrimFunc(name, plain) == "" {
		return name // as most are
	}
	if folded, err := precis.UsernameCaseMapped.CompareKey(name); err == nil {
		return folded
	}
	return strings.ToLower(name)
}
