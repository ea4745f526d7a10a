package spell

import (
	"fmt"
	"strings"
	"unicode"
	"unicode/utf8"
)

// Printable replaces what could steer a terminal or turn a text around by its escaped form; line ends stay.
func Printable(s string) string {
	var b strings.Builder
	for _, r := range s {
		if r != '\n' && r != '\t' && (unicode.IsControl(r) || unicode.Is(unicode.Cf, r) || r == utf8.RuneError) {
			fmt.Fprintf(&b, "\\u%04x", r)
			continue
		}
		b.WriteRune(r)
	}
	return b.String()
}

// Plural counts things: "1 sign-on", "2 sign-ons", "3 people".
func Plural(n int, one string) string {
	if n == 1 {
		return "1 " + one
	}
	switch {
	case strings.HasSuffix(one, "x"):
		one += "e"
	case strings.HasSuffix(one, "y"):
		one = strings.TrimSuffix(one, "y") + "ie"
	case one == "person":
		return fmt.Sprintf("%d people", n)
	}
	return fmt.Sprintf("%d %ss", n, one)
}
