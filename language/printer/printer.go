// Package printer gives a rulebook file its one layout. It lays out the very tokens that
// were scanned, so formatting can neither change the meaning nor lose a comment: the tree
// only says where lines begin.
package printer

import (
	"strings"
	"unicode/utf8"

	"briskwarden.example/briskwarden/language/ast"
	"briskwarden.example/briskwarden/language/parser"
	"briskwarden.example/briskwarden/language/token"
)

const (
	width  = 100 // a line is broken where it would grow longer, if it can be
	indent = 2   // of a clause in its block
	carry  = 4   // of a clause's further lines, beside the clause
)

// Format parses src and returns it in the one layout. A text that does not parse is an
// error, a [token.ErrorList], and is not formatted. The name is for positions only.
func Format(name string, src []byte) ([]byte, error) {
	file, err := parser.File(name, src)
	if err != nil {
		return nil, err
	}
	return Print(file), nil
}

// Print lays out a file that parsed without error.
func Print(file *ast.File) []byte {
	p := &printer{tokens: file.Tokens, hints: plan(file)}
	for i := range p.tokens {
		p.token(i)
	}
	if p.out.Len() > 0 {
		p.out.WriteByte('\n')
	}
	return []byte(p.out.String())
}

type printer struct {
	tokens []token.Token
	hints  map[token.Pos]hint
	out    strings.Builder
	column int
	base   int  // indent of the clause at hand
	long   bool // the clause at hand does not fit on one line
	fresh  bool // nothing stands on this line yet but its indent
}

func (p *printer) token(i int) {
	t := p.tokens[i]
	h := p.hints[t.Pos]
	switch {
	case t.Kind == token.EOF:
		return
	case i == 0:
		p.begin(0, false)
	case t.Kind == token.Comment:
		p.comment(i)
	case h.line:
		p.line(i, h.indent)
	case p.after(token.Comment, i):
		p.line(i, p.indentOf(i))
	case p.long && t.Kind == token.Arrow, p.soft(i) && p.column+p.gap(i)+p.chunk(i) > width:
		p.begin(p.base+carry, false)
	}
	if h.line || h.decl {
		p.base = h.indent
		p.long = p.clauseWidth(i) > width
	}
	if !p.fresh {
		p.write(strings.Repeat(" ", p.gap(i)))
	}
	p.fresh = false
	p.write(t.Raw)
	if h.pad > 0 {
		p.write(strings.Repeat(" ", max(0, h.pad-utf8.RuneCountInString(t.Raw))))
	}
}

// comment puts the comment on the line where its neighbour ended, if it stood there, else on its own.
func (p *printer) comment(i int) {
	if p.tokens[i-1].Pos.Line != p.tokens[i].Pos.Line {
		p.line(i, p.indentOf(i))
	}
}

// indentOf is the indent of what comes after the comments from i on.
func (p *printer) indentOf(i int) int {
	for ; p.tokens[i].Kind == token.Comment; i++ {
	}
	t := p.tokens[i]
	switch h, ok := p.hints[t.Pos]; {
	case t.Kind == token.EOF:
		return 0
	case ok && h.closes:
		return h.indent + indent
	case ok && (h.line || h.decl):
		return h.indent
	}
	return p.base + carry
}

// line begins a new line before token i, after an empty one where the author left one
// or where a declaration of several lines begins or ended.
func (p *printer) line(i, indent int) {
	before, t := p.tokens[i-1], p.tokens[i]
	empty := t.Pos.Line > before.Pos.Line+1 && before.Kind != token.LBrace && !p.hints[t.Pos].closes
	if t.Kind == token.Comment && p.closesNext(i) && before.Kind == token.LBrace {
		empty = false
	}
	if p.hints[before.Pos].last || before.Kind == token.Comment && p.lastBefore(i) {
		empty = empty || p.hints[before.Pos].several || p.nextSeveral(i)
	}
	p.begin(indent, empty)
}

func (p *printer) closesNext(i int) bool {
	for ; p.tokens[i].Kind == token.Comment; i++ {
	}
	return p.hints[p.tokens[i].Pos].closes
}

// lastBefore reports whether the comment before token i trails the last line of a
// declaration of several lines.
func (p *printer) lastBefore(i int) bool {
	if i < 2 {
		return false
	}
	comment, t := p.tokens[i-1], p.tokens[i-2]
	return comment.Pos.Line == t.Pos.Line && p.hints[t.Pos].last
}

// nextSeveral reports whether the next declaration from token i on takes several lines.
func (p *printer) nextSeveral(i int) bool {
	for ; i < len(p.tokens); i++ {
		if h := p.hints[p.tokens[i].Pos]; h.decl {
			return h.several
		}
	}
	return false
}

func (p *printer) begin(indent int, empty bool) {
	if p.out.Len() > 0 {
		p.out.WriteByte('\n')
		if empty {
			p.out.WriteByte('\n')
		}
	}
	p.out.WriteString(strings.Repeat(" ", indent))
	p.column, p.fresh = indent, true
}

func (p *printer) write(s string) {
	p.out.WriteString(s)
	p.column += utf8.RuneCountInString(s)
}

func (p *printer) after(k token.Kind, i int) bool { return i > 0 && p.tokens[i-1].Kind == k }

// gap is how many spaces stand between token i and the one before it on the same line.
func (p *printer) gap(i int) int {
	t := p.tokens[i]
	switch {
	case t.Kind == token.Comment || p.hints[t.Pos].wide:
		return 2
	case t.Kind == token.Comma || t.Kind == token.RParen || p.after(token.LParen, i):
		return 0
	}
	return 1
}

// soft reports whether a line may be broken before token i.
func (p *printer) soft(i int) bool {
	t := p.tokens[i]
	return p.hints[t.Pos].soft || p.after(token.Comma, i) || t.Kind == token.Arrow ||
		t.Kind == token.Word && (t.Text == "and" || t.Text == "or" || t.Text == "except")
}

// chunk is the width of what stays together from token i on.
func (p *printer) chunk(i int) int {
	n := utf8.RuneCountInString(p.tokens[i].Raw)
	for j := i + 1; j < len(p.tokens) && p.tokens[j].Kind != token.EOF && p.tokens[j].Kind != token.Comment; j++ {
		if h := p.hints[p.tokens[j].Pos]; h.line || h.decl || p.soft(j) {
			break
		}
		n += p.gap(j) + utf8.RuneCountInString(p.tokens[j].Raw)
	}
	return n
}

// clauseWidth is the width of the clause that begins at token i, were it on one line.
func (p *printer) clauseWidth(i int) int {
	n := p.column + max(p.hints[p.tokens[i].Pos].pad, utf8.RuneCountInString(p.tokens[i].Raw))
	for j := i + 1; j < len(p.tokens) && p.tokens[j].Kind != token.EOF; j++ {
		if h := p.hints[p.tokens[j].Pos]; h.line || h.decl {
			break
		}
		if p.tokens[j].Kind != token.Comment {
			n += p.gap(j) + utf8.RuneCountInString(p.tokens[j].Raw)
		}
	}
	return n
}
