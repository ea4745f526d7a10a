package parser

// Digests.

import (
	"briskwarden.example/briskwarden/language/ast"
	"briskwarden.example/briskwarden/language/token"
)

func (p *parser) digest(k token.Token) ast.Decl {
	d := &ast.Digest{Block: p.head(k, "the digest's name")}
	p.block(&d.Block, []clause{
		{word: "about", parse: func(token.Token) { d.About = p.text("what it is for") }},
		{word: "owner", parse: func(token.Token) { d.Owner = p.text("who answers for it") }},
		{word: "every", required: true, parse: func(token.Token) {
			d.Days = p.names("a day such as mon, or a range such as mon-fri")
			p.word("at")
			d.At = p.name("a time of day such as 07:00")
			if p.accept("in") {
				d.Zone = p.text("a time zone")
			}
		}},
		{word: "tell", parse: func(token.Token) { d.Tell = list(p, p.receiver) }},
	})
	return d
}
