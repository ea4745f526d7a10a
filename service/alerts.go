package service

// Alerts: which a decision raises, what they say, and that they are sent.

import (
	"cmp"
	"context"
	"log/slog"
	"net/url"
	"time"

	"github.com/go-json-experiment/json"

	"briskwarden.example/briskwarden/explain"
	"briskwarden.example/briskwarden/internal/alert"
	"briskwarden.example/briskwarden/internal/engine"
	"briskwarden.example/briskwarden/internal/memory"
	"briskwarden.example/briskwarden/internal/outbox"
	"briskwarden.example/briskwarden/internal/raise"
	"briskwarden.example/briskwarden/internal/rulebook"
	"briskwarden.example/briskwarden/internal/spell"
	"briskwarden.example/briskwarden/signon"
)

// alerts puts the alerts that decisions raise into the outbox. Where that cannot be, the log alone has them: no decision
// waits for the state to be there again.
func (s *Service) alerts(ctx context.Context, a *asked, questions []*question, recalled []*memory.Recall) {
	if len(a.engine.Rulebook().Alerts) == 0 {
		return
	}
	var list []*raise.Raised
	for i, q := range questions {
		if q.made || q.why != nil {
			continue
		}
		var beside *memory.Recall
		if recalled != nil {
			beside = recalled[i]
		}
		list = append(list, s.raisedBy(ctx, a.engine, q, beside)...)
	}
	if len(list) == 0 {
		return
	}
	if recalled != nil {
		err := s.raiser.Raise(ctx, recalled[0].At, list)
		if err == nil || ctx.Err() != nil {
			return
		}
		s.stateFailed(err)
	}
	for _, r := range list {
		s.Log.Warn("an alert was raised that is not in the outbox", slog.String("alert", r.Alert.Name), slog.String("user", r.User), slog.String("app", r.App))
	}
}

// raisedBy are the alerts that one decision raises.
func (s *Service) raisedBy(ctx context.Context, e *engine.Engine, q *question, beside *memory.Recall) (list []*raise.Raised) {
	so, recalled := q.SignOn, (*engine.Recalled)(nil)
	if beside != nil {
		so, recalled = &beside.SignOn, &beside.Recalled
	}
	if !q.alerting {
		var err error
		if q.raised, err = e.Raised(ctx, so, recalled, q.decision.Outcome); err != nil {
			s.Log.Error("it cannot be told which alerts a sign-on raises", slog.Any("error", err))
			return nil
		}
	}
	for _, a := range q.raised {
		list = append(list, &raise.Raised{Alert: a, User: so.User, App: so.App, Content: func(held int) (outbox.Content, error) {
			return s.reportContent(e, a, q, beside, held)
		}})
	}
	return list
}

// reportContent is what an alert says of a decision.
func (s *Service) reportContent(e *engine.Engine, a *rulebook.Alert, q *question, beside *memory.Recall, held int) (outbox.Content, error) {
	var d signon.Decision
	so := &beside.SignOn
	why := "the consents that are held"
	if err := e.DecideRecalled(context.Background(), so, &beside.Recalled, &d, true); err == nil && d.Outcome == q.decision.Outcome {
		why = explain.By(&d)
	}
	r := alert.NewReport(e.Rulebook(), a, so, &d, q.decision.Outcome, why)
	r.Held = held
	earlier := beside.Earlier(e.Rulebook().Zone)
	for _, p := range earlier[max(0, len(earlier)-alert.MostEarlier):] {
		r.Earlier = append(r.Earlier, alert.Earlier{Time: p.Time, App: p.App, Outcome: signon.Grant.String(), Country: p.Country})
	}
	r.More = []string{"brisk about user " + spell.Shell([]string{so.User})}
	if so.ID != "" {
		r.More = append(r.More, "brisk decide --id "+spell.Shell([]string{so.ID})+" --requests "+cmp.Or(s.SignOns.name(), "LOG"))
	}
	return content(r, "alert", r.Subject(), r.Text(), r.HTML())
}

