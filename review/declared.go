package review

// Which declarations changed.

import (
	"cmp"
	"slices"
	"strings"

	"briskwarden.example/briskwarden"
	"briskwarden.example/briskwarden/internal/bridge"
	"briskwarden.example/briskwarden/language/ast"
	"briskwarden.example/briskwarden/language/token"
)

// written is a declaration, without its comments and its layout.
type written struct{ text, at string }

// declarations are those that are new, gone or different, by what they are.
func declarations(before, after *briskwarden.Rulebook) []Declared {
	was, is := declared(before), declared(after)
	list := []Declared{}
	for what, now := range is {
		switch old, there := was[what]; {
		case !there:
			list = append(list, Declared{What: what, Change: New, At: now.at})
		case old.text != now.text:
			list = append(list, Declared{What: what, Change: Different, At: now.at})
		}
	}
	for what, old := range was {
		if _, there := is[what]; !there {
			list = append(list, Declared{What: what, Change: Gone, At: old.at})
		}
	}
	slices.SortFunc(list, func(a, b Declared) int {
		return cmp.Or(cmp.Compare(a.Change, b.Change), cmp.Compare(a.What, b.What))
	})
	return list
}

func declared(rules *briskwarden.Rulebook) map[string]written {
	texts := map[string]*strings.Builder{}
	all := map[string]written{}
	for _, f := range bridge.Engine(rules).Rulebook().Files {
		tokens := f.Tree.Tokens
		for _, d := range f.Tree.Decls {
			h := d.Head()
			for len(tokens) > 0 && tokens[0].Pos != h.Keyword.Pos {
				tokens = tokens[1:]
			}
			what := strings.TrimSpace(h.Keyword.Text + " " + h.Name.String())
			if texts[what] == nil { // an emergency group and the like may stand in several files
				texts[what] = &strings.Builder{}
				all[what] = written{at: h.Keyword.Pos.InFile()}
			}
			tokens = write(texts[what], tokens, h)
		}
	}
	for what, text := range texts {
		all[what] = written{text.String(), all[what].at}
	}
	return all
}

// write writes what a declaration says, whose tokens come first, and leaves the others.
func write(to *strings.Builder, tokens []token.Token, h *ast.Block) []token.Token {
	for i, t := range tokens {
		if t.Kind != token.Comment {
			to.WriteString(t.Raw + " ")
		}
		if t.Pos == h.End {
			to.WriteByte('\n')
			return tokens[i+1:]
		}
	}
	return nil
}
