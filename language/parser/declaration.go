package parser

// Declarations other than policies, waivers, promises and expectations.

import (
	"slices"
	"strings"

	"briskwarden.example/briskwarden/internal/spell"
	"briskwarden.example/briskwarden/language/ast"
	"briskwarden.example/briskwarden/language/token"
)

// declarations are the keywords that begin a declaration, in the order of the reference.
var declarations = []string{"rulebook", "attribute", "user", "group", "app", "action", "network", "countries", "schedule",
	"method", "demand", "baseline", "risk", "policy", "waiver", "scopes", "expect", "promise", "caller",
	"issuer", "signals", "alert", "digest"}

func isDeclaration(t token.Token) bool {
	return t.Kind == token.Word && slices.Contains(declarations, t.Text)
}

// declaration parses the next declaration, or returns nil after an error in its first words.
func (p *parser) declaration() (d ast.Decl) {
	t := p.peek()
	if !isDeclaration(t) {
		help := "a declaration begins with one of: " + strings.Join(declarations, ", ")
		if hint := spell.Hint(t.Text, declarations); hint != "" && t.Kind == token.Word {
			help = hint
		} else if t.Kind == token.RBrace {
			help = `there is one "}" too many`
		}
		p.report(t, help, "expected a declaration, found %s", t.Describe())
		p.recoverDeclaration()
		return nil
	}
	p.take()
	whole := p.attempt(func() { d = p.parseDeclaration(t) })
	if !whole {
		p.recoverDeclaration()
	}
	if d != nil {
		d.Head().End = p.last().Pos
	}
	return d
}

// recoverDeclaration skips to the next declaration keyword that begins a line outside any block.
func (p *parser) recoverDeclaration() {
	for depth := 0; p.peek().Kind != token.EOF; p.take() {
		switch t := p.peek(); {
		case t.Kind == token.LBrace:
			depth++
		case t.Kind == token.RBrace:
			depth = max(0, depth-1)
		case p.firstOnLine() && isDeclaration(t) && (depth == 0 || t.Pos.Column == 1) && p.next > 0:
			return
		}
	}
}

func (p *parser) head(keyword token.Token, what string) ast.Block {
	return ast.Block{Keyword: keyword, Name: p.name(what)}
}

func (p *parser) parseDeclaration(k token.Token) ast.Decl {
	switch k.Text {
	case "rulebook":
		return p.rulebook(k)
	case "attribute":
		return p.attribute(k)
	case "user":
		return p.user(k)
	case "group":
		return p.group(k)
	case "app":
		return p.app(k)
	case "action":
		return p.action(k)
	case "network":
		return p.network(k)
	case "countries":
		return p.countries(k)
	case "schedule":
		return p.schedule(k)
	case "method":
		return p.method(k)
	case "demand":
		return p.namedDemand(k)
	case "baseline":
		return p.baseline(k)
	case "risk":
		return p.risk(k)
	case "policy":
		return p.policy(k)
	case "waiver":
		return p.waiver(k)
	case "scopes":
		return p.scopes(k)
	case "expect":
		return p.expect(k)
	case "caller":
		return p.caller(k)
	case "issuer":
		return p.issuer(k)
	case "signals":
		return p.signals(k)
	case "alert":
		return p.alert(k)
	case "digest":
		return p.digest(k)
	default:
		return p.promise(k)
	}
}

func (p *parser) rulebook(k token.Token) ast.Decl {
	d := &ast.Rulebook{Block: p.head(k, "the rulebook's name")}
	p.block(&d.Block, []clause{
		{word: "timezone", parse: func(token.Token) { d.Timezone = p.text("a time zone") }},
		{word: "unmatched", parse: func(token.Token) { d.Unmatched = asName(p.word("block", "grant")) }},
		{word: "floor", parse: func(token.Token) {
			if p.is("none") {
				d.FloorNone = p.take().Pos
			} else {
				d.Floor = p.demand()
			}
		}},
		{word: "break-glass", parse: func(t token.Token) { d.BreakGlass = p.breakGlass(t) }},
		{word: "directory", parse: func(token.Token) { d.Directory = p.texts("a file") }},
		{word: "devices", parse: func(token.Token) { d.Devices = p.texts("a file") }},
		{word: "geo", parse: func(token.Token) { d.Geo = p.texts("a file") }},
		{word: "history", parse: func(token.Token) { d.History = p.texts("a file") }},
		{word: "texts", parse: func(token.Token) { d.Texts = p.texts("a file") }},
	})
	return d
}

