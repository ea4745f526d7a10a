package replay

// Which alerts past sign-ons would have raised, so that the thresholds are set before anybody is woken.

import (
	"cmp"
	"context"
	"fmt"
	"math"
	"slices"
	"strings"
	"sync"
	"time"

	"briskwarden.example/briskwarden"
	"briskwarden.example/briskwarden/explain"
	"briskwarden.example/briskwarden/internal/alert"
	"briskwarden.example/briskwarden/internal/bridge"
	"briskwarden.example/briskwarden/internal/rulebook"
	"briskwarden.example/briskwarden/internal/schedule"
	"briskwarden.example/briskwarden/internal/spell"
	"briskwarden.example/briskwarden/signon"
)

// AlertOptions say of which sign-ons alerts are tried. The history learns from all.
type AlertOptions struct {
	From, To time.Time         // from the first on, and before the second; zero is no bound
	Alerts   []string          // these alone, by name; none is all
	Progress func(signOns int) // is told now and then how many sign-ons were taken; nil for none

	// Messages has the messages tell what they say.
	Messages bool
	// NothingBefore has the history begin with nothing: for the very logs that the rulebook's history begins with.
	NothingBefore bool
}

// Alerts are the alerts that logs would have raised.
type Alerts struct {
	SignOns int           `json:"sign_ons"` // that were tried
	Days    int           `json:"days"`     // that they span, in the rulebook's zone
	Alerts  []*AlertTally `json:"alerts"`   // in the order in which they are declared

	Bad      []BadLine `json:"-"` // the first lines that cannot be read
	BadLines int       `json:"bad_lines"`
}

// AlertTally counts one alert.
type AlertTally struct {
	Name    string   `json:"name"`
	When    string   `json:"when"`
	Tell    []string `json:"tell"`     // to whom
	Raised  int      `json:"raised"`   // the sign-ons of which it was true
	Sent    int      `json:"sent"`     // the others were held back
	Held    int      `json:"held"`     // by what it says itself
	Capped  int      `json:"capped"`   // since no receiver is told more than 60 in an hour of one alert
	MostDay int      `json:"most_day"` // how many were sent on the day with the most
	PerDay  float64  `json:"per_day"`  // on average
	Users   int      `json:"users"`    // of whom it was raised

	Messages []*Alarm `json:"-"` // those that were sent, in their order
}

// Alarm is a message of an alert.
type Alarm struct {
	Time    time.Time `json:"time"`
	Alert   string    `json:"alert"`
	User    string    `json:"user"`
	App     string    `json:"app"`
	Outcome string    `json:"outcome"`
	ID      string    `json:"id,omitzero"` // of the sign-on
	Where   string    `json:"where"`       // its place in the log
	Held    int       `json:"held"`        // how many were held back since the one before

	Why     string `json:"why,omitzero"`     // what decided
	Subject string `json:"subject,omitzero"` // of the mail
	Text    string `json:"text,omitzero"`    // of the mail
}

// raised is an alert of a sign-on.
type raised struct {
	Alarm
	alert  *rulebook.Alert
	report *alert.Report // nil where no messages are asked for
}

