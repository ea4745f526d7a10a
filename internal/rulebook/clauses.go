package rulebook

// A sign-on that is told in clauses.

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"briskwarden.example/briskwarden/internal/condition"
	"briskwarden.example/briskwarden/internal/fact"
	"briskwarden.example/briskwarden/internal/posture"
	"briskwarden.example/briskwarden/internal/schedule"
	"briskwarden.example/briskwarden/internal/spell"
	"briskwarden.example/briskwarden/language/ast"
	"briskwarden.example/briskwarden/language/parser"
	"briskwarden.example/briskwarden/language/token"
	"briskwarden.example/briskwarden/signon"
)

// Tell turns a sign-on told in clauses into one that can be decided. The clock stands in
// for a missing "at"; ages count back from it. The error, if any, is a [token.ErrorList].
func (rb *Rulebook) Tell(s *ast.SignOn, clock time.Time) (signon.SignOn, error) {
	var errors token.ErrorList
	b := clauseBinder{rb: rb, clock: clock, errors: &errors}
	so := b.signOn(s)
	return so, errors.Err()
}

// TellClauses reads a sign-on that is told in clauses.
func (rb *Rulebook) TellClauses(clauses string, clock time.Time) (signon.SignOn, error) {
	tree, err := parser.SignOn("clauses", clauses)
	if err != nil {
		return signon.SignOn{}, err
	}
	return rb.Tell(tree, clock)
}

type clauseBinder struct {
	rb     *Rulebook
	clock  time.Time
	errors *token.ErrorList
}

// fail reports an error at the value of a clause.
func (b *clauseBinder) fail(n ast.Name, help, format string, args ...any) {
	b.errors.Add(n.Pos, len([]rune(n.String())), help, format, args...)
}

// signOn reads the values of the clauses. What is wrong with them is added to the errors.
func (b *clauseBinder) signOn(s *ast.SignOn) signon.SignOn {
	so := signon.SignOn{User: s.User.Text, App: s.App.Text, Action: s.Doing.Text, Client: signon.Client(s.Client.Text),
		Time: b.instant(s.At), Session: signon.Session{ID: s.Session.Text, Started: b.instant(s.Started)}}
	if s.IP.Given() {
		a, err := signon.ParseAddr(s.IP.Text)
		if err != nil {
			b.fail(s.IP, "", "%v", err)
		}
		so.IP = a
	}
	if so.Country = s.Country.Text; s.Country.Given() && !signon.IsCountry(so.Country) {
		b.fail(s.Country, countryHelp(so.Country), "there is no country %q", so.Country)
	}
	if s.Risk.Given() {
		x, ok := condition.ParseNumber(s.Risk.Text)
		if !ok {
			b.fail(s.Risk, "write a number such as 80", "%q is no number", s.Risk.Text)
		}
		so.Risk = &x
	}
	for _, m := range s.Presented {
		so.Presented = append(so.Presented, m.Text)
	}
	now := so.Time
	if now.IsZero() {
		now = b.clock
	}
	for _, h := range s.Having {
		so.Evidence = append(so.Evidence, signon.Evidence{Method: h.Method.Text, Time: now.Add(-h.Age.Elapsed()),
			Session: h.Session.Text, Device: h.Device.Text, App: h.App.Text})
	}
	if s.Device != nil {
		so.Device = b.device(s.Device)
	}
	so.Consent = b.consent(s)
	so.Suppose = b.supposed(s.Suppose)
	return so
}

// supposed are facts as if they were so.
func (b *clauseBinder) supposed(list []ast.Attr) map[string]any {
	if len(list) == 0 {
		return nil
	}
	facts := map[string]any{}
	for _, a := range list {
		f, err := b.rb.Supposable(a.Name.Text)
		if err != nil {
			what, help, _ := strings.Cut(err.Error(), "; ")
			b.fail(a.Name, help, "%s", what)
			continue
		}
		if _, twice := facts[f.Name]; twice {
			b.fail(a.Name, "leave one of them out", "%q is supposed twice", f.Name)
		}
		facts[f.Name] = b.supposedValue(f, a.Value)
	}
	return facts
}

