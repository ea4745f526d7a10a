package printer

// Where lines begin.

import (
	"strings"
	"unicode/utf8"

	"briskwarden.example/briskwarden/language/ast"
	"briskwarden.example/briskwarden/language/token"
)

// hint is what the layout knows of the token at one place.
type hint struct {
	decl    bool // begins a declaration
	last    bool // ends a declaration
	several bool // of a declaration's first and last token: it takes several lines
	line    bool // begins a line, at indent
	closes  bool // the "}" of a block of several lines
	soft    bool // may begin a further line of its clause
	wide    bool // two spaces stand before it
	indent  int
	pad     int // a keyword's width, for the clauses of a block to stand in a column
}

// pads are the columns at which clauses go on, by block; they do not depend on which
// clauses are there, so that adding one never moves the others.
var pads = map[string]map[string]int{
	"rulebook": column(11, "timezone", "unmatched", "floor", "break-glass", "directory", "devices", "geo", "history", "texts"),
	"user":     column(7, "type", "groups", "methods", "joined", "risk", "active", "attr"),
	"app":      column(5, "about", "tags", "url"),
	"policy":   column(5, "about", "owner", "who", "to", "doing", "stage"),
	"waiver":   column(7, "because", "owner", "who", "to", "when", "lifts", "until"),
	"caller":   column(6, "about", "token", "certificate", "may", "for", "from", "sessions"),
	"issuer":   column(8, "url", "keys", "audience", "cookie", "who", "sign-on", "sessions"),
	"signals":  column(8, "from", "keys", "audience", "accept", "poll"),
	"alert":    column(5, "about", "owner", "when", "on", "who", "to", "at", "tell"),
	"digest":   column(5, "about", "owner", "every", "tell"),
	"promise":  column(5, "who", "to", "doing", "when"),
	"schedule": column(7, "mon", "tue", "wed", "thu", "fri", "sat", "sun", "except", "during"),
}

func column(width int, words ...string) map[string]int {
	m := make(map[string]int, len(words))
	for _, w := range words {
		m[w] = width
	}
	return m
}

// flattens are the declarations that stand on one line when they fit.
var flattens = map[string]bool{"user": true, "group": true, "app": true, "action": true, "network": true, "countries": true,
	"method": true, "demand": true, "scopes": true}

type planner struct {
	tokens []token.Token
	at     map[token.Pos]int // the index of the token at a place
	hints  map[token.Pos]hint
}

func plan(file *ast.File) map[token.Pos]hint {
	p := &planner{tokens: file.Tokens, at: make(map[token.Pos]int, len(file.Tokens)), hints: map[token.Pos]hint{}}
	for i, t := range file.Tokens {
		p.at[t.Pos] = i
	}
	for _, d := range file.Decls {
		p.declaration(d)
	}
	return p.hints
}

func (p *planner) set(pos token.Pos, change func(*hint)) {
	h := p.hints[pos]
	change(&h)
	p.hints[pos] = h
}

func (p *planner) declaration(d ast.Decl) {
	b := d.Head()
	p.spread(b)
	several := b.Open.IsValid() && !p.fitsFlat(b)
	p.set(b.Keyword.Pos, func(h *hint) { h.decl, h.line, h.several = true, true, several })
	p.set(b.End, func(h *hint) { h.last, h.several = true, several })
	switch {
	case !b.Open.IsValid():
		return
	case !several:
		for _, c := range b.Clauses[min(1, len(b.Clauses)):] {
			p.set(c, func(h *hint) { h.wide = true })
		}
		return
	case len(b.Clauses) == 0:
		for i := p.at[b.Open] + 1; i < p.at[b.Close]; i++ {
			if t := p.tokens[i]; t.Kind != token.Comment {
				p.set(t.Pos, func(h *hint) { h.line, h.indent, h.wide = true, indent, false })
				break
			}
		}
	}
	p.set(b.Close, func(h *hint) { h.line, h.closes = true, true })
	expect, _ := d.(*ast.Expect)
	for i, c := range b.Clauses {
		if expect != nil && i > 0 && c != expect.Arrow {
			p.set(c, func(h *hint) { h.soft, h.wide = true, true })
			continue
		}
		p.set(c, func(h *hint) { h.line, h.indent, h.pad = true, indent, p.pad(b, c) })
	}
}

func (p *planner) pad(b *ast.Block, clause token.Pos) int {
	word := p.tokens[p.at[clause]].Text
	if day, _, isRange := strings.Cut(word, "-"); isRange && b.Keyword.Text == "schedule" {
		word = day
	}
	return pads[b.Keyword.Text][word]
}

// spread sets the items of a set apart where no comma does it.
func (p *planner) spread(b *ast.Block) {
	switch b.Keyword.Text {
	case "network", "countries", "scopes":
	default:
		return
	}
	for i := p.at[b.Open] + 1; b.Open.IsValid() && i < p.at[b.Close]; i++ {
		t := p.tokens[i]
		if k := p.before(i).Kind; t.Kind != token.Comment && t.Kind != token.Comma && k != token.Comma && k != token.LBrace {
			p.set(t.Pos, func(h *hint) { h.soft, h.wide = true, true })
		}
	}
}

// before is the last token before i that is no comment.
func (p *planner) before(i int) token.Token {
	for i--; p.tokens[i].Kind == token.Comment; i-- {
	}
	return p.tokens[i]
}

// fitsFlat reports whether the block can stand on the line of its keyword.
func (p *planner) fitsFlat(b *ast.Block) bool {
	from, to := p.at[b.Keyword.Pos], p.at[b.Close]
	content := to - p.at[b.Open] - 1
	if content > 0 && !flattens[b.Keyword.Text] {
		return false
	}
	n := 0
	for i := from; i <= to; i++ {
		if p.tokens[i].Kind == token.Comment {
			return false
		}
		n += utf8.RuneCountInString(p.tokens[i].Raw)
		if p.tokens[i].Kind != token.Comma {
			n++
		}
		if p.hints[p.tokens[i].Pos].wide {
			n++
		}
	}
	return n-1+len(b.Clauses) <= width
}