// TryAlerts takes logs through the rulebook, and tells which alerts they would have raised. The order in which logs are given
// does not matter. The error says which option cannot be, or which log cannot be read on.
func TryAlerts(ctx context.Context, rules *briskwarden.Rulebook, logs []Log, o AlertOptions) (*Alerts, error) {
	e, past := bridge.Engine(rules).Learning()
	if o.NothingBefore {
		e, past = bridge.Engine(rules).LearningAnew()
	}
	wanted, err := wantedAlerts(e.Rulebook(), o.Alerts)
	if err != nil {
		return nil, err
	}
	options := Options{Progress: o.Progress}
	options.group = -1
	r := &run{ctx: ctx, engine: e, past: past, options: options}
	var earlier *dayOfUsers
	if o.Messages {
		earlier = &dayOfUsers{zone: e.Rulebook().Zone, users: map[string]*dayOfUser{}}
	}
	workers, all, err := runPipeline(ctx, logs, options, func() *alerter {
		return &alerter{worker: newWorker(r), from: o.From, to: o.To, wanted: wanted, earlier: earlier}
	})
	if err != nil {
		return nil, err
	}
	var list []*raised
	a := &Alerts{Bad: all.orderer.bad, BadLines: all.orderer.badAll}
	var span Span
	for _, w := range workers {
		list = append(list, w.raised...)
		a.SignOns += w.tried
		span.cover(w.span)
	}
	slices.SortStableFunc(list, func(x, y *raised) int {
		return cmp.Or(x.Time.Compare(y.Time), cmp.Compare(x.User, y.User), cmp.Compare(x.Where, y.Where), cmp.Compare(x.alert.ID, y.alert.ID))
	})
	zone := e.Rulebook().Zone
	a.Days = daysOf(span, zone)
	a.count(e.Rulebook(), wanted, list, zone)
	return a, nil
}

// wantedAlerts are the alerts to try, by their ids.
func wantedAlerts(rb *rulebook.Rulebook, names []string) (map[int]bool, error) {
	wanted := map[int]bool{}
	for _, name := range names {
		i := slices.IndexFunc(rb.Alerts, func(a *rulebook.Alert) bool { return a.Name == name })
		if i < 0 {
			return nil, fmt.Errorf("there is no alert %q", name)
		}
		wanted[i] = true
	}
	if len(names) == 0 {
		for i := range rb.Alerts {
			wanted[i] = true
		}
	}
	return wanted, nil
}

// alerter is a worker that notes the alerts of sign-ons.
type alerter struct {
	*worker
	from, to time.Time
	wanted   map[int]bool
	earlier  *dayOfUsers // nil where no messages are asked for
	tried    int
	span     Span
	raised   []*raised
}

func (w *alerter) process(partition []*entry) error {
	for _, t := range partition {
		d := &w.batch[0]
		if err := w.decide(t, d); err != nil {
			return err
		}
		if !d.counts || !during(t.SignOn.Time, w.from, w.to) {
			continue
		}
		w.tried++
		w.span.cover(Span{t.SignOn.Time, t.SignOn.Time})
		for _, a := range d.Alerts {
			if !w.wanted[a.ID] {
				continue
			}
			r := w.alarm(t, a, d.Outcome)
			if err := w.report(t, r, d.Outcome); err != nil {
				return err
			}
			w.raised = append(w.raised, r)
		}
		w.earlier.add(t, d)
	}
	return nil
}

// report works out what an alert says, where that is asked for.
func (w *alerter) report(t *entry, r *raised, outcome signon.Outcome) error {
	if w.earlier == nil {
		return nil
	}
	var d signon.Decision
	if err := w.run.engine.Decide(w.run.ctx, &t.SignOn, &d, true); err != nil {
		return err
	}
	so := t.SignOn
	so.User, so.App, so.ID, so.Action = r.User, r.App, r.ID, strings.Clone(so.Action)
	r.report = alert.NewReport(w.run.engine.Rulebook(), r.alert, &so, &d, outcome, explain.By(&d))
	r.report.Earlier = append(r.report.Earlier, w.earlier.of(t)...)
	r.report.More = []string{"brisk about user " + spell.Shell([]string{r.User}) + " --log " + spell.Shell([]string{t.File})}
	return nil
}

// dayOfUsers has what users did on the day that the log has come to.
type dayOfUsers struct {
	zone  *time.Location
	mu    sync.Mutex
	users map[string]*dayOfUser
}

type dayOfUser struct {
	day     schedule.Date
	signOns []alert.Earlier // the last ones
}

// of are the sign-ons of a user before this one, on its day.
func (e *dayOfUsers) of(t *entry) []alert.Earlier {
	e.mu.Lock()
	defer e.mu.Unlock()
	if u := e.users[t.SignOn.User]; u != nil && u.day == schedule.DateOf(t.SignOn.Time, e.zone) {
		return slices.Clone(u.signOns)
	}
	return nil
}

