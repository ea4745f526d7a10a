package digest

// What a digest says, in an order for those who have little time: what got worse, then the rest.

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"briskwarden.example/briskwarden/internal/spell"
	"briskwarden.example/briskwarden/signon"
)

// Section is a part of a digest.
type Section struct {
	Title string
	Brief string // what got worse, in a few words
	Worse bool   // it got worse, or is to be looked at now
	Lines []Line
	See   string // the command that shows more; may be empty
}

// Line is a line of a section: what it is about, and what there is to say.
type Line struct{ Label, Text string }

// Headline says in one line how the period went.
func (d *Digest) Headline() string {
	n := &d.SignOns
	stopped, before := n.All-n.Now[signon.Grant], n.AllBefore-n.Before[signon.Grant]
	text := fmt.Sprintf("%s, %s", spell.Plural(n.All, "sign-on"), "nobody stopped")
	if stopped > 0 {
		text = fmt.Sprintf("%s, %d not let in at once", spell.Plural(n.All, "sign-on"), stopped)
	}
	if d.NoLogs {
		text = "No sign-on log is kept"
	}
	if n.AllBefore > 0 {
		text += fmt.Sprintf(" (%d of %d the period before)", before, n.AllBefore)
	}
	var worse []string
	for _, s := range d.Sections() {
		if s.Worse {
			worse = append(worse, s.Brief)
		}
	}
	if len(worse) == 0 {
		return text + ". Nothing got worse."
	}
	return text + ". To look at: " + strings.Join(worse, ", ") + "."
}

// Sections are the parts of the digest that say something.
func (d *Digest) Sections() []Section {
	all := []Section{d.brokenSection(), d.silentSection(), d.riskySection(), d.accountsSection(), d.unreadySection(), d.endsSection(), d.consentsSection(),
		d.stoppedSection(), d.signOnsSection(), d.changedSection(), d.unreadableSection()}
	all = slices.DeleteFunc(all, func(s Section) bool { return len(s.Lines) == 0 })
	slices.SortStableFunc(all, func(a, b Section) int {
		switch {
		case a.Worse && !b.Worse:
			return -1
		case b.Worse && !a.Worse:
			return 1
		}
		return 0
	})
	return all
}

func (d *Digest) day(t time.Time) string { return t.In(d.zone).Format("Mon 2006-01-02") }

func (d *Digest) minute(t time.Time) string { return t.In(d.zone).Format("Mon 2006-01-02 15:04") }

// lastDay is the last day before an instant.
func (d *Digest) lastDay(t time.Time) string { return d.day(t.Add(-time.Nanosecond)) }

func (d *Digest) brokenSection() Section {
	s := Section{Title: "Promises that do not hold", Brief: spell.Plural(len(d.Broken), "broken promise"), Worse: len(d.Broken) > 0, See: "brisk prove"}
	for _, b := range d.Broken {
		s.Lines = append(s.Lines, Line{b.Promise, b.At})
	}
	for _, name := range d.Unproved {
		s.Lines = append(s.Lines, Line{name, "not worked out in time"})
	}
	return s
}

func (d *Digest) silentSection() Section {
	s := Section{Title: "Gone quiet", Brief: spell.Plural(len(d.Silent), "source") + " gone quiet", Worse: len(d.Silent) > 0}
	for _, q := range d.Silent {
		text := "nothing was ever heard"
		if !q.Since.IsZero() {
			text = "nothing since " + d.minute(q.Since)
		}
		s.Lines = append(s.Lines, Line{q.Source, text})
	}
	return s
}

