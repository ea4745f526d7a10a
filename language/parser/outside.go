package parser

// Who asks the service, and whom it believes.

import (
	"briskwarden.example/briskwarden/language/ast"
	"briskwarden.example/briskwarden/language/token"
)

func (p *parser) caller(k token.Token) ast.Decl {
	d := &ast.Caller{Block: p.head(k, "the caller's name")}
	p.block(&d.Block, []clause{
		{word: "about", parse: func(token.Token) { d.About = p.text("what it is") }},
		{word: "token", repeats: true, parse: func(token.Token) {
			t := ast.CallerToken{Digest: p.text("a token's digest")}
			if p.accept("until") {
				t.Until = p.name("a date")
			}
			d.Tokens = append(d.Tokens, t)
		}},
		{word: "certificate", repeats: true, parse: func(token.Token) { d.Certificates = append(d.Certificates, p.text("a certificate's digest")) }},
		{word: "may", required: true, parse: func(token.Token) { d.May = p.names("what it may do") }},
		{word: "for", parse: func(t token.Token) { d.For = p.selection(t, p.target) }},
		{word: "from", parse: func(token.Token) {
			p.word("network")
			d.From = p.names("a network")
		}},
		{word: "sessions", parse: func(token.Token) { d.Sessions = p.name("a word") }},
	})
	return d
}

func (p *parser) issuer(k token.Token) ast.Decl {
	d := &ast.Issuer{Block: p.head(k, "the issuer's name")}
	p.block(&d.Block, []clause{
		{word: "url", required: true, parse: func(token.Token) { d.URL = p.text("the issuer's address") }},
		{word: "keys", required: true, parse: func(token.Token) { d.Keys = p.text("a file, or an https address") }},
		{word: "audience", required: true, repeats: true, parse: func(token.Token) {
			a := ast.Audience{Name: p.text("for whom its tokens are")}
			if p.is("for") {
				a.For = p.selection(p.take(), p.target)
			}
			d.Audience = append(d.Audience, a)
		}},
		{word: "cookie", parse: func(token.Token) { d.Cookie = p.text("a cookie's name") }},
		{word: "who", required: true, parse: func(t token.Token) { d.Who = p.selection(t, p.person) }},
		{word: "sign-on", required: true, parse: func(token.Token) { d.SignOn = p.text("the address where people sign on") }},
		{word: "sessions", parse: func(token.Token) { d.Sessions = p.name("a word") }},
	})
	return d
}

func (p *parser) signals(k token.Token) ast.Decl {
	d := &ast.Signals{Block: p.head(k, "the source's name")}
	p.block(&d.Block, []clause{
		{word: "from", required: true, parse: func(token.Token) { d.From = p.text("the sender's address") }},
		{word: "keys", required: true, parse: func(token.Token) { d.Keys = p.text("a file, or an https address") }},
		{word: "audience", required: true, parse: func(token.Token) { d.Audience = p.text("for whom its signals are") }},
		{word: "accept", required: true, parse: func(token.Token) { d.Accept = p.names("an event") }},
		{word: "poll", parse: func(token.Token) {
			d.Poll = p.text("the address to ask")
			p.word("token-in")
			d.TokenIn = p.name("a variable of the environment")
		}},
	})
	return d
}