func (e *dayOfUsers) add(t *entry, d *decided) {
	if e == nil {
		return
	}
	e.mu.Lock()
	defer e.mu.Unlock()
	u, day := e.users[t.SignOn.User], schedule.DateOf(t.SignOn.Time, e.zone)
	if u == nil {
		u = &dayOfUser{}
		e.users[strings.Clone(t.SignOn.User)] = u
	}
	if u.day != day {
		u.day, u.signOns = day, nil
	}
	u.signOns = append(u.signOns, alert.Earlier{Time: t.SignOn.Time, App: strings.Clone(t.SignOn.App), Outcome: t.came(d.Outcome).String(), Country: strings.Clone(d.Country)})
	u.signOns = u.signOns[max(0, len(u.signOns)-alert.MostEarlier):]
}

// alarm is an alert of a sign-on, whose own memory serves again.
func (w *alerter) alarm(t *entry, a *rulebook.Alert, outcome signon.Outcome) *raised {
	so := &t.SignOn
	return &raised{Alarm{Time: so.Time, Alert: a.Name, User: strings.Clone(so.User), App: strings.Clone(so.App), Outcome: outcome.String(), ID: strings.Clone(so.ID),
		Where: t.Place()}, a, nil}
}

// daysOf is how many days on a clock a span touches.
func daysOf(s Span, zone *time.Location) int {
	if s.First.IsZero() {
		return 0
	}
	day := func(t time.Time) int64 {
		y, m, d := t.In(zone).Date()
		return time.Date(y, m, d, 0, 0, 0, 0, time.UTC).Unix() / (24 * 3600)
	}
	return int(day(s.Last)-day(s.First)) + 1
}

// count goes through the alerts in their order, and holds back what their limits say.
func (a *Alerts) count(rb *rulebook.Rulebook, wanted map[int]bool, list []*raised, zone *time.Location) {
	tallies := map[int]*AlertTally{}
	for _, declared := range rb.Alerts {
		if !wanted[declared.ID] {
			continue
		}
		t := &AlertTally{Name: declared.Name, When: declared.Text, Tell: []string{}}
		for _, r := range declared.Tell {
			t.Tell = append(t.Tell, r.Address)
		}
		tallies[declared.ID] = t
		a.Alerts = append(a.Alerts, t)
	}
	gates, caps := map[string]*alert.Gate{}, map[int]*alert.Gate{}
	users, days := map[int]map[string]bool{}, map[int]map[string]int{}
	for _, r := range list {
		t, id := tallies[r.alert.ID], r.alert.ID
		if users[id] == nil {
			users[id], days[id], caps[id] = map[string]bool{}, map[string]int{}, &alert.Gate{}
		}
		t.Raised++
		users[id][r.User] = true
		if r.Time.Before(caps[id].Opens(alert.MostAnHour)) {
			t.Capped++
			continue
		}
		key := fmt.Sprintf("%d %q", id, alert.CountedFor(r.alert, r.User, r.App))
		if gates[key] == nil {
			gates[key] = &alert.Gate{}
		}
		held, ok := gates[key].Pass(r.Time, alert.LimitOf(r.alert))
		if !ok {
			t.Held++
			continue
		}
		caps[id].Pass(r.Time, alert.MostAnHour)
		if r.Held = held; r.report != nil {
			r.report.Held = held
			r.Why, r.Subject, r.Text = r.report.Why, r.report.Subject(), r.report.Text()
		}
		t.Sent++
		day := r.Time.In(zone).Format(time.DateOnly)
		days[id][day]++
		t.MostDay = max(t.MostDay, days[id][day])
		t.Messages = append(t.Messages, &r.Alarm)
	}
	for id, t := range tallies {
		t.Users = len(users[id])
		t.PerDay = math.Round(100*float64(t.Sent)/float64(max(1, a.Days))) / 100
	}
}
