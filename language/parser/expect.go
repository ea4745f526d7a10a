package parser

// Expectations, and sign-ons told in clauses.

import (
	"slices"

	"briskwarden.example/briskwarden/language/ast"
	"briskwarden.example/briskwarden/language/token"
)

// signOnWords are the clauses of a sign-on, which stand in any order.
var signOnWords = []string{"user", "app", "doing", "ip", "country", "at", "client", "device", "session", "presenting", "having", "risk",
	"client-app", "publisher", "scopes", "for", "suppose"}

func (p *parser) expect(k token.Token) ast.Decl {
	d := &ast.Expect{Block: p.head(k, "the expectation's name")}
	d.Open = p.mark(token.LBrace).Pos
	d.SignOn.Pos = p.peek().Pos
	p.signOn(&d.SignOn, &d.Block)
	if p.peek().Kind != token.Arrow {
		p.unexpectedClause("expect", append(slices.Clone(signOnWords), "=>"))
	}
	d.Arrow = p.take().Pos
	d.Clauses = append(d.Clauses, d.Arrow)
	d.Outcome = asName(p.word("grant", "review", "step-up", "block"))
	if p.accept("by") {
		d.By = p.name("a policy")
		if p.peek().Kind == token.String {
			d.Case = p.text("a case")
		}
	}
	if p.accept("asking") {
		d.Asking = p.names("a method")
	}
	d.Close = p.mark(token.RBrace).Pos
	return d
}

// signOn parses clauses as long as they come, and notes in the head, if any, where they begin.
func (p *parser) signOn(s *ast.SignOn, h *ast.Block) {
	seen := map[string]bool{}
	for {
		t := p.peek()
		if t.Kind != token.Word || !slices.Contains(signOnWords, t.Text) {
			return
		}
		if seen[t.Text] && t.Text != "having" {
			p.fail("leave one of them out", "%q stands twice in this sign-on", t.Text)
		}
		seen[t.Text] = true
		if h != nil {
			h.Clauses = append(h.Clauses, t.Pos)
		}
		p.take()
		p.signOnClause(s, t)
	}
}

func (p *parser) signOnClause(s *ast.SignOn, t token.Token) {
	switch t.Text {
	case "user":
		s.User = p.name("a user")
	case "app":
		s.App = p.name("an app")
	case "doing":
		s.Doing = p.name("an action")
	case "ip":
		s.IP = p.name("an address")
	case "country":
		s.Country = p.name("a country")
	case "at":
		s.At = p.name("an instant")
	case "client":
		kinds := []string{"browser", "native", "legacy", "unattended"}
		if p.consent && !slices.ContainsFunc(kinds, p.is) {
			s.ClientApp = p.name("a client application's id")
			return
		}
		s.Client = asName(p.word(kinds...))
	case "device":
		s.Device = p.device(t)
	case "session":
		s.Session = p.name("a session's id")
		if p.accept("started") {
			s.Started = p.name("an instant")
		}
	case "presenting":
		s.Presented = p.names("a method")
	case "having":
		s.Having = append(s.Having, p.having(t))
	case "risk":
		s.Risk = p.name("a number")
	case "client-app":
		s.ClientApp = p.name("a client application's id")
	case "publisher":
		s.Publisher = p.name("a publisher")
		s.Verified = p.accept("verified")
	case "scopes":
		s.Scopes = p.names("a scope")
	case "suppose":
		s.Suppose = list(p, p.supposed)
	case "for":
		s.For = asName(p.word("self", "everyone", "group"))
		if s.For.Text == "group" {
			s.Group = p.name("a group")
			s.Owner = p.accept("owner")
		}
	}
}

// supposed parses a fact and its value, which may be unknown.
func (p *parser) supposed() ast.Attr {
	a := ast.Attr{Name: p.name("a fact")}
	if p.is("unknown") {
		a.Value = asName(p.take())
	} else {
		a.Value = p.name("its value")
	}
	return a
}

func (p *parser) device(t token.Token) *ast.Device {
	d := &ast.Device{Pos: t.Pos}
	if p.peek().Kind != token.LBrace {
		d.ID = p.name("a device's id")
	}
	if p.peek().Kind != token.LBrace {
		return d
	}
	d.Open = p.take().Pos
	for p.peek().Kind != token.RBrace {
		d.Fields = append(d.Fields, ast.Attr{Name: p.name("what is known of the device"), Value: p.name("its value")})
		if p.peek().Kind == token.Comma {
			p.fail("leave the comma out", "expected the next field, found %s", p.peek().Describe())
		}
	}
	p.take()
	return d
}

func (p *parser) having(t token.Token) ast.Having {
	h := ast.Having{Pos: t.Pos, Method: p.name("a method"), Age: p.duration()}
	if p.is("in") {
		p.take()
		p.word("session")
		h.Session = p.name("a session's id")
	}
	if p.is("on") {
		p.take()
		p.word("device")
		h.Device = p.name("a device's id")
	}
	if p.is("for") && !slices.Contains([]string{"self", "everyone", "group"}, p.peekAfter().Text) {
		p.take()
		p.word("app")
		h.App = p.name("an app")
	}
	return h
}