func asName(t token.Token) ast.Name {
	return ast.Name{Pos: t.Pos, Text: t.Text, Quoted: t.Kind == token.String}
}

func (p *parser) breakGlass(t token.Token) *ast.BreakGlass {
	b := &ast.BreakGlass{Pos: t.Pos}
	b.Users = list(p, func() ast.Name {
		p.word("user")
		return p.name("a user")
	})
	p.mark(token.Arrow)
	b.Demand = p.demand()
	return b
}

func (p *parser) attribute(k token.Token) ast.Decl {
	d := &ast.Attribute{Block: p.head(k, "the attribute's name")}
	d.Type = asName(p.word("word", "yes-no", "number", "date"))
	if p.accept("default") {
		d.Default = p.name("the default")
	}
	if p.is("from") {
		d.FromRequest = p.take().Pos
		p.word("request")
	}
	if p.is("default") {
		p.fail(`an attribute has either "default" or "from request"`, `"default" stands after "from request"`)
	}
	return d
}

func (p *parser) user(k token.Token) ast.Decl {
	d := &ast.User{Block: p.head(k, "the user's id")}
	p.block(&d.Block, []clause{
		{word: "type", parse: func(token.Token) { d.Type = asName(p.word("employee", "guest", "service")) }},
		{word: "groups", parse: func(token.Token) { d.Groups = p.names("a group") }},
		{word: "methods", parse: func(token.Token) { d.Methods = p.names("a method") }},
		{word: "joined", parse: func(token.Token) { d.Joined = p.name("a date") }},
		{word: "risk", parse: func(token.Token) { d.Risk = asName(p.word("none", "low", "medium", "high")) }},
		{word: "active", parse: func(token.Token) { d.Active = asName(p.word("no", "yes")) }},
		{word: "attr", repeats: true, parse: func(token.Token) {
			d.Attrs = append(d.Attrs, ast.Attr{Name: p.name("an attribute"), Value: p.name("its value")})
		}},
	})
	return d
}

// braces parses "{ … }" around what is no list of clauses.
func (p *parser) braces(h *ast.Block, inside func()) {
	h.Open = p.mark(token.LBrace).Pos
	inside()
	h.Close = p.mark(token.RBrace).Pos
}

func (p *parser) group(k token.Token) ast.Decl {
	d := &ast.Group{Block: p.head(k, "the group's name")}
	p.braces(&d.Block, func() {
		if p.peek().Kind == token.RBrace {
			return
		}
		d.Members = list(p, func() ast.Selector {
			kind := asName(p.word("user", "group"))
			return ast.Selector{Kind: kind, Name: p.name("a " + kind.Text)}
		})
		if p.is("user") || p.is("group") {
			p.fail("between two members, write a comma", "expected \"}\", found %s", p.peek().Describe())
		}
	})
	return d
}

func (p *parser) app(k token.Token) ast.Decl {
	d := &ast.App{Block: p.head(k, "the app's name")}
	p.block(&d.Block, []clause{
		{word: "about", parse: func(token.Token) { d.About = p.text("what it is") }},
		{word: "tags", parse: func(token.Token) { d.Tags = p.names("a tag") }},
		{word: "url", parse: func(token.Token) { d.URL = p.text("a URL") }},
	})
	return d
}

func (p *parser) action(k token.Token) ast.Decl {
	d := &ast.Action{Block: p.head(k, "the action's name")}
	p.block(&d.Block, []clause{
		{word: "about", parse: func(token.Token) { d.About = p.text("what it is") }},
	})
	return d
}

func (p *parser) network(k token.Token) ast.Decl {
	d := &ast.Network{Block: p.head(k, "the network's name")}
	if p.is("trusted") {
		d.Trusted = p.take().Pos
	}
	if p.is("anonymous") {
		d.Anonymous = p.take().Pos
	}
	if p.accept("from") {
		d.From = p.texts("a file")
		return d
	}
	if p.peek().Kind != token.LBrace {
		p.want(`"trusted", "anonymous", "from" or "{"`)
	}
	p.braces(&d.Block, func() { d.Items = p.bare("an address, prefix or range") })
	return d
}

func (p *parser) countries(k token.Token) ast.Decl {
	d := &ast.Countries{Block: p.head(k, "the set's name")}
	p.braces(&d.Block, func() { d.Items = p.bare("a country or a set of countries") })
	return d
}

