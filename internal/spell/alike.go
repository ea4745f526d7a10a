package spell

// Names that look alike.

import (
	"fmt"
	"strings"
	"unicode"

	"golang.org/x/text/unicode/norm"
	"golang.org/x/text/unicode/runenames"
)

// Foreign names the characters of texts that are not ASCII, each once: "і is CYRILLIC SMALL
// LETTER BYELORUSSIAN-UKRAINIAN I (U+0456)".
func Foreign(texts ...string) (list []string) {
	seen := map[rune]bool{}
	for _, r := range strings.Join(texts, "") {
		if r > unicode.MaxASCII && !seen[r] {
			seen[r] = true
			list = append(list, fmt.Sprintf("%s is %s (%U)", Printable(string(r)), runenames.Name(r), r))
		}
	}
	return list
}

// lookAlikes are letters that look like a Latin one, by that one.
var lookAlikes = func() map[rune]rune {
	m := map[rune]rune{}
	for latin, others := range map[rune]string{
		'a': "аɑα", 'b': "ьƅв", 'c': "сϲ", 'd': "ԁ", 'e': "еҽε", 'g': "ɡ", 'h': "һн", 'i': "іıι", 'j': "ј", 'k': "кκ",
		'l': "ӏ1|ǀi", 'm': "м", 'n': "ոη", 'o': "оοօ0", 'p': "рρ", 'q': "ԛ", 's': "ѕ", 't': "тτ", 'u': "ս", 'v': "ѵν", 'w': "ԝ",
		'x': "хχ", 'y': "уγ", 'z': "ᴢ",
	} {
		for _, r := range others {
			m[r] = latin
		}
	}
	for from, to := range m { // what looks like an i looks like an l
		if to == 'i' {
			m[from] = 'l'
		}
	}
	return m
}()

// Skeleton is what names have in common that look so much alike that a reader could take one for
// the other: the same letters in other alphabets, widths or cases, digits that look like
// letters, and other spaces and dashes between. It follows the idea of the skeletons of UTS #39
// with a short table of its own, of the letters that look like Latin ones.
func Skeleton(name string) string {
	var b strings.Builder
	for _, r := range norm.NFKD.String(strings.ToLower(norm.NFKC.String(name))) {
		switch {
		case unicode.Is(unicode.Mn, r), unicode.Is(unicode.Cf, r), unicode.IsSpace(r), unicode.Is(unicode.Pd, r), r == '_', r == '.':
			continue
		}
		if latin, ok := lookAlikes[r]; ok {
			r = latin
		}
		b.WriteRune(r)
	}
	return b.String()
}
