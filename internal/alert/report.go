package alert

// What an alert says.

import (
	"bytes"
	_ "embed"
	"fmt"
	"html/template"
	"strings"
	"time"

	"briskwarden.example/briskwarden/internal/rulebook"
	"briskwarden.example/briskwarden/internal/spell"
	"briskwarden.example/briskwarden/signon"
)

// Report is an alert about a sign-on.
type Report struct {
	Rulebook string    `json:"rulebook"`
	Alert    string    `json:"alert"`
	About    string    `json:"about,omitzero"`
	Owner    string    `json:"owner,omitzero"`
	When     string    `json:"when"` // the alert's condition
	Time     time.Time `json:"time"`
	User     string    `json:"user"`
	App      string    `json:"app"`
	AppAbout string    `json:"app_about,omitzero"`
	Action   string    `json:"action,omitzero"`
	Outcome  string    `json:"outcome"`
	Why      string    `json:"why"` // what decided
	IP       string    `json:"ip,omitzero"`
	Known    []string  `json:"known,omitempty"` // where the sign-on came from, and what is known of its device
	ID       string    `json:"id,omitzero"`     // of the sign-on
	Held     int       `json:"held"`            // how many were held back since the message before
	Earlier  []Earlier `json:"earlier"`         // what else the user did that day
	More     []string  `json:"more"`            // commands that show more

	Zone *time.Location `json:"-"` // in which times are told
}

// NewReport is an alert about a sign-on that was decided with an explanation, and came out in some way.
func NewReport(rb *rulebook.Rulebook, a *rulebook.Alert, so *signon.SignOn, d *signon.Decision, outcome signon.Outcome, why string) *Report {
	r := &Report{Rulebook: rb.Name, Alert: a.Name, About: a.Decl.About.Text, Owner: a.Decl.Owner.Text, When: a.Text, Time: so.Time, User: so.User, App: so.App,
		Outcome: outcome.String(), Why: why, ID: so.ID, Zone: rb.Zone, Earlier: []Earlier{}, More: []string{}}
	if app := rb.Apps[so.App]; app != nil && app.Title() != app.Name {
		r.AppAbout = app.Title()
	}
	if so.Action != rulebook.SignOn {
		r.Action = so.Action
	}
	if so.IP.IsValid() {
		r.IP = so.IP.String()
	}
	if d.Explanation != nil {
		r.Known = d.Explanation.Known
	}
	return r
}

// Earlier is another sign-on of the same day.
type Earlier struct {
	Time    time.Time `json:"time"`
	App     string    `json:"app,omitzero"`
	Outcome string    `json:"outcome"`
	Country string    `json:"country,omitzero"`
}

// MostEarlier is how many sign-ons of the day are told: the last ones.
const MostEarlier = 8

var became = map[string]string{"grant": "was let into", "block": "was blocked at", "step-up": "was asked for more proof at", "review": "waits for a review at"}

// Headline says who, what, how it came out and why, on one line.
func (r *Report) Headline() string {
	app := r.App
	if app == "" {
		app = "no app"
	}
	if r.Action != "" {
		app += " (" + r.Action + ")"
	}
	return oneLine(fmt.Sprintf("%s %s %s: %s", orNobody(r.User), became[r.Outcome], app, r.Why))
}

// Subject is the subject of a mail.
func (r *Report) Subject() string {
	return oneLine(fmt.Sprintf("%s: %s %s %s", r.Alert, spell.Clip(orNobody(r.User)), became[r.Outcome], spell.Clip(r.App)))
}

func orNobody(user string) string {
	if user == "" {
		return "somebody without a name"
	}
	return user
}

// mostLine is how long a line can be, whatever names are in it.
const mostLine = 400

func oneLine(s string) string {
	s = spell.Printable(strings.Join(strings.Fields(s), " "))
	if r := []rune(s); len(r) > mostLine {
		return string(r[:mostLine]) + "…"
	}
	return s
}

