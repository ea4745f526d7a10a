package service

// A question on its way to its decision.

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"time"

	"briskwarden.example/briskwarden"
	"briskwarden.example/briskwarden/consent"
	"briskwarden.example/briskwarden/internal/appurl"
	"briskwarden.example/briskwarden/internal/bridge"
	"briskwarden.example/briskwarden/internal/engine"
	"briskwarden.example/briskwarden/internal/known"
	"briskwarden.example/briskwarden/internal/memory"
	"briskwarden.example/briskwarden/internal/rulebook"
	"briskwarden.example/briskwarden/signon"
)

// question is one sign-on that a caller asks about.
type question struct {
	*signon.SignOn
	made     bool // it supposes something, or states a time or an outcome: nothing of it is remembered
	decision signon.Decision
	why      error // it cannot be read, or judged
	fact     bool  // what the decision says is no matter of who the user is
	raised   []*rulebook.Alert
	alerting bool // raised is all that the decision raises

	addressed bool // the app is named by its address
}

// permitted reports whether a caller may ask a question.
func (s *Service) permitted(c *caller, rb *rulebook.Rulebook, q *question) *refusal {
	app, declared := rb.Apps[q.App]
	switch {
	case len(c.For.Items) > 0 && (!declared || !c.Concerns(app)):
		return refuse(http.StatusForbidden, "the caller %s may not ask about this app", c.Name)
	case q.made && !c.may(rulebook.MaySuppose):
		return refuse(http.StatusForbidden, "the caller %s may %s: it may not suppose facts, another time or an outcome", c.Name, c.May)
	case q.Action == rulebook.Consent && !c.may(rulebook.MayConsent):
		return refuse(http.StatusForbidden, "the caller %s may %s: it may not ask for consents", c.Name, c.May)
	}
	return nil
}

// mostID is how long an id may be that enters the service, in bytes.
const mostID = 512

// The bounds of the lists of a request.
const (
	mostEvidence   = 256
	mostPresented  = 64
	mostScopes     = 1000
	mostAttributes = 256 // of the user, of the device, and supposed
)

// bounded reports an id or a list of a request that is too long.
func bounded(so *signon.SignOn) error {
	long := func(field, id string) error {
		if len(id) <= mostID {
			return nil
		}
		return &signon.FieldError{Field: field, Msg: fmt.Sprintf("is longer than %d bytes", mostID)}
	}
	many := func(field string, n, most int) error {
		if n <= most {
			return nil
		}
		return &signon.FieldError{Field: field, Msg: fmt.Sprintf("has more than %d entries", most)}
	}
	err := cmp.Or(long("context.id", so.ID), long("subject.id", so.User), long("action.name", so.Action), long("resource.id", so.App), long("context.session.id", so.Session.ID),
		many("context.evidence", len(so.Evidence), mostEvidence), many("context.presented", len(so.Presented), mostPresented),
		many("subject.properties", len(so.Properties), mostAttributes), many("context.suppose", len(so.Suppose), mostAttributes))
	if d := so.Device; err == nil && d != nil {
		err = cmp.Or(long("context.device.id", d.ID), many("context.device", len(d.Attributes), mostAttributes))
	}
	if c := so.Consent; err == nil && c != nil {
		err = cmp.Or(long("context.consent.client", c.Client), long("context.consent.group", c.Group), many("context.consent.scopes", len(c.Scopes), mostScopes))
	}
	for i := range so.Evidence {
		e := &so.Evidence[i]
		err = cmp.Or(err, long("context.evidence", e.Method), long("context.evidence", e.Session), long("context.evidence", e.Device), long("context.evidence", e.App))
	}
	return err
}

// nearNow is how far a time may be from the clock to be taken for it.
const nearNow = 5 * time.Minute

// read reads a question. An app that is named by its address is that of the rulebook; where there is none, the address
// stands for an app that nobody knows.
func (s *Service) read(rb *rulebook.Rulebook, data []byte) (*question, error) {
	l, err := s.readEvaluation(data)
	if err != nil {
		return nil, err
	}
	q := &question{SignOn: &l.SignOn, made: l.Recorded || l.Suppose != nil, addressed: l.Address != ""}
	if q.addressed {
		q.App = appAt(rb, l.Address)
	}
	if err := bounded(q.SignOn); err != nil {
		return nil, err
	}
	if q.Time.IsZero() {
		return q, nil
	}
	if apart := q.Time.Sub(s.Clock()); apart > -nearNow && apart < nearNow {
		q.Time = time.Time{}
	} else {
		q.made = true
	}
	return q, nil
}

// readEvaluation reads a request by one of the readers, which comes back whatever happens.
func (s *Service) readEvaluation(data []byte) (l signon.Logged, err error) {
	r := <-s.readers
	defer func() { s.readers <- r }()
	err = r.ReadEvaluation(data, &l)
	return l, err
}

// appAt is the app of an address, or what names no app.
func appAt(rb *rulebook.Rulebook, address string) string {
	if a, err := appurl.Parse(address); err == nil {
		if app, ok := rb.Addresses.App(a); ok {
			return app
		}
	}
	if rb.Apps[address] != nil { // an app that is called like an address
		return "url " + address
	}
	return address
}

