package service

// What a person is told of a decision at a gateway, and can do next. Of policies and risk it says nothing.

import (
	"bytes"
	"context"
	"crypto/sha256"
	_ "embed"
	"encoding/base64"
	"html/template"
	"net/http"
	"regexp"
	"slices"
	"strings"
	"time"

	"briskwarden.example/briskwarden/internal/rulebook"
	"briskwarden.example/briskwarden/internal/texts"
	"briskwarden.example/briskwarden/signon"
)

// reason is what is kept of a decision, in English.
type reason struct {
	At      time.Time      `json:"at"`
	App     string         `json:"app"`              // what people call it
	ID      string         `json:"app_id,omitempty"` // a token for it tells who asks
	Outcome signon.Outcome `json:"outcome"`
	Message string         `json:"message,omitempty"`
	Next    []nextStep     `json:"next,omitempty"`
	Again   string         `json:"again,omitempty"` // where she signs on, to come back
}

// nextStep is a step, without the names of what is the rulebook's own.
type nextStep struct {
	Do     signon.StepKind `json:"do"`
	AnyOf  [][]string      `json:"any_of,omitempty"`
	Checks []string        `json:"checks,omitempty"`
}

// identifyDevice stands for what is to be mended on a device that nobody has named: a gateway cannot know which it is.
const identifyDevice signon.StepKind = "identify-device"

// noApp is what is kept where no app has the address.
func noApp(at time.Time) *reason {
	return &reason{At: at.UTC(), Outcome: signon.Block, Message: string(texts.NoApp)}
}

func reasonOf(v *visit, q *question, at time.Time) *reason {
	d := &q.decision
	r := &reason{At: at.UTC(), App: v.rb.Apps[v.app].Title(), ID: v.app, Outcome: d.Outcome, Message: d.Message}
	for _, s := range d.Next {
		step := nextStep{s.Do, s.AnyOf, s.Checks}
		if s.Do == signon.Remedy && q.Device == nil {
			step = nextStep{Do: identifyDevice}
		}
		if !slices.ContainsFunc(r.Next, func(n nextStep) bool { return n.Do == identifyDevice && step.Do == identifyDevice }) {
			r.Next = append(r.Next, step)
		}
	}
	switch {
	case d.Outcome == signon.StepUp:
		r.Again = v.answer(d, nil).header["Sign-On-URL"]
	case q.fact: // the session has ended, and another can begin
		r.Again = v.unknown("", nil).header["Sign-On-URL"]
	}
	return r
}

// told is what the person is told, in her language.
type toldPerson struct {
	Language  string   `json:"language"`
	Title     string   `json:"title"`
	Happened  string   `json:"happened,omitempty"`
	Message   string   `json:"message,omitempty"`
	Heading   string   `json:"-"`
	Next      []string `json:"next,omitempty"`
	Again     string   `json:"again,omitempty"`
	AgainText string   `json:"-"`
	HelpTitle string   `json:"-"`
	Help      string   `json:"help,omitempty"`
	RefTitle  string   `json:"-"`
	Reference string   `json:"reference,omitempty"`
}

// in tells a reason in a language, with times in the rulebook's zone.
func (r *reason) in(w *texts.Words, zone *time.Location, id string) *toldPerson {
	at := r.At.In(zone)
	t := &toldPerson{Language: w.Tag, Title: w.Say(texts.TitleBlocked), Message: w.Name(r.Message), Heading: w.Say(texts.TitleNext), HelpTitle: w.Say(texts.TitleHelp),
		Help: w.Say(texts.Help), RefTitle: w.Say(texts.Reference), Reference: id}
	if r.App != "" {
		t.Happened = w.Say(texts.Happened, "app", w.Name(r.App), "date", at.Format(time.DateOnly), "time", at.Format("15:04"))
	}
	if r.Outcome == signon.StepUp {
		t.Title = w.Say(texts.TitleStepUp)
	}
	if r.Again != "" {
		t.Again, t.AgainText = r.Again, w.Say(texts.Again, "app", w.Name(r.App))
	}
	for _, s := range r.Next {
		t.Next = append(t.Next, s.in(w)...)
	}
	if len(t.Next) == 0 && r.Again == "" {
		t.Help = w.Say(w.Of(texts.HelpAlone, texts.Help))
		if r.toldNothing() {
			t.Next = []string{w.Say(texts.Nothing)}
		}
	}
	return t
}