// Place says when and from where, on one line.
func (r *Report) Place() string {
	parts := []string{r.at(r.Time, "Mon 2006-01-02 15:04 MST")}
	if r.IP != "" && len(r.Known) == 0 {
		parts = append(parts, "from "+r.IP)
	}
	return oneLine(strings.Join(append(parts, r.Known...), ", "))
}

func (r *Report) at(t time.Time, layout string) string {
	if r.Zone != nil {
		t = t.In(r.Zone)
	}
	return t.Format(layout)
}

// Rows are the sign-ons of the day, as they are told.
func (r *Report) Rows() (rows []string) {
	for _, e := range r.Earlier {
		rows = append(rows, strings.TrimSpace(fmt.Sprintf("%s  %-7s  %s  %s", r.at(e.Time, "15:04"), e.Outcome, oneLine(e.App), oneLine(e.Country))))
	}
	return rows
}

// HeldText says how many were held back; empty: none.
func (r *Report) HeldText() string {
	if r.Held == 0 {
		return ""
	}
	return spell.Plural(r.Held, "more alert") + " like this came since the last one that was sent."
}

// Commands are those that show more, on one line each.
func (r *Report) Commands() (list []string) {
	for _, c := range r.More {
		list = append(list, spell.Printable(c))
	}
	return list
}

//go:embed report.html
var reportHTML string

var reportPage = template.Must(template.New("report").Parse(reportHTML))

// Text is the message as plain text.
func (r *Report) Text() string {
	var b strings.Builder
	fmt.Fprintf(&b, "%s\n%s\n\nAlert %s", r.Headline(), r.Place(), r.Alert)
	if r.About != "" {
		fmt.Fprintf(&b, ": %s", oneLine(r.About))
	}
	fmt.Fprintf(&b, "\n  when %s\n", oneLine(r.When))
	if held := r.HeldText(); held != "" {
		fmt.Fprintf(&b, "%s\n", held)
	}
	if rows := r.Rows(); len(rows) > 0 {
		fmt.Fprintf(&b, "\nWhat else %s did that day:\n  %s\n", oneLine(orNobody(r.User)), strings.Join(rows, "\n  "))
	}
	if commands := r.Commands(); len(commands) > 0 {
		fmt.Fprintf(&b, "\nMore:\n  %s\n", strings.Join(commands, "\n  "))
	}
	return b.String()
}

// HTML is the message as a page for mail readers.
func (r *Report) HTML() string {
	var b bytes.Buffer
	if err := reportPage.Execute(&b, r); err != nil {
		panic(err) // into memory, by a template that is tested
	}
	return b.String()
}

// Summary tells how many alerts were not sent one by one.
type Summary struct {
	Rulebook string         `json:"rulebook"`
	Alert    string         `json:"alert"`
	Held     int            `json:"held"`
	Since    time.Time      `json:"since"`
	Until    time.Time      `json:"until"`
	Users    []string       `json:"users"` // some of them
	Zone     *time.Location `json:"-"`
}

// Subject is the subject of a mail.
func (s *Summary) Subject() string {
	return oneLine(fmt.Sprintf("%s: %s more, not sent one by one", s.Alert, spell.Plural(s.Held, "alert")))
}

// Text is the message as plain text.
func (s *Summary) Text() string {
	at := func(t time.Time) string { return t.In(s.Zone).Format("Mon 2006-01-02 15:04") }
	users := make([]string, len(s.Users))
	for i, u := range s.Users {
		users[i] = oneLine(spell.Clip(orNobody(u)))
	}
	return fmt.Sprintf("%s of %s from %s to %s were not sent one by one: nobody is sent more than %d an hour of one alert.\nAmong them are sign-ons of %s.\n",
		spell.Plural(s.Held, "alert"), s.Alert, at(s.Since), at(s.Until), MostAnHour.Most, strings.Join(users, ", "))
}
