package parser

// Alerts.

import (
	"briskwarden.example/briskwarden/language/ast"
	"briskwarden.example/briskwarden/language/token"
)

func (p *parser) alert(k token.Token) ast.Decl {
	d := &ast.Alert{Block: p.head(k, "the alert's name")}
	p.block(&d.Block, []clause{
		{word: "about", parse: func(token.Token) { d.About = p.text("what it is for") }},
		{word: "owner", parse: func(token.Token) { d.Owner = p.text("who answers for it") }},
		{word: "when", required: true, parse: func(token.Token) { d.When = p.condition() }},
		{word: "on", parse: func(token.Token) {
			d.On = list(p, func() ast.Name { return asName(p.word("grant", "review", "step-up", "block")) })
		}},
		{word: "who", parse: func(t token.Token) { d.Who = p.selection(t, p.person) }},
		{word: "to", parse: func(t token.Token) { d.To = p.selection(t, p.target) }},
		{word: "at", parse: func(token.Token) {
			p.word("most")
			d.Most = p.name("a whole number")
			p.word("per")
			d.Per = asName(p.word("user", "app", "rulebook"))
			p.word("every")
			d.Every = p.duration()
		}},
		{word: "tell", parse: func(token.Token) { d.Tell = list(p, p.receiver) }},
	})
	return d
}

// receiver is an address, and for one on the web perhaps where its secret is.
func (p *parser) receiver() ast.Receiver {
	r := ast.Receiver{Address: p.text("an address: mailto: or https:")}
	if p.accept("secret-in") {
		r.SecretIn = p.name("a variable of the environment")
	}
	return r
}

// atLimit reports whether the next words are the clause "at most N per …" rather than the operator of a comparison.
func (p *parser) atLimit() bool {
	for i, word := range []string{"at", "most", "", "per"} {
		t := p.at(min(p.next+i, len(p.real)-1))
		if word != "" && (t.Kind != token.Word || t.Text != word) {
			return false
		}
	}
	return true
}
