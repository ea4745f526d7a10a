// Package parser turns the text of a rulebook file into its tree. After an error it
// recovers at the next clause or declaration and goes on, so that one run reports
// at least one error for each broken declaration.
package parser

import (
	"fmt"
	"slices"
	"strings"
	"unicode/utf8"

	"briskwarden.example/briskwarden/internal/spell"
	"briskwarden.example/briskwarden/language/ast"
	"briskwarden.example/briskwarden/language/scanner"
	"briskwarden.example/briskwarden/language/token"
)

// maxDepth is how deep parentheses, "not" and "surely" may nest.
const maxDepth = 200

// File parses one source file. The tree holds whatever could be read; the error,
// if any, is a [token.ErrorList] sorted by place.
func File(name string, src []byte) (*ast.File, error) {
	var errors token.ErrorList
	file := &ast.File{Name: name, Tokens: scanner.All(name, src, &errors)}
	p := newParser(file.Tokens, &errors)
	for p.peek().Kind != token.EOF {
		if d := p.declaration(); d != nil {
			file.Decls = append(file.Decls, d)
		}
	}
	errors.Sort()
	return file, errors.Err()
}

// SignOn parses a sign-on told in the clauses of an expectation, as the command line takes them.
func SignOn(name, src string) (*ast.SignOn, error) { return signOn(name, src, false) }

// Consent parses a request for consent told in the same clauses, where "client" names the
// client application, unless what follows is a kind of client.
func Consent(name, src string) (*ast.SignOn, error) { return signOn(name, src, true) }

func signOn(name, src string, consent bool) (*ast.SignOn, error) {
	var errors token.ErrorList
	p := newParser(scanner.All(name, []byte(src), &errors), &errors)
	p.consent = consent
	s := &ast.SignOn{Pos: p.peek().Pos}
	p.attempt(func() {
		p.signOn(s, nil)
		if p.peek().Kind != token.EOF {
			p.unexpectedClause("a sign-on", signOnWords)
		}
	})
	errors.Sort()
	return s, errors.Err()
}

type parser struct {
	tokens []token.Token
	real   []int32 // the indexes of those that are no comments; the last is EOF
	next   int     // in real
	depth  int

	consent bool // "client" names a client application

	errors *token.ErrorList
}

func newParser(tokens []token.Token, errors *token.ErrorList) *parser {
	p := &parser{tokens: tokens, real: make([]int32, 0, len(tokens)), errors: errors}
	for i, t := range tokens {
		if t.Kind != token.Comment {
			p.real = append(p.real, int32(i))
		}
	}
	return p
}

// at is the token of an index in real.
func (p *parser) at(i int) token.Token { return p.tokens[p.real[i]] }

// bail is what a broken clause panics with; attempt catches it.
type bail struct{}

// attempt runs f and reports whether it came through without an error that ends it.
func (p *parser) attempt(f func()) (ok bool) {
	depth := p.depth
	defer func() {
		if r := recover(); r != nil {
			if _, is := r.(bail); !is {
				panic(r)
			}
			p.depth, ok = depth, false
		}
	}()
	f()
	return true
}

func (p *parser) peek() token.Token { return p.at(p.next) }

func (p *parser) peekAfter() token.Token { return p.at(min(p.next+1, len(p.real)-1)) }

func (p *parser) take() token.Token {
	t := p.at(p.next)
	if t.Kind != token.EOF {
		p.next++
	}
	return t
}

func (p *parser) last() token.Token { return p.at(max(0, p.next-1)) }

// firstOnLine reports whether the next token begins its line.
func (p *parser) firstOnLine() bool {
	return p.next == 0 || p.at(p.next-1).Pos.Line < p.peek().Pos.Line
}

// is reports whether the next token is the bare word.
func (p *parser) is(word string) bool {
	t := p.peek()
	return t.Kind == token.Word && t.Text == word
}

// accept takes the bare word if it is next.
func (p *parser) accept(word string) bool {
	if p.is(word) {
		p.next++
		return true
	}
	return false
}

func (p *parser) report(t token.Token, help, format string, args ...any) {
	span := max(1, utf8.RuneCountInString(t.Raw))
	p.errors.Add(t.Pos, span, help, format, args...)
}

// fail reports an error at the next token and ends the clause.
func (p *parser) fail(help, format string, args ...any) {
	p.report(p.peek(), help, format, args...)
	panic(bail{})
}