func (p *parser) scopes(k token.Token) ast.Decl {
	d := &ast.Scopes{Block: p.head(k, "the set's name")}
	if p.accept("weight") {
		d.Weight = p.name("a weight from 0 to 100")
	}
	p.braces(&d.Block, func() { d.Items = p.bare("a scope") })
	return d
}

// weekdays in the order of the week.
var weekdays = []string{"mon", "tue", "wed", "thu", "fri", "sat", "sun"}

func beginsWindow(t token.Token) bool {
	if t.Kind != token.Word {
		return false
	}
	first, _, _ := strings.Cut(t.Text, "-")
	return slices.Contains(weekdays, first)
}

func (p *parser) schedule(k token.Token) ast.Decl {
	d := &ast.Schedule{Block: p.head(k, "the schedule's name")}
	if p.accept("in") {
		d.Zone = p.text("a time zone")
	}
	p.block(&d.Block, []clause{
		{word: "mon-sun 00:00-24:00", begins: beginsWindow, repeats: true, parse: func(token.Token) {
			d.Windows = append(d.Windows, ast.Window{Days: p.name("a day"), Hours: p.name("hours such as 06:00-20:00")})
		}},
		{word: "except", repeats: true, parse: func(token.Token) {
			if p.accept("calendar") {
				d.Calendars = append(d.Calendars, p.texts("a calendar file")...)
			} else {
				d.Except = append(d.Except, p.names("a date, a range of dates or a calendar")...)
			}
		}},
		{word: "during", parse: func(token.Token) { d.During = p.names("a date or a range of dates") }},
	})
	return d
}

func (p *parser) method(k token.Token) ast.Decl {
	d := &ast.Method{Block: p.head(k, "the method's name")}
	flag := func(t token.Token) { d.Flags = append(d.Flags, asName(t)) }
	isFlag := func(t token.Token) bool {
		return t.Kind == token.Word && (t.Text == "hardware" || t.Text == "phishing-resistant" || t.Text == "verifies-user")
	}
	p.block(&d.Block, []clause{
		{word: "kind", required: true, parse: func(token.Token) { d.KindName = asName(p.word("knowledge", "possession", "inherence")) }},
		{word: "amr", parse: func(token.Token) { d.AMR = p.names("an amr value") }},
		{word: "hardware", begins: isFlag, repeats: true, parse: func(token.Token) { flag(p.take()) }},
		{word: "phishing-resistant", parse: flag},
		{word: "verifies-user", parse: flag},
	})
	for i, f := range d.Flags {
		for _, g := range d.Flags[:i] {
			if f.Text == g.Text {
				p.errors.Add(f.Pos, len(f.Text), "leave one of them out", "%q stands twice in this method", f.Text)
			}
		}
	}
	return d
}

func (p *parser) namedDemand(k token.Token) ast.Decl {
	d := &ast.NamedDemand{Block: p.head(k, "the demand's name")}
	p.braces(&d.Block, func() { d.Demand = p.demand() })
	return d
}

func (p *parser) baseline(k token.Token) ast.Decl {
	d := &ast.Baseline{Block: p.head(k, "the baseline's name")}
	p.block(&d.Block, []clause{
		{word: "check", repeats: true, required: true, parse: func(token.Token) {
			if p.peek().Kind == token.Word {
				p.fail(`say first what it checks: check "Disk is encrypted" device.encrypted`, "a check begins with its label, in quotes, found %s", p.peek().Describe())
			}
			d.Checks = append(d.Checks, ast.Check{Label: p.text("the check's label"), Cond: p.condition()})
		}},
	})
	return d
}

func (p *parser) risk(k token.Token) ast.Decl {
	d := &ast.Risk{Block: p.head(k, `"model"`)}
	p.block(&d.Block, []clause{
		{word: "add", repeats: true, parse: func(t token.Token) {
			f := ast.Factor{Pos: t.Pos, Add: p.name("a whole number from 1 to 100")}
			p.word("when")
			f.Cond = p.condition()
			d.Factors = append(d.Factors, f)
		}},
		{word: "band", parse: func(token.Token) {
			d.Bands = list(p, func() ast.Band {
				b := ast.Band{Name: p.name("a band")}
				p.word("to")
				b.To = p.name("the band's highest score")
				return b
			})
		}},
	})
	return d
}
