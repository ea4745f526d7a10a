package findings

// Comments that accept a finding.

import (
	"bytes"
	"slices"
	"strings"

	"briskwarden.example/briskwarden/internal/diag"
	"briskwarden.example/briskwarden/internal/spell"
	"briskwarden.example/briskwarden/language/ast"
	"briskwarden.example/briskwarden/language/token"
)

// accepted is a finding that a comment accepts, on the line above it:
//
//	# brisk: allow CODE because …
type accepted struct {
	diag.Diagnostic
	because string
}

// acceptance is one such comment.
type acceptance struct {
	at      ast.Name // the comment
	line    int32    // the line that it is about
	code    diag.Code
	because string
	used    bool
}

const marker = "# brisk:"

// accept takes the findings out that a comment accepts, and finds comments that accept nothing: those about
// every possible sign-on only where that was gone through.
func (c *checker) accept(exactly bool) (taken []accepted) {
	comments := c.acceptances()
	var left diag.List
	for _, d := range c.list {
		if a := comments.of(d); a != nil && d.Severity != diag.Error {
			a.used = true
			taken = append(taken, accepted{d, a.because})
			continue
		}
		left = append(left, d)
	}
	c.list = left
	for _, list := range comments {
		for _, a := range list {
			if !a.used && (exactly || !slices.Contains(exactCodes, a.code)) {
				c.warn(AcceptsNothing, a.at, "take the comment out", "nothing is found here that it could accept: %s", a.code)
			}
		}
	}
	slices.SortFunc(taken, func(a, b accepted) int {
		return strings.Compare(a.Pos.String(), b.Pos.String())
	})
	return taken
}

// comments are the acceptances of each file.
type comments map[string][]*acceptance

func (c comments) of(d diag.Diagnostic) *acceptance {
	for _, a := range c[d.Pos.File] {
		if a.line == d.Pos.Line && a.code == d.Code {
			return a
		}
	}
	return nil
}

// acceptances reads the comments. Several may stand above one line.
func (c *checker) acceptances() comments {
	found := comments{}
	for _, f := range c.rb.Files {
		var waiting []*acceptance
		n := int32(0)
		for line := range bytes.Lines(f.Source) {
			n++
			text := strings.TrimSpace(string(line))
			if strings.HasPrefix(text, marker) {
				column := int32(strings.Index(string(line), "#")) + 1
				at := ast.Name{Pos: token.Pos{File: f.Name, Line: n, Column: column}, Text: text}
				if a := c.acceptance(at, strings.TrimPrefix(text, marker)); a != nil {
					waiting = append(waiting, a)
				}
				continue
			}
			for _, a := range waiting {
				a.line = n
				found[f.Name] = append(found[f.Name], a)
			}
			waiting = nil
		}
		found[f.Name] = append(found[f.Name], waiting...) // at the file's end they are about nothing
	}
	return found
}

// acceptance reads "allow CODE because …".
func (c *checker) acceptance(at ast.Name, text string) *acceptance {
	const help = "write: # brisk: allow CODE because …"
	words := strings.Fields(text)
	if len(words) < 4 || words[0] != "allow" || words[2] != "because" {
		c.warn(UnclearAcceptance, at, help, "the comment does not say what it allows, and because of what")
		return nil
	}
	if codes := Codes(); !slices.Contains(codes, words[1]) {
		hint := spell.Hint(words[1], codes)
		if hint == "" {
			hint = help
		}
		c.warn(UnclearAcceptance, at, hint, "there is no finding %q", words[1])
		return nil
	}
	return &acceptance{at: at, code: diag.Code(words[1]), because: strings.Join(words[3:], " ")}
}
