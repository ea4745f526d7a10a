package spell

// Plurals, lists, and texts that are cut short.

import (
	"fmt"
	"strings"
	"unicode"
	"unicode/utf8"
)

// Printable is a text on one line, in characters that can be seen: what could break the line,
// steer a terminal or turn the text around stands there escaped, as Go writes it, and so do
// bytes that are no UTF-8.
func Printable(s string) string {
	if strings.IndexFunc(s, Unseen) < 0 && utf8.ValidString(s) {
		return s
	}
	var b strings.Builder
	for i, r := range s {
		switch {
		case r == utf8.RuneError && s[i] != "\ufffd"[0]:
			fmt.Fprintf(&b, `\x%02x`, s[i])
		case r == '\n':
			b.WriteString(`\n`)
		case r == '\t':
			b.WriteString(`\t`)
		case Unseen(r) && r > 0xffff:
			fmt.Fprintf(&b, `\U%08x`, r)
		case Unseen(r):
			fmt.Fprintf(&b, `\u%04x`, r)
		default:
			b.WriteRune(r)
		}
	}
	return b.String()
}

// PrintableLines is [Printable] of each line of a text; the line ends and tabs stay.
func PrintableLines(text string) string {
	var b strings.Builder
	for {
		i := strings.IndexAny(text, "\n\t")
		if i < 0 {
			return b.String() + Printable(text)
		}
		b.WriteString(Printable(text[:i]) + text[i:i+1])
		text = text[i+1:]
	}
}

// Clip is the beginning of a text that is too long to be quoted whole.
func Clip(s string) string {
	const most = 60
	if r := []rune(s); len(r) > most {
		return string(r[:most]) + "…"
	}
	return s
}

// Unseen reports whether a character is a control or format character, ends a line, or is none.
func Unseen(r rune) bool {
	return unicode.In(r, unicode.Cc, unicode.Cf, unicode.Zl, unicode.Zp) || r&0xfffe == 0xfffe || r >= 0xfdd0 && r <= 0xfdef
}

// Plural counts things: "1 sign-on", "2 sign-ons", "3 people".
func Plural(n int, one string) string {
	if n == 1 {
		return "1 " + one
	}
	switch {
	case strings.HasSuffix(one, "x"):
		one += "e"
	case strings.HasSuffix(one, "y") && !strings.HasSuffix(one, "ay"):
		one = strings.TrimSuffix(one, "y") + "ie"
	case one == "person":
		return fmt.Sprintf("%d people", n)
	}
	return fmt.Sprintf("%d %ss", n, one)
}

// Few lists the first names of many: "a, b, c and 4 more".
func Few(names []string, most int) string {
	text := strings.Join(names[:min(len(names), most)], ", ")
	if more := len(names) - most; more > 0 {
		text += fmt.Sprintf(" and %d more", more)
	}
	return text
}
