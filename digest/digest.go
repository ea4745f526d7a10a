// Package digest tells how the last week went, for whoever keeps watch over a rulebook, as the command "brisk digest" does:
// what got worse first, and nothing that is as it should be.
//
//	d, err := digest.Make(ctx, rules, logs, digest.Options{})
//	…
//	fmt.Print(d.Text(80))
package digest

import (
	"cmp"
	"context"
	"time"

	"briskwarden.example/briskwarden"
	"briskwarden.example/briskwarden/consent"
	"briskwarden.example/briskwarden/internal/bridge"
	"briskwarden.example/briskwarden/prove"
	"briskwarden.example/briskwarden/ready"
	"briskwarden.example/briskwarden/replay"
)

// Options say which period is told of, and bring what neither rulebook nor logs have.
type Options struct {
	Name     string    // of the digest, as the rulebook declares it; may be empty
	From, To time.Time // from the first on, and before the second; zero To is now, zero From a week before To
	// Within is how long the promises may take to be proved; 0 is 20 s. One that is not proved by then is told of.
	Within   time.Duration
	Progress func(signOns int) // is told how many sign-ons of the logs were taken; nil for none
	Workers  int               // how many go through the logs at once; 0 is one for each processor

	Ledger   *consent.Ledger // of the consents; nil leaves them out
	Accounts []Account       // at risk, by signals and people
	Silent   []Silent        // sources that have gone quiet, beside logs and inventories
	Ends     []End           // what ends soon, beside what the rulebook has
	Before   string          // the rulebook's digest when this was told last; empty is not known
	Commits  []Commit        // of the version control that the rulebook lies in, in the period, the newest first
}

// Digest is how a period went. What is empty is as it should be. Its JSON is that of "brisk digest --json".
type Digest struct {
	Rulebook string    `json:"rulebook"`
	Digest   string    `json:"digest"` // of the rulebook: "sha256:…" over every file that was read
	Name     string    `json:"name,omitzero"`
	From     time.Time `json:"from"`
	To       time.Time `json:"to"`

	SignOns  SignOns       `json:"sign_ons"`
	Risky    *Risky        `json:"risky,omitempty"`
	Accounts []Account     `json:"accounts,omitempty"` // at risk, by signals and people
	Stopped  []replay.Stop `json:"stopped,omitempty"`  // by policy, as the rulebook is now, the most first
	Changed  *Changed      `json:"changed,omitempty"`
	Ends     []End         `json:"ends,omitempty"` // within 30 days, the next first
	Unready  *Unready      `json:"unready,omitempty"`
	Consents *Consents     `json:"consents,omitempty"`
	Broken   []Broken      `json:"broken,omitempty"`   // promises that do not hold
	Unproved []string      `json:"unproved,omitempty"` // those of which that was not worked out in time
	Silent   []Silent      `json:"silent,omitempty"`

	NoLogs   bool             `json:"no_logs,omitzero"` // nothing is known of sign-ons
	Bad      []replay.BadLine `json:"-"`                // the first lines that cannot be read
	BadLines int              `json:"bad_lines,omitzero"`
	Latest   time.Time        `json:"latest,omitzero"` // the last sign-on of the logs before the period's end

	zone *time.Location
}

// SignOns counts the sign-ons of the period, by outcome, beside the period before it.
type SignOns struct {
	All, AllBefore int
	Now, Before    replay.Outcomes
}

// Risky tells of sign-ons in the highest band of the risk model.
type Risky struct {
	Band   string      `json:"band"`
	Count  int         `json:"count"`
	Before int         `json:"before"`
	Users  int         `json:"users"` // how many there are
	Worst  []RiskyUser `json:"worst"`
}

// RiskyUser is a user with risky sign-ons, the worst of them, and what came after it.
type RiskyUser struct {
	User    string    `json:"user"`
	Count   int       `json:"count"`
	Score   int       `json:"score"`
	Time    time.Time `json:"time"`
	App     string    `json:"app"`
	Outcome string    `json:"outcome"`
	Where   string    `json:"where"`   // its place in the log
	Granted int       `json:"granted"` // of the user's sign-ons after it
	Stopped int       `json:"stopped"` // the others of them
}

// Account is an account at risk, with what is behind it.
type Account struct {
	User        string    `json:"user"`
	Risk        string    `json:"risk"`
	Compromised bool      `json:"compromised"`
	Since       time.Time `json:"since"`
	By          string    `json:"by"` // who said so last: a source of signals, or a person
	Because     string    `json:"because,omitzero"`
}

// Changed tells what changed in the rulebook.
type Changed struct {
	Before  string   `json:"before,omitzero"` // its digest when this was told last
	Commits []Commit `json:"commits,omitempty"`
}

// Commit is a commit of the version control that the rulebook lies in.
type Commit struct {
	ID      string    `json:"id"`
	Time    time.Time `json:"time"`
	By      string    `json:"by"`
	Subject string    `json:"subject"`
}

// End is something that ends soon.
type End struct {
	What string    `json:"what"` // such as "the waiver winter-office"
	Who  string    `json:"who,omitzero"`
	At   time.Time `json:"at"` // the first instant at which it is over
}

// Unready counts those who are not ready for what is enforced now, or will be within 30 days.
type Unready struct {
	People int             `json:"people"`
	Now    int             `json:"now"` // who are stopped already
	First  []UnreadyPerson `json:"first"`
}

// UnreadyPerson is somebody who is not ready.
type UnreadyPerson struct {
	User     string    `json:"user"`
	Policies []string  `json:"policies"`
	Missing  string    `json:"missing"`
	Deadline time.Time `json:"deadline,omitzero"` // zero is already
}