// decide decides on questions of one caller, all by what is remembered at one time, and remembers what they teach.
// Away says that the state could not be asked, or could not keep it.
func (s *Service) decide(ctx context.Context, a *asked, questions []*question) (away bool) {
	begun := time.Now()
	signOns := make([]*signon.SignOn, len(questions))
	for i, q := range questions {
		signOns[i] = q.SignOn
	}
	recalled, err := s.memory.Recall(ctx, a.engine, a.caller.word(), signOns)
	if err == nil {
		err = s.judge(ctx, a, questions, recalled)
	}
	if err != nil {
		if !errors.Is(ctx.Err(), context.Canceled) { // or else whoever asked has gone
			s.stateFailed(err)
		}
		for _, q := range questions {
			s.withoutState(ctx, a.engine, q)
		}
	}
	if err == nil {
		s.alerts(ctx, a, questions, recalled)
	} else {
		s.alerts(ctx, a, questions, nil)
	}
	s.finish(a, questions, recalled, begun)
	return err != nil
}

// judge decides beside what is remembered, and remembers. After an error nothing is decided.
func (s *Service) judge(ctx context.Context, a *asked, questions []*question, recalled []*memory.Recall) error {
	var decided []*memory.Recall
	var outcomes []signon.Outcome
	for i, q := range questions {
		r := recalled[i]
		if r.Disagree != nil {
			s.Log.Warn("rulebook and provisioning service disagree about a user: the rulebook is right", slog.String("user", q.User), slog.Any("error", r.Disagree))
		}
		if q.Action == rulebook.Consent && !q.made && a.caller.may(rulebook.MayConsent) {
			if err := s.askLedger(ctx, a, q, r); err != nil {
				return err
			}
			decided, outcomes = append(decided, r), append(outcomes, q.decision.Outcome)
			continue
		}
		q.fact = r.Ended && r.Known()
		q.raised, q.why = a.engine.DecideAlerting(ctx, &r.SignOn, &r.Recalled, &q.decision, a.caller.may(rulebook.MayExplain))
		q.alerting = true
		if q.why == nil && !q.made {
			decided, outcomes = append(decided, r), append(outcomes, q.decision.Outcome)
		}
	}
	return s.memory.Keep(ctx, a.engine.Rulebook(), decided, outcomes)
}

// askLedger has the ledger answer a request for consent, by what is remembered.
func (s *Service) askLedger(ctx context.Context, a *asked, q *question, r *memory.Recall) error {
	rules := bridge.Beside(a.rules, &r.Recalled).(*briskwarden.Rulebook)
	if r.Ended || r.Person == nil { // what is held does not count then
		q.why = bridge.Engine(rules).Decide(ctx, &r.SignOn, &q.decision, true)
		return nil
	}
	answer, err := consent.New(s.store, rules).Ask(ctx, r.SignOn)
	var field *signon.FieldError
	switch {
	case errors.As(err, &field):
		q.why = err
		q.decision = signon.Refused(q.ID, err)
		return nil
	case err != nil:
		return err
	case answer.Decision != nil:
		q.decision = *answer.Decision
	default:
		q.decision.Reset(q.ID, a.engine.Rulebook().Digest)
		q.decision.Outcome = answer.Outcome
		if answer.Outcome == signon.Review {
			q.decision.Message = "Your request waits for a review."
			q.decision.Next = []signon.Step{{Do: signon.WaitForReview, Group: answer.Consent.Reviewers}}
		}
	}
	q.decision.Outcome = answer.Outcome
	return nil
}

// withoutState decides where the state is away: an emergency account by what it presents now, and nobody else.
func (s *Service) withoutState(ctx context.Context, e *engine.Engine, q *question) {
	q.alerting = false
	if p := e.Rulebook().People[q.User]; p != nil && p.BreakGlass && p.Active != known.False {
		bare := *q.SignOn
		bare.Evidence = nil
		q.why = e.Decide(ctx, &bare, &q.decision, false)
		if q.decision.Outcome == signon.Grant {
			return
		}
	}
	q.decision.Reset(q.ID, e.Rulebook().Digest)
	q.fact = true
	q.decision.Message = "The service cannot reach what it remembers, and lets nobody in until it can."
}

// stateFailed tells of a state that cannot be asked.
func (s *Service) stateFailed(err error) {
	s.metrics.stateErrors.Inc()
	s.Log.Error("the state cannot be asked: only emergency accounts are let in", slog.Any("error", err))
}

// finish logs and counts what was decided.
func (s *Service) finish(a *asked, questions []*question, recalled []*memory.Recall, begun time.Time) {
	took := time.Since(begun).Seconds() / float64(max(1, len(questions)))
	for i, q := range questions {
		s.metrics.decided(a.engine.Rulebook(), q, a.caller.Name, took)
		if s.SignOns == nil || q.made || q.why != nil {
			continue
		}
		logged := signon.Logged{SignOn: *q.SignOn, Outcome: q.decision.Outcome, Recorded: true}
		if recalled != nil {
			logged.SignOn = recalled[i].SignOn
		}
		if logged.Time.IsZero() {
			logged.Time = s.Clock()
		}
		if err := s.SignOns.write(&logged); err != nil {
			s.metrics.logErrors.Inc()
			s.Log.Error("a sign-on could not be logged", slog.Any("error", err))
		}
	}
}

// told is what a caller is told of a decision: everything, or what is for the person alone.
func told(c *caller, q *question) *signon.Decision {
	d := &q.decision
	if c.may(rulebook.MayExplain) || d.Error != "" {
		return d
	}
	lean := *d
	lean.Demands, lean.Explanation = nil, nil
	if lean.Outcome == signon.Block && len(lean.Next) == 0 && !q.fact {
		lean.Message, lean.Notices, lean.Session = "You have no access here.", nil, signon.SessionLimits{}
	}
	return &lean
}