// want fails with what was expected in place of the next token.
func (p *parser) want(expected string) {
	t := p.peek()
	p.fail(p.habit(), "expected %s, found %s", expected, t.Describe())
}

// habit is what to write in place of what people write who are used to other languages; "" where nothing looks like it.
func (p *parser) habit() string {
	t, before := p.peek(), p.last()
	if t.Kind == token.Word && t.Text == "and" {
		return "inside a list, write a comma"
	}
	for _, word := range []token.Token{t, before} {
		if small := strings.ToLower(word.Text); word.Kind == token.Word && small != word.Text && slices.Contains(operators, small) {
			return "write it in small letters: " + small
		}
	}
	if before.Kind == token.Word && t.Kind == token.Word {
		if short := ShortDuration(before.Text, t.Text); short != "" && ShortDuration(before.Text, "") == "" {
			return "write " + short
		}
	}
	return ""
}

var operators = []string{"and", "or", "not", "surely"}

func (p *parser) mark(k token.Kind) token.Token {
	if p.peek().Kind != k {
		p.want(k.String())
	}
	return p.take()
}

// word takes one of the given bare words.
func (p *parser) word(words ...string) token.Token {
	t := p.peek()
	for _, w := range words {
		if p.is(w) {
			return p.take()
		}
	}
	help := ""
	if t.Kind == token.Word {
		help = spell.Hint(t.Text, words)
		if other := synonyms[strings.ToLower(t.Text)]; slices.Contains(words, other) {
			help = "write " + other
		}
	}
	p.fail(help, "expected %s, found %s", alternatives(words), t.Describe())
	return t
}

// synonyms are words that people write for one of the language's.
var synonyms = map[string]string{"allow": "grant", "permit": "grant", "accept": "grant", "deny": "block", "reject": "block", "refuse": "block",
	"require": "step-up", "challenge": "step-up", "skip": "abstain", "everybody": "everyone", "anyone": "everyone", "all": "everyone"}

// name takes a name or value: a word that is not reserved, or a string.
func (p *parser) name(what string) ast.Name {
	t := p.peek()
	switch {
	case t.Kind == token.String && t.Text == "":
		p.fail("", "expected %s, found an empty string", what)
	case t.Kind == token.String:
	case t.Kind != token.Word:
		p.want(what)
	case token.IsReserved(t.Text):
		help := fmt.Sprintf("%q is a reserved word: as a name it is put in double quotes", t.Text)
		if t.Text == "and" || t.Text == "or" {
			help = "inside a list, write a comma"
		}
		p.fail(help, "expected %s, found %s", what, t.Describe())
	}
	p.take()
	return ast.Name{Pos: t.Pos, Text: t.Text, Quoted: t.Kind == token.String}
}

// text takes a string; it may be empty only where that says something.
func (p *parser) text(what string) ast.Name {
	t := p.peek()
	if t.Kind != token.String {
		help := ""
		if t.Kind == token.Word {
			help = "put it in double quotes"
		}
		p.fail(help, "expected %s in double quotes, found %s", what, t.Describe())
	}
	p.take()
	return ast.Name{Pos: t.Pos, Text: t.Text, Quoted: true}
}

// list takes a comma list.
func list[T any](p *parser, item func() T) []T {
	items := []T{item()}
	for p.peek().Kind == token.Comma {
		p.take()
		items = append(items, item())
	}
	return items
}

func (p *parser) names(what string) []ast.Name {
	return list(p, func() ast.Name { return p.name(what) })
}

func (p *parser) texts(what string) []ast.Name {
	return list(p, func() ast.Name { return p.text(what) })
}

// bare takes names with or without commas, up to a closing brace.
func (p *parser) bare(what string) (items []ast.Name) {
	for p.peek().Kind != token.RBrace {
		items = append(items, p.name(what))
		if p.peek().Kind == token.Comma {
			p.take()
			if p.peek().Kind == token.RBrace {
				p.want(what)
			}
		}
	}
	return items
}

func alternatives(words []string) string {
	quoted := make([]string, len(words))
	for i, w := range words {
		quoted[i] = fmt.Sprintf("%q", w)
	}
	if n := len(quoted); n > 1 {
		return strings.Join(quoted[:n-1], ", ") + " or " + quoted[n-1]
	}
	return quoted[0]
}

func (p *parser) nest() {
	if p.depth++; p.depth > maxDepth {
		p.fail("take a part out into a declaration of its own", "nested more than %d deep", maxDepth)
	}
}