// Consents tells of client applications: what waits for a review, and what was newly granted.
type Consents struct {
	Waiting int       `json:"waiting"`
	Oldest  time.Time `json:"oldest,omitzero"`   // of those that wait
	Clients []string  `json:"clients,omitempty"` // that wait
	Held    []Held    `json:"held,omitempty"`
}

// Held counts what a client application was granted newly.
type Held struct {
	Client   string `json:"client"`
	Consents int    `json:"consents"`
}

// Broken is a promise that does not hold.
type Broken struct {
	Promise string `json:"promise"`
	At      string `json:"at"`              // file:line
	Decide  string `json:"decide,omitzero"` // the clauses of "brisk decide" for a sign-on that breaks it
}

// Silent is a source that has gone quiet.
type Silent struct {
	Source string    `json:"source"`
	Since  time.Time `json:"since,omitzero"` // zero is not known
}

// Ahead is how far a digest looks ahead.
const Ahead = 30 * 24 * time.Hour

const (
	week       = 7 * 24 * time.Hour
	quietAfter = 24 * time.Hour     // of a log
	unheard    = 2 * 24 * time.Hour // of an inventory
	mostListed = 5
)

// Make tells how a period went, by logs in any order. The error says which log cannot be read on, or what could not be asked.
func Make(ctx context.Context, rules *briskwarden.Rulebook, logs []replay.Log, o Options) (*Digest, error) {
	e := bridge.Engine(rules)
	if err := o.Complete(rules); err != nil {
		return nil, err
	}
	d := &Digest{Rulebook: rules.Name(), Digest: rules.Digest(), Name: o.Name, From: o.From, To: o.To, Accounts: o.Accounts, Silent: o.Silent, zone: rules.Zone()}
	d.NoLogs = len(logs) == 0
	w, err := replay.Weekly(ctx, rules, logs, replay.WeekOptions{Before: o.From.Add(-o.To.Sub(o.From)), From: o.From, To: o.To, Progress: o.Progress, Workers: o.Workers})
	if err != nil {
		return nil, err
	}
	d.fromLogs(w)
	d.quiet(w, e.Rulebook(), o.To)
	d.ends(e.Rulebook(), o)
	if o.Before != "" && o.Before != d.Digest || len(o.Commits) > 0 {
		d.Changed = &Changed{o.Before, o.Commits}
		if o.Before == d.Digest {
			d.Changed.Before = ""
		}
	}
	if err := d.unready(ctx, rules); err != nil {
		return nil, err
	}
	if err := d.promises(ctx, rules, cmp.Or(o.Within, 20*time.Second)); err != nil {
		return nil, err
	}
	return d, d.consents(ctx, o.Ledger)
}

// promises tells of those that do not hold.
func (d *Digest) promises(ctx context.Context, rules *briskwarden.Rulebook, within time.Duration) error {
	limited, cancel := context.WithTimeout(ctx, within)
	defer cancel()
	proved, err := prove.Promises(limited, rules, prove.Span{})
	if err != nil {
		return err
	}
	for _, p := range proved.Promises {
		switch p.Answer {
		case prove.Broken:
			b := Broken{Promise: p.Promise, At: p.At}
			if len(p.Broken) > 0 {
				b.Decide = p.Broken[0].Decide
			}
			d.Broken = append(d.Broken, b)
		case prove.Undecided:
			d.Unproved = append(d.Unproved, p.Promise)
		}
	}
	return nil
}

// unready tells who is not ready for what is enforced within 30 days.
func (d *Digest) unready(ctx context.Context, rules *briskwarden.Rulebook) error {
	report, err := ready.Find(ctx, rules, d.To.Add(Ahead))
	if err != nil {
		return err
	}
	people := report.People()
	if len(people) == 0 {
		return nil
	}
	d.Unready = &Unready{People: len(people), Now: ready.Stopped(people)}
	people = append(people[d.Unready.Now:], people[:d.Unready.Now]...) // of those who still can be warned there is more to gain
	for _, p := range people[:min(len(people), mostListed)] {
		u := UnreadyPerson{User: p.ID, Policies: p.Policies(), Deadline: p.Deadline}
		if len(p.Gaps) > 0 {
			u.Missing = ready.Fewer(p.Gaps[0].Missing)
		}
		d.Unready.First = append(d.Unready.First, u)
	}
	return nil
}

// consents tells what waits, and what was granted in the period.
func (d *Digest) consents(ctx context.Context, ledger *consent.Ledger) error {
	if ledger == nil {
		return nil
	}
	waiting, err := ledger.Waiting(ctx)
	if err != nil {
		return err
	}
	c := &Consents{Waiting: len(waiting)}
	clients := map[string]bool{}
	for _, r := range waiting {
		if c.Oldest.IsZero() || r.Asked.Before(c.Oldest) {
			c.Oldest = r.Asked
		}
		clients[r.Client.ID] = true
	}
	c.Clients = sorted(clients)
	held := map[string]int{}
	for entry, err := range ledger.Journal(ctx) {
		if err != nil {
			return err
		}
		if entry.What == "grant" && !entry.Time.Before(d.From) && entry.Time.Before(d.To) {
			held[entry.Client]++
		}
	}
	for _, client := range sorted(held) {
		c.Held = append(c.Held, Held{client, held[client]})
	}
	if c.Waiting > 0 || len(c.Held) > 0 {
		d.Consents = c
	}
	return nil
}