func (d *Digest) riskySection() Section {
	if d.Risky == nil {
		return Section{}
	}
	r := d.Risky
	s := Section{Title: fmt.Sprintf("Risky sign-ons: %d %s, %d before", r.Count, r.Band, r.Before), Brief: spell.Plural(r.Count, "risky sign-on"), Worse: r.Count > r.Before, See: "brisk risk LOG"}
	for _, u := range r.Worst {
		text := fmt.Sprintf("%d at %s, %s: %s", u.Score, orNone(u.App), d.minute(u.Time), u.Outcome)
		if u.Count > 1 {
			text += fmt.Sprintf(", the worst of %d", u.Count)
		}
		s.Lines = append(s.Lines, Line{orNone(u.User), text + "; since then " + since(u.Granted, u.Stopped)})
	}
	if more := r.Users - len(r.Worst); more > 0 {
		s.Lines = append(s.Lines, Line{"more", fmt.Sprintf("%d users", more)})
	}
	return s
}

// already says how many of some are stopped now.
func already(n int) string {
	if n == 0 {
		return ""
	}
	return fmt.Sprintf(", %d of them stopped already", n)
}

func orNone(name string) string {
	if name == "" {
		return "(none)"
	}
	return name
}

func since(granted, stopped int) string {
	switch {
	case granted+stopped == 0:
		return "nothing"
	case stopped == 0:
		return spell.Plural(granted, "grant")
	case granted == 0:
		return "stopped " + times(stopped)
	}
	return fmt.Sprintf("%s, stopped %s", spell.Plural(granted, "grant"), times(stopped))
}

func times(n int) string {
	if n == 1 {
		return "once"
	}
	return fmt.Sprintf("%d times", n)
}

func (d *Digest) accountsSection() Section {
	s := Section{Title: "Accounts at risk", Brief: spell.Plural(len(d.Accounts), "account") + " at risk", See: "brisk risk --state URL"}
	for _, a := range d.Accounts[:min(len(d.Accounts), mostListed)] {
		what := "risk " + a.Risk
		if a.Compromised {
			what += ", compromised"
		}
		text := fmt.Sprintf("%s, by %s on %s", what, a.By, d.day(a.Since))
		if a.Because != "" {
			text += ": " + a.Because
		}
		s.Worse = s.Worse || !a.Since.Before(d.From)
		s.Lines = append(s.Lines, Line{a.User, text})
	}
	if more := len(d.Accounts) - mostListed; more > 0 {
		s.Lines = append(s.Lines, Line{"more", fmt.Sprintf("and %d others", more)})
	}
	return s
}

func (d *Digest) unreadySection() Section {
	u := d.Unready
	if u == nil {
		return Section{}
	}
	s := Section{Title: fmt.Sprintf("Not ready for what is enforced within 30 days: %s%s", spell.Plural(u.People, "person"), already(u.Now)), Brief: "people who are about to be stopped", See: "brisk ready --by DATE"}
	for _, p := range u.First {
		when := "already"
		if !p.Deadline.IsZero() {
			when = "from " + d.day(p.Deadline)
			s.Worse = s.Worse || !p.Deadline.After(d.To.Add(week))
		}
		s.Lines = append(s.Lines, Line{p.User, fmt.Sprintf("%s: %s; for %s", when, p.Missing, spell.Few(p.Policies, 3))})
	}
	if more := u.People - len(u.First); more > 0 {
		s.Lines = append(s.Lines, Line{"more", fmt.Sprintf("and %d others", more)})
	}
	return s
}

func (d *Digest) endsSection() Section {
	s := Section{Title: "Ends within 30 days", Brief: "what ends this week"}
	for _, e := range d.Ends[:min(len(d.Ends), 2*mostListed)] {
		text := e.What
		if e.Who != "" {
			text += ": " + e.Who
		}
		s.Worse = s.Worse || !e.At.After(d.To.Add(week))
		s.Lines = append(s.Lines, Line{d.lastDay(e.At), text})
	}
	if more := len(d.Ends) - 2*mostListed; more > 0 {
		s.Lines = append(s.Lines, Line{"more", fmt.Sprintf("and %d others", more)})
	}
	return s
}