// content is a message whose data programs read.
func content(data any, kind, subject, text, html string) (outbox.Content, error) {
	value, err := json.Marshal(data, json.Deterministic(true))
	return outbox.Content{Subject: subject, Text: text, HTML: html, Type: kind, Data: value}, err
}

// summaryContent is what is said of alerts that were not sent one by one.
func (s *Service) summaryContent(of *alert.Summary) (outbox.Content, error) {
	rb := s.engine().Rulebook()
	of.Rulebook, of.Zone = rb.Name, rb.Zone
	return content(of, "alert-summary", of.Subject(), of.Text(), "")
}

// Mail says by which server mail is sent. Name and password for it are in the environment, as [MailUser] and [MailPassword].
type Mail struct {
	Server string // host and port; mail for a host that is not this machine is sent encrypted (STARTTLS) or not at all
	From   string // the address that it comes from
}

// The variables of the environment with the name and password for the mail server; without a name none is given.
const (
	MailUser     = outbox.MailUser
	MailPassword = outbox.MailPassword
)

// Complete fills in where mail comes from: "brisk" at the host of a URL, or of this machine. The error says what of the
// settings cannot be.
func (m *Mail) Complete(of string) error {
	if m.From == "" {
		host := "localhost"
		if u, err := url.Parse(of); err == nil && u.Hostname() != "" {
			host = u.Hostname()
		}
		m.From = "brisk@" + host
	}
	return (*outbox.Mail)(m).Check()
}

// How long a message waits after so many failures, and how long it is left to the process that put it into the state.
var (
	pause = outbox.Pause
	left  = outbox.LeftAfter
)

// newOutbox has the service raise and send alerts.
func (s *Service) newOutbox() {
	s.carrier = &outbox.Carrier{Mail: outbox.Mail(s.Mail), Client: newClient(10 * time.Second), Now: s.Clock}
	s.sender = &outbox.Sender{Store: s.store, Deliver: s.carrier.Deliver, Pause: pause, Left: left, Log: s.Log, Now: s.Clock, Count: s.metrics.message}
	s.raiser = raise.New(s.store)
	s.raiser.Sender, s.raiser.Summary = s.sender, s.summaryContent
}

// Untold is a receiver of alerts or digests who cannot be told.
type Untold struct {
	To  string
	Why string
}

// Untold are the receivers of the rulebook to whom nothing can be sent, as far as that is known before something is: for want
// of a mail server, or of the secret that signs.
func (s *Service) Untold() (list []Untold) {
	seen := map[string]bool{}
	rb := s.engine().Rulebook()
	var all []rulebook.Receiver
	for _, a := range rb.Alerts {
		all = append(all, a.Tell...)
	}
	for _, g := range rb.Digests {
		all = append(all, g.Tell...)
	}
	for _, to := range all {
		if err := s.carrier.Ready(to.Address, to.SecretIn); err != nil && !seen[to.Address] {
			seen[to.Address] = true
			list = append(list, Untold{to.Address, err.Error()})
		}
	}
	return list
}

// lookEvery is how often it is looked for what is due: summaries and digests.
const lookEvery = 10 * time.Second

// watch sends what is in the outbox, and what becomes due.
func (s *Service) watch(ctx context.Context) {
	s.stopped.Go(func() { s.sender.Run(ctx) })
	tick := time.NewTicker(lookEvery)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			ending, cancel := context.WithTimeout(context.WithoutCancel(ctx), lookEvery)
			defer cancel()
			s.lookAtAlerts(ending)
			return
		case <-tick.C:
			s.lookAtAlerts(ctx)
		}
	}
}

func (s *Service) lookAtAlerts(ctx context.Context) {
	if err := s.raiser.Look(ctx, s.engine().Rulebook().Alerts); err != nil && ctx.Err() == nil {
		s.stateFailed(err)
	}
}
