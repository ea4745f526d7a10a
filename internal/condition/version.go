package condition

// Dotted versions.

import (
	"cmp"
	"strings"
)

// version is a dotted version: whole numbers without leading zeros, of any size.
type version []string

func parseVersion(text string) (version, bool) {
	var v version
	for part := range strings.SplitSeq(text, ".") {
		n, ok := wholeNumber(part)
		if !ok {
			return nil, false
		}
		v = append(v, n)
	}
	return v, true
}

// wholeNumber drops leading zeros; it is not ok when text is no whole number.
func wholeNumber(text string) (string, bool) {
	for i := range len(text) {
		if text[i] < '0' || text[i] > '9' {
			return "", false
		}
	}
	return strings.TrimLeft(text, "0"), text != ""
}

// compareTo orders the version in text against v: positive when it is later. It is not ok
// when text is no dotted version.
func (v version) compareTo(text string) (order int, ok bool) {
	for i := 0; ; i++ {
		part, rest, more := strings.Cut(text, ".")
		n, ok := wholeNumber(part)
		if !ok {
			return 0, false
		}
		bound := ""
		if i < len(v) {
			bound = v[i]
		}
		if order == 0 {
			order = cmp.Or(cmp.Compare(len(n), len(bound)), cmp.Compare(n, bound))
		}
		if text = rest; !more {
			for _, bound := range v[min(i+1, len(v)):] {
				if order == 0 && bound != "" {
					order = -1
				}
			}
			return order, true
		}
	}
}

// text is the version as a sign-on could state it.
func (v version) text() string {
	parts := make([]string, len(v))
	for i, part := range v {
		parts[i] = cmp.Or(part, "0")
	}
	return strings.Join(parts, ".")
}