func (d *Digest) consentsSection() Section {
	c := d.Consents
	if c == nil {
		return Section{}
	}
	s := Section{Title: "Consents of client applications", Brief: "requests for consent that wait for over a week", See: "brisk consent waiting"}
	if c.Waiting > 0 {
		s.Worse = c.Oldest.Before(d.To.Add(-week))
		s.Lines = append(s.Lines, Line{"waiting", fmt.Sprintf("%s, the oldest since %s: %s", spell.Plural(c.Waiting, "request"), d.day(c.Oldest), spell.Few(c.Clients, mostListed))})
	}
	var held []string
	for _, h := range c.Held {
		held = append(held, fmt.Sprintf("%s (%d)", h.Client, h.Consents))
	}
	if len(held) > 0 {
		s.Lines = append(s.Lines, Line{"newly held", spell.Few(held, mostListed)})
	}
	return s
}

// Most of what policies stop is as it should be: it got worse where it is half as much again as before.
func muchMore(now, before int) bool { return now >= before+10 && 2*now >= 3*before }

func (d *Digest) stoppedSection() Section {
	const most = 3
	s := Section{Brief: "a policy that stops many more", See: "brisk replay LOG"}
	all, before := 0, 0
	for i, p := range d.Stopped {
		now, was := p.All(), p.Was()
		all, before = all+now, before+was
		if i >= most || now == 0 {
			continue
		}
		s.Lines = append(s.Lines, Line{p.Policy, fmt.Sprintf("%d blocked, %d asked for more; %d before", p.Blocked, p.Asked, was)})
		s.Worse = s.Worse || muchMore(now, was)
	}
	s.Title = fmt.Sprintf("Stopped by the policies as they are now: %s, %d before; the most by", times(all), before)
	return s
}

func (d *Digest) signOnsSection() Section {
	n := &d.SignOns
	s := Section{Title: fmt.Sprintf("Sign-ons: %d, %d before", n.All, n.AllBefore), Brief: fmt.Sprintf("%d blocks", n.Now[signon.Block]), Worse: muchMore(n.Now[signon.Block], n.Before[signon.Block])}
	for _, o := range []signon.Outcome{signon.Grant, signon.StepUp, signon.Review, signon.Block} {
		if now, before := n.Now[o], n.Before[o]; now+before > 0 {
			s.Lines = append(s.Lines, Line{o.String(), fmt.Sprintf("%d, %d before%s", now, before, change(now, before))})
		}
	}
	return s
}

func change(now, before int) string {
	if before == 0 || now == before {
		return ""
	}
	return fmt.Sprintf(" (%+.0f %%)", 100*float64(now-before)/float64(before))
}

func (d *Digest) changedSection() Section {
	c := d.Changed
	if c == nil {
		return Section{}
	}
	s := Section{Title: "The rulebook changed", See: "brisk review BASE"}
	if c.Before != "" {
		s.Lines = append(s.Lines, Line{"digest", short(c.Before) + " became " + short(d.Digest)})
	}
	for _, commit := range c.Commits[:min(len(c.Commits), mostListed)] {
		s.Lines = append(s.Lines, Line{d.day(commit.Time), fmt.Sprintf("%s, by %s (%.10s)", commit.Subject, commit.By, commit.ID)})
	}
	if more := len(c.Commits) - mostListed; more > 0 {
		s.Lines = append(s.Lines, Line{"more", fmt.Sprintf("%d commits", more)})
	}
	return s
}

func short(digest string) string { return fmt.Sprintf("%.12s", strings.TrimPrefix(digest, "sha256:")) }

func (d *Digest) unreadableSection() Section {
	s := Section{Title: fmt.Sprintf("Lines of logs that cannot be read: %d", d.BadLines), Brief: spell.Plural(d.BadLines, "line") + " of logs that cannot be read", Worse: d.BadLines > 0}
	for _, b := range d.Bad[:min(len(d.Bad), 3)] {
		s.Lines = append(s.Lines, Line{fmt.Sprintf("%s:%d", b.File, b.Number), b.Why})
	}
	return s
}
