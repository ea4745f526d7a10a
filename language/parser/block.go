package parser

// Blocks whose clauses stand in any order.

import (
	"fmt"
	"slices"
	"strings"

	"briskwarden.example/briskwarden/internal/spell"
	"briskwarden.example/briskwarden/language/ast"
	"briskwarden.example/briskwarden/language/token"
)

// clause is one kind of clause that a block may hold. The order of a block's
// clauses is the order in which they must stand.
type clause struct {
	word     string
	parse    func(keyword token.Token)
	repeats  bool
	required bool
	begins   func(token.Token) bool // for a clause that no keyword begins; its first token is not taken
}

func (c *clause) matches(t token.Token) bool {
	if c.begins != nil {
		return c.begins(t)
	}
	return t.Kind == token.Word && t.Text == c.word
}

// plainData are the blocks whose clauses may stand in any order.
var plainData = map[string]bool{"user": true, "app": true, "action": true, "method": true, "caller": true}

// block parses "{ clauses }" in the order of the table, or in any order where they are plain data.
func (p *parser) block(h *ast.Block, table []clause) {
	h.Open = p.mark(token.LBrace).Pos
	seen := make([]bool, len(table))
	latest, whole := 0, true
	for p.peek().Kind != token.RBrace {
		if p.peek().Kind == token.EOF || p.atForeignDeclaration(table) {
			p.report(p.peek(), "end the block with \"}\"", "the block of %s %s that begins at line %d is not closed",
				h.Keyword.Text, h.Name, h.Open.Line)
			return
		}
		t := p.peek()
		i := slices.IndexFunc(table, func(c clause) bool { return c.matches(t) })
		if i < 0 {
			whole = false
			p.attempt(func() { p.unexpectedClause(h.Keyword.Text, wordsOf(table)) })
			p.recoverClause(table)
			continue
		}
		switch c := table[i]; {
		case seen[i] && !c.repeats:
			p.report(t, "leave one of them out", "%q stands twice in this %s", c.word, h.Keyword.Text)
		case i < latest && !plainData[h.Keyword.Text]:
			p.report(t, "the order is: "+order(table), "%q stands after %q", c.word, table[latest].word)
		}
		latest, seen[i] = max(latest, i), true
		h.Clauses = append(h.Clauses, t.Pos)
		if table[i].begins == nil {
			p.take()
		}
		if !p.attempt(func() { table[i].parse(t) }) {
			whole = false
			p.recoverClause(table)
		}
	}
	h.Close = p.take().Pos
	if whole {
		p.requireAll(h, table, seen)
	}
}

func (p *parser) requireAll(h *ast.Block, table []clause, seen []bool) {
	for i, c := range table {
		if c.required && !seen[i] {
			help := fmt.Sprintf("add %q; the order is: %s", c.word, order(table))
			if plainData[h.Keyword.Text] {
				help = fmt.Sprintf("add %q", c.word)
			}
			p.report(h.Keyword, help,
				"%s %s has no %q", h.Keyword.Text, h.Name, c.word)
		}
	}
}

// unexpectedClause fails with the clauses that could stand here.
func (p *parser) unexpectedClause(what string, words []string) {
	t := p.peek()
	help := "known here: " + strings.Join(words, ", ")
	if hint := spell.Hint(t.Text, words); hint != "" && t.Kind == token.Word {
		help = hint
	}
	switch word := strings.ToLower(t.Text); {
	case t.Kind != token.Word:
	case t.Text == "and" || t.Text == "or":
		help = "inside a list, write a comma"
	case slices.Contains(operators, word):
		help = fmt.Sprintf("write it in small letters: %s", word)
	}
	if t.Kind == token.EOF || t.Kind == token.RBrace {
		p.fail(help, "expected a clause of %s, found %s", what, t.Describe())
	}
	p.fail(help, "%s is no clause of %s", t.Describe(), what)
}

// recoverClause skips to the next line that begins a clause of the block, to the
// block's end, or to what can only be the next declaration.
func (p *parser) recoverClause(table []clause) {
	for depth := 0; ; p.take() {
		t := p.peek()
		switch {
		case t.Kind == token.EOF || p.atForeignDeclaration(table):
			return
		case t.Kind == token.LBrace:
			depth++
		case t.Kind == token.RBrace && depth == 0:
			return
		case t.Kind == token.RBrace:
			depth--
		case depth == 0 && p.firstOnLine() && slices.ContainsFunc(table, func(c clause) bool { return c.matches(t) }):
			return
		}
	}
}

// atForeignDeclaration reports whether the next token is, by its place at the start of a
// line, a declaration rather than a clause of the block: its "}" was forgotten.
func (p *parser) atForeignDeclaration(table []clause) bool {
	t := p.peek()
	if !p.firstOnLine() || t.Pos.Column != 1 || !isDeclaration(t) {
		return false
	}
	return !slices.ContainsFunc(table, func(c clause) bool { return c.matches(t) })
}

func wordsOf(table []clause) []string {
	words := make([]string, len(table))
	for i, c := range table {
		words[i] = c.word
	}
	return words
}

func order(table []clause) string { return strings.Join(wordsOf(table), ", ") }
