package parser

// Policies, waivers and promises.

import (
	"briskwarden.example/briskwarden/language/ast"
	"briskwarden.example/briskwarden/language/token"
)

func (p *parser) policy(k token.Token) ast.Decl {
	d := &ast.Policy{Block: p.head(k, "the policy's name")}
	table := []clause{
		{word: "about", parse: func(token.Token) { d.About = p.text("what it is for") }},
		{word: "owner", parse: func(token.Token) { d.Owner = p.text("who answers for it") }},
	}
	table = append(table, p.scopeClauses(&d.Scope)...)
	table = append(table,
		clause{word: "stage", repeats: true, parse: func(t token.Token) { d.Stages = append(d.Stages, p.stage(t)) }},
		clause{word: "case", repeats: true, parse: func(t token.Token) {
			c := ast.Case{Pos: t.Pos, Label: p.text("the case's label")}
			p.word("when")
			c.Cond = p.condition()
			p.mark(token.Arrow)
			c.Outcome = p.outcome()
			d.Cases = append(d.Cases, c)
		}},
		clause{word: "otherwise", required: true, parse: func(t token.Token) {
			c := ast.Case{Pos: t.Pos, Label: ast.Name{Pos: t.Pos, Text: "otherwise", Quoted: true}, Otherwise: true}
			p.mark(token.Arrow)
			c.Outcome = p.outcome()
			d.Cases = append(d.Cases, c)
		}},
		clause{word: "session", parse: func(t token.Token) { d.Session = p.session(t) }},
	)
	p.block(&d.Block, table)
	return d
}

// scopeClauses are the who, to and doing that policies, waivers and promises share.
func (p *parser) scopeClauses(s *ast.Scope) []clause {
	return []clause{
		{word: "who", required: true, parse: func(t token.Token) { s.Who = p.selection(t, p.person) }},
		{word: "to", required: true, parse: func(t token.Token) { s.To = p.selection(t, p.target) }},
		{word: "doing", parse: func(token.Token) { s.Doing = p.names("an action") }},
	}
}

func (p *parser) selection(t token.Token, item func() ast.Selector) ast.Selection {
	s := ast.Selection{Pos: t.Pos, Items: list(p, item)}
	if p.accept("except") {
		s.Except = list(p, item)
	}
	return s
}

func (p *parser) person() ast.Selector {
	kind := asName(p.word("everyone", "people", "group", "user", "type", "domain"))
	switch kind.Text {
	case "everyone", "people":
		return ast.Selector{Kind: kind}
	case "type":
		return ast.Selector{Kind: kind, Name: asName(p.word("employee", "guest", "service"))}
	}
	return ast.Selector{Kind: kind, Name: p.name("a " + kind.Text)}
}

func (p *parser) target() ast.Selector {
	kind := asName(p.word("everything", "app", "tag"))
	if kind.Text == "everything" {
		return ast.Selector{Kind: kind}
	}
	return ast.Selector{Kind: kind, Name: p.name("its name")}
}

func (p *parser) stage(t token.Token) ast.Stage {
	s := ast.Stage{Pos: t.Pos, Stage: asName(p.word("draft", "watch", "enforce"))}
	if p.is("for") {
		s.For = p.selection(p.take(), p.person)
	}
	if p.accept("from") {
		s.From = p.name("a date")
	}
	return s
}

func (p *parser) session(t token.Token) *ast.Session {
	s := &ast.Session{Pos: t.Pos}
	if p.word("lasts", "idle").Text == "lasts" {
		s.Lasts = p.duration()
		if p.peek().Kind != token.Comma {
			return s
		}
		p.take()
		p.word("idle")
	}
	s.Idle = p.duration()
	return s
}

func (p *parser) outcome() ast.Outcome {
	t := p.word("grant", "review", "step-up", "block", "abstain")
	o := ast.Outcome{Pos: t.Pos, Word: asName(t)}
	switch t.Text {
	case "review":
		p.word("by")
		p.word("group")
		o.Group = p.name("a group")
	case "step-up":
		o.Demand = p.demand()
	case "block":
		if p.peek().Kind == token.String {
			o.Message = p.text("the message")
		}
	}
	return o
}

func (p *parser) waiver(k token.Token) ast.Decl {
	d := &ast.Waiver{Block: p.head(k, "the waiver's name")}
	scope := p.scopeClauses(&d.Scope)
	p.block(&d.Block, []clause{
		{word: "because", required: true, parse: func(token.Token) { d.Because = p.text("the reason") }},
		{word: "owner", required: true, parse: func(token.Token) { d.Owner = p.text("who answers for it") }},
		scope[0],
		scope[1],
		{word: "when", parse: func(token.Token) { d.When = p.condition() }},
		{word: "lifts", required: true, parse: func(token.Token) { d.Lifts = list(p, p.lift) }},
		{word: "until", required: true, parse: func(token.Token) { d.Until = p.name("a date") }},
	})
	return d
}

func (p *parser) lift() ast.Lift {
	l := ast.Lift{Pos: p.peek().Pos}
	switch {
	case p.accept("everything"):
		l.Kind = ast.LiftEverything
	case p.is("device") && p.peekAfter().Text == "meets":
		p.take()
		p.take()
		l.Kind, l.Name = ast.LiftDevice, p.name("a baseline")
	default:
		l.Name = p.name("a method, a demand or \"everything\"")
	}
	return l
}

func (p *parser) promise(k token.Token) ast.Decl {
	d := &ast.Promise{Block: p.head(k, "what is promised")}
	outcomes := []string{"grant", "review", "step-up", "block"}
	said := 0
	form := func(t token.Token, f ast.PromiseForm) {
		d.Pos, d.Form = t.Pos, f
		said++
	}
	table := append(p.scopeClauses(&d.Scope),
		clause{word: "when", parse: func(token.Token) { d.When = p.condition() }},
		clause{word: "always", parse: func(t token.Token) {
			form(t, ast.PromiseAlways)
			d.Outcome = asName(p.word(outcomes...))
		}},
		clause{word: "never", parse: func(t token.Token) {
			w := p.word(append(outcomes, "locked")...)
			switch {
			case w.Text == "locked":
				p.word("out")
				form(t, ast.PromiseNeverLockedOut)
				return
			case w.Text == "grant" && p.accept("without"):
				form(t, ast.PromiseNeverWithout)
				d.Without = p.demand()
			default:
				form(t, ast.PromiseNever)
			}
			d.Outcome = asName(w)
		}},
	)
	before := len(*p.errors)
	p.block(&d.Block, table)
	if len(*p.errors) != before || said == 1 {
		return d
	}
	promised := "nothing"
	if said > 1 {
		promised = "two things"
	}
	p.report(k, `end it with "always OUTCOME", "never OUTCOME", "never grant without DEMAND" or "never locked out"`,
		"promise %s promises %s", d.Name, promised)
	return d
}
