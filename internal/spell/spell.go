// Package spell finds the known name nearest to a mistyped one.
package spell

import (
	"fmt"
	"strings"
	"unicode"
)

// Nearest returns the candidate closest to name by edit distance, where a swap of
// neighbouring letters counts as one edit. It returns "" when none is close
// enough to be a likely slip: more than a quarter of the name's letters, or 3, differ.
func Nearest(name string, candidates []string) string {
	limit := min(3, max(1, len([]rune(name))/4))
	best, bestDistance := "", limit+1
	for _, c := range candidates {
		if c == name {
			continue
		}
		d := distance([]rune(name), []rune(c), limit)
		if d < bestDistance || d == bestDistance && d <= limit && c < best {
			best, bestDistance = c, d
		}
	}
	return best
}

// Like returns the candidate that a name was surely meant to be: the same but for case, blanks
// and dashes, or, of a longer name, the [Nearest].
func Like(name string, candidates []string) string {
	const long = 5
	plain := func(s string) string {
		return strings.Map(func(r rune) rune {
			if unicode.IsSpace(r) || !unicode.IsGraphic(r) || strings.ContainsRune("-_.", r) {
				return -1
			}
			return unicode.ToLower(r)
		}, s)
	}
	sought := plain(name)
	for _, c := range candidates {
		if plain(c) == sought {
			return c
		}
	}
	if len([]rune(name)) < long {
		return ""
	}
	return Nearest(strings.ToLower(name), candidates)
}

// Hint suggests the nearest candidate, as in: did you mean "x"? It is "" when none is close enough.
func Hint(name string, candidates []string) string {
	near := Nearest(name, candidates)
	if near == "" {
		return ""
	}
	return fmt.Sprintf("did you mean %q?", near)
}

// distance is the optimal string alignment distance, or a number above limit
// as soon as it must be larger than that.
func distance(a, b []rune, limit int) int {
	if diff := len(a) - len(b); diff > limit || -diff > limit {
		return limit + 1
	}
	two, one, row := make([]int, len(b)+1), make([]int, len(b)+1), make([]int, len(b)+1)
	for j := range one {
		one[j] = j
	}
	for i := 1; i <= len(a); i++ {
		row[0] = i
		for j := 1; j <= len(b); j++ {
			cost := 1
			if a[i-1] == b[j-1] {
				cost = 0
			}
			row[j] = min(one[j]+1, row[j-1]+1, one[j-1]+cost)
			if i > 1 && j > 1 && a[i-1] == b[j-2] && a[i-2] == b[j-1] {
				row[j] = min(row[j], two[j-2]+1)
			}
		}
		two, one, row = one, row, two
	}
	return one[len(b)]
}