// toldNothing reports that the message is no advice of a policy's author: then there is none.
func (r *reason) toldNothing() bool {
	return r.Outcome == signon.Block && (r.Message == "" || slices.Contains(texts.BuiltIn, texts.Text(r.Message)))
}

func (s *nextStep) in(w *texts.Words) (said []string) {
	var sets []string
	for _, set := range s.AnyOf {
		sets = append(sets, w.All(texts.And, set))
	}
	methods := w.All(texts.Or, sets)
	switch s.Do {
	case signon.Verify:
		return []string{w.Say(texts.Verify, "methods", methods)}
	case signon.Enrol:
		return []string{w.Say(texts.Enrol, "methods", methods)}
	case signon.EnrolElsewhere:
		return []string{w.Say(texts.Elsewhere, "methods", methods)}
	case identifyDevice:
		return []string{w.Say(texts.Identify)}
	case signon.ChangePassword:
		return []string{w.Say(texts.Change)}
	case signon.Remedy:
		for _, check := range s.Checks {
			said = append(said, w.Say(texts.Remedy, "check", w.Name(check)))
		}
		return said
	}
	return []string{w.Say(texts.Review)}
}

// why tells a person about a decision on her, and nobody else.
func (s *Service) why(ctx context.Context, a *asked) (answer, *refusal) {
	rb, id := a.engine.Rulebook(), a.PathValue("id")
	words := rb.Texts.For(strings.Join(a.Header.Values("Accept-Language"), ","))
	who, issuer, err := s.bearer(ctx, a.Request, rb, (*rulebook.Issuer).AllAudiences)
	var r reason
	found := false
	if err == nil {
		if found, err = s.memory.Told(ctx, who.user(), id, &r); err != nil {
			return answer{}, s.away(err)
		}
		app := rb.Apps[r.ID]
		found = found && (app == nil || who.IsFor(issuer.AudienceFor(app)))
	}
	told := r.in(words, rb.Zone, id)
	if !found {
		told = &toldPerson{Language: words.Tag, Title: words.Say(texts.NotFound), Message: words.Say(texts.NotFoundMore)}
		if referenceShape.MatchString(id) {
			told.HelpTitle, told.Help, told.RefTitle, told.Reference = words.Say(texts.TitleHelp), words.Say(words.Of(texts.HelpAlone, texts.Help)), words.Say(texts.Reference), id
		}
	}
	to := answer{value: told, header: map[string]string{"Vary": "Accept, Accept-Language", "Content-Language": words.Tag}}
	if !found {
		to.status = http.StatusNotFound
	}
	if !wantsJSON(a.Request) {
		to.page = drawn(told)
		to.header["Content-Security-Policy"] = pagePolicy
	}
	return to, nil
}

// referenceShape is how the ids of decisions look.
var referenceShape = regexp.MustCompile(`^[0-9a-f]{32}$`)

// wantsJSON reports a request for JSON rather than for a page.
func wantsJSON(r *http.Request) bool {
	accept := strings.Join(r.Header.Values("Accept"), ",")
	return strings.Contains(accept, "application/json") && !strings.Contains(accept, "text/html")
}

var (
	//go:embed why.html
	whyHTML string
	//go:embed why.css
	whyCSS string

	whyPage    = template.Must(template.New("why").Parse(strings.Replace(whyHTML, "STYLE", whyCSS, 1)))
	pagePolicy = "default-src 'none'; style-src 'sha256-" + styleDigest() + "'; base-uri 'none'; form-action 'none'; frame-ancestors 'none'"
)

func styleDigest() string {
	sum := sha256.Sum256([]byte(whyCSS))
	return base64.StdEncoding.EncodeToString(sum[:])
}

func drawn(t *toldPerson) []byte {
	var b bytes.Buffer
	if err := whyPage.Execute(&b, t); err != nil {
		panic(err) // into memory, by a template that is tested
	}
	return b.Bytes()
}
