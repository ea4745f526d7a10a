package rulebook

// Who is told of which sign-ons.

import (
	"net/mail"
	"slices"
	"strconv"
	"strings"
	"time"

	"briskwarden.example/briskwarden/internal/condition"
	"briskwarden.example/briskwarden/language/ast"
	"briskwarden.example/briskwarden/signon"
)

// Alert says of which sign-ons somebody is told.
type Alert struct {
	ID    int // its place in the list
	Name  string
	When  condition.Node
	Text  string           // the condition as written
	On    []signon.Outcome // none is any
	Who   Who              // without items: everybody
	To    To               // without items: everything
	Most  int              // how often in that time; 0 is without bound
	Per   Per              // for what that is counted
	Every time.Duration    // the time
	Tell  []Receiver       // in order
	Decl  *ast.Alert
}

// Per is what alerts are counted for.
type Per uint8

// What alerts are counted for.
const (
	PerUser Per = iota
	PerApp
	PerRulebook
)

var pers = []string{"user", "app", "rulebook"}

// String is the word for it.
func (p Per) String() string { return pers[p] }

// Receiver is who is told.
type Receiver struct {
	Address  string // mailto: or https:
	SecretIn string // the variable of the environment with the secret that signs what is sent; may be empty
}

// Concerns reports whether the alert is about a sign-on of a person to an app that came out in some way; its condition is
// not asked.
func (a *Alert) Concerns(p *Person, app *App, outcome signon.Outcome) bool {
	return (len(a.On) == 0 || slices.Contains(a.On, outcome)) && (len(a.Who.Items) == 0 || a.Who.Holds(p)) && (len(a.To.Items) == 0 || a.To.Holds(app))
}

// alerts binds alerts. Their conditions decide nothing: they are not among those that are analysed.
func (r *resolver) alerts(deciding *condition.Scope) {
	apart := *deciding
	apart.Compared = func(*ast.Compare, condition.Node) {}
	scope := &apart
	for i, d := range r.decls.alerts.list {
		a := &Alert{ID: i, Name: d.Name.Text, When: r.condition(scope, d.When, condition.General), Who: r.who(d.Who), To: r.to(d.To), Decl: d}
		if d.When != nil {
			a.Text = d.When.String()
		}
		for _, n := range d.On {
			o, err := signon.ParseOutcome(n.Text)
			if err == nil { // the parser takes no other words
				a.On = append(a.On, o)
			}
		}
		r.once(d.On)
		if d.Most.Given() {
			a.Most, a.Per, a.Every = r.most(d.Most), Per(slices.Index(pers, d.Per.Text)), d.Every.Elapsed()
			if a.Every <= 0 {
				r.fail(d.Most, "say for how long, such as every 4h", "an alert is counted over some time")
			}
		}
		for _, t := range d.Tell {
			a.Tell = append(a.Tell, r.receiver(t))
		}
		r.rb.Alerts = append(r.rb.Alerts, a)
	}
}

func (r *resolver) most(n ast.Name) int {
	most, err := strconv.Atoi(n.Text)
	if err != nil || most < 1 || most > 1_000 {
		r.fail(n, "such as: at most 1 per user every 4h", "%q is no whole number from 1 to 1,000", n.Text)
	}
	return most
}

func (r *resolver) receiver(t ast.Receiver) Receiver {
	to := Receiver{Address: t.Address.Text, SecretIn: t.SecretIn.Text}
	mailbox, isMail := strings.CutPrefix(to.Address, "mailto:")
	switch {
	case isMail && t.SecretIn.Given():
		r.fail(t.SecretIn, "leave it out", "a mail is signed by no secret")
	case isMail:
		if strings.Contains(mailbox, "?") {
			r.fail(t.Address, "leave out all from the question mark on", "%q asks for a subject or a text, which an alert has of its own", to.Address)
		} else if a, err := mail.ParseAddress(mailbox); err != nil || a.Address != mailbox {
			r.fail(t.Address, `it reads "mailto:desk@skerry.example"`, "%q is no mail address", to.Address)
		}
	default:
		r.https(t.Address)
		if t.SecretIn.Given() && (!isToken(to.SecretIn) || strings.ContainsAny(to.SecretIn, "-.")) {
			r.fail(t.SecretIn, "a variable of the environment, such as DESK_HOOK", "%q cannot be a variable's name; the secret itself stands in no rulebook", to.SecretIn)
		}
	}
	return to
}