func (b *clauseBinder) supposedValue(f *fact.Fact, value ast.Name) (stated any) {
	if value.Text == "unknown" && !value.Quoted {
		return nil
	}
	stated = value.Text
	var err error
	switch f.Type {
	case fact.YesNo, fact.Number:
		var v fact.Value
		if v, err = ReadValue(f.Type, value.Text, b.rb.Zone); err == nil {
			stated = v.JSON(f.Type)
		}
	}
	if err == nil {
		_, err = b.rb.SupposedValue(f, stated)
	}
	if err != nil {
		b.fail(value, "", "%s: %v", f.Name, err)
	}
	return stated
}

// consent is what a client application asks for; nil where no clause speaks of it.
func (b *clauseBinder) consent(s *ast.SignOn) *signon.Consent {
	if !s.ClientApp.Given() && !s.Publisher.Given() && !s.For.Given() && s.Scopes == nil {
		return nil
	}
	c := &signon.Consent{Client: s.ClientApp.Text, Publisher: s.Publisher.Text, For: signon.ConsentFor(s.For.Text), Group: s.Group.Text}
	for _, scope := range s.Scopes {
		if !signon.IsScope(scope.Text) {
			b.fail(scope, "it is of printable ASCII without spaces, double quotes and backslashes; several stand with commas between",
				"%q is no scope (RFC 6749)", scope.Text)
		}
		c.Scopes = append(c.Scopes, scope.Text)
	}
	if s.Verified {
		c.Verified = signon.Yes
	}
	if s.Owner {
		c.Owner = signon.Yes
	}
	return c
}

func (b *clauseBinder) instant(n ast.Name) time.Time {
	if !n.Given() {
		return time.Time{}
	}
	at, err := schedule.ParseInstant(n.Text, b.rb.Zone)
	if err != nil {
		b.fail(n, "", "%v", err)
	}
	return at
}

func (b *clauseBinder) device(s *ast.Device) *signon.Device {
	d := &signon.Device{ID: s.ID.Text}
	words, flags := posture.Words(d), posture.Flags(d)
	delete(words, "id") // it stands before the block
	seen := map[string]bool{}
	for _, f := range s.Fields {
		name := f.Name.Text
		if seen[name] {
			b.fail(f.Name, "leave one of them out", "%q is told twice of this device", name)
		}
		seen[name] = true
		switch word, flag := words[name], flags[name]; {
		case word != nil:
			*word = f.Value.Text
		case flag != nil:
			*flag = b.yesNo(f)
		case name == "reported":
			d.Reported = b.instant(f.Value)
		default:
			b.attribute(d, f, append(keysOf(words), keysOf(flags)...))
		}
	}
	return d
}

func (b *clauseBinder) yesNo(f ast.Attr) signon.YesNo {
	if f.Value.Text != "yes" && f.Value.Text != "no" {
		b.fail(f.Value, "", "%s is yes or no, not %q", f.Name, f.Value.Text)
	}
	return signon.IsYes(f.Value.Text == "yes")
}

func (b *clauseBinder) attribute(d *signon.Device, f ast.Attr, fields []string) {
	known := append(fields, "reported")
	for _, a := range b.rb.Facts.Attributes() {
		if a.OfDevice && a.FromRequest {
			known = append(known, strings.TrimPrefix(a.Name, "device."))
		}
	}
	a, ok := b.rb.Facts.AttributeNamed("device." + f.Name.Text)
	switch {
	case !ok:
		slices.Sort(known)
		help := spell.Hint(f.Name.Text, known)
		if help == "" {
			help = "known here: " + strings.Join(known, ", ")
		}
		b.fail(f.Name, help, "a device has no field %q", f.Name.Text)
		return
	case !a.FromRequest:
		b.fail(f.Name, fmt.Sprintf("declare it so: attribute %s %s from request", a.Name, a.Type.Keyword()), "a sign-on may not state %q", a.Name)
		return
	}
	v, err := ReadValue(a.Type, f.Value.Text, b.rb.Zone)
	if err != nil {
		b.fail(f.Value, "", "%s: %v", a.Name, err)
	}
	if d.Attributes == nil {
		d.Attributes = map[string]any{}
	}
	d.Attributes[f.Name.Text] = v.JSON(a.Type)
}
