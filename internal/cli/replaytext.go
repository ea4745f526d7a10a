package cli

// What a replay counted, as text.

import (
	"fmt"
	"strings"
	"time"

	"briskwarden.example/briskwarden/internal/screen"
	"briskwarden.example/briskwarden/internal/spell"
	"briskwarden.example/briskwarden/replay"
	"briskwarden.example/briskwarden/signon"
)

// replayReport lays out what a replay counted.
type replayReport struct {
	*session
	zone *time.Location
	sum  *replay.Summary
}

// mostRows is how many lines of a table are shown.
const mostRows = 12

func (r *replayReport) print() {
	n := r.sum.Outcomes.All()
	if n == 0 && r.sum.Consents.Outcomes.All() > 0 {
		r.consents()
		r.watch()
		r.badLines()
		return
	}
	if n == 0 {
		r.out.Println("No sign-on of the logs is among those asked for.")
		r.badLines()
		return
	}
	r.out.Printf("%s, %s to %s: %s\n", r.paint.Bold(spell.Plural(n, "sign-on")), r.sum.First.In(r.zone).Format("Mon 2006-01-02"),
		r.sum.Last.In(r.zone).Format("Mon 2006-01-02"), r.outcomes(&r.sum.Outcomes))
	r.changes(&r.sum.Recorded)
	r.reasons("Why it blocks", signon.Block, &r.sum.Reasoning)
	r.reasons("Why it steps up", signon.StepUp, &r.sum.Reasoning)
	r.watch()
	r.table("By app", replay.Rows(r.sum.Apps), "none", mostRows)
	r.table("By policy and case", r.policyRows(), "", 60)
	r.table("By country", replay.Rows(r.sum.Countries), "unknown", mostRows)
	r.table("By network", r.sum.NetworkRows(), "no named network", mostRows)
	r.table("By form of device", replay.Rows(r.sum.Forms), "unknown", mostRows)
	r.table("By day", r.sum.DayRows(), "", 31)
	r.people()
	r.consents()
	r.badLines()
}

// consents tells of requests for consent, apart from sign-ons.
func (r *replayReport) consents() {
	c := &r.sum.Consents
	if c.Outcomes.All() == 0 {
		return
	}
	if r.sum.Outcomes.All() > 0 {
		r.out.Println()
	}
	r.out.Printf("%s of %s: %s\n", r.paint.Bold(spell.Plural(c.Outcomes.All(), "request")+" for consent"), spell.Plural(len(c.Clients), "client application"), r.outcomes(&c.Outcomes))
	r.changes(&c.Recorded)
	r.reasons("Why consent is blocked", signon.Block, &c.Reasoning)
	r.reasons("Why it waits for a review", signon.Review, &c.Reasoning)
	r.table("By client application", replay.Rows(c.Clients), "none", mostRows)
}

// outcomes tells counts by outcome, the loosest first, without what does not occur.
func (r *replayReport) outcomes(o *replay.Outcomes) screen.Styled {
	var parts []string
	for _, outcome := range []signon.Outcome{signon.Grant, signon.Review, signon.StepUp, signon.Block} {
		if o[outcome] > 0 {
			parts = append(parts, string(r.paint.Outcome(outcome, fmt.Sprintf("%d %s", o[outcome], outcome))))
		}
	}
	return screen.Styled(strings.Join(parts, ", "))
}

// changes tells what would come out otherwise than the log recorded.
func (r *replayReport) changes(table *replay.Table) {
	changes, recorded, changed := table.Changes()
	var parts []string
	for _, c := range changes {
		parts = append(parts, fmt.Sprintf("%d from %s to %s", c.Count, c.From, c.To))
	}
	switch {
	case recorded == 0:
		r.out.Println("The log records no outcomes to compare with.")
	case changed == 0:
		r.out.Printf("Nothing would change against the outcomes that the log recorded of %d.\n", recorded)
	default:
		r.out.Printf("%s against the log: %s.\n", r.paint.Amber(fmt.Sprintf("%d would change", changed)), strings.Join(parts, ", "))
	}
}

// reasons lists the cases, and what else, that gave an outcome.
func (r *replayReport) reasons(title string, outcome signon.Outcome, of *replay.Reasoning) {
	cases, others := of.Reasons(outcome)
	if len(cases)+len(others) == 0 {
		return
	}
	r.head(title)
	for _, x := range cases[:min(len(cases), mostRows)] {
		r.out.Printf("%7d  %s %q\n", x.Count, x.Policy, x.Label)
	}
	if more := len(cases) - mostRows; more > 0 {
		r.out.Printf("         and %s more\n", spell.Plural(more, "case"))
	}
	for _, x := range others {
		r.out.Printf("%7d  %s\n", x.Count, x.Ground)
	}
}

// watch tells what the policies on watch would have done.
func (r *replayReport) watch() {
	if len(r.sum.Watched) == 0 {
		return
	}
	r.head("On watch: what each would do, were it enforced")
	for _, w := range r.sum.Watched {
		r.out.Printf("  %s %s\n", r.paint.Bold(w.Policy), r.paint.Faint("("+w.At+")"))
		if len(w.Block)+len(w.StepUp) == 0 {
			r.out.Printf("      %s: it applied to %s and would have stopped none of them; others stopped %d already\n",
				r.paint.Green("Safe to enforce by this log"), spell.Plural(w.Applied, "sign-on"), w.Already)
			continue
		}
		for _, x := range []struct {
			outcome signon.Outcome
			users   map[string]int
		}{{signon.Block, w.Block}, {signon.StepUp, w.StepUp}} {
			if len(x.users) > 0 {
				r.out.Printf("      would %s %s\n", r.paint.Outcome(x.outcome, x.outcome.String()), screen.Wrapped(affected(x.users, "sign-on"), 18))
			}
		}
		if w.Unsure > 0 {
			r.out.Printf("      %s\n", r.paint.Amber(fmt.Sprintf("%d of its blocks rest on unknown facts alone", w.Unsure)))
		}
		r.out.Printf("      of %s that it applied to; others stopped %d already\n", spell.Plural(w.Applied, "sign-on"), w.Already)
	}
}

// affected tells how many sign-ons of how many people, and who comes first.
func affected(users map[string]int, what string) string {
	names, n := replay.Ranked(users)
	var first []string
	const most = 5
	for _, u := range names[:min(len(names), most)] {
		first = append(first, fmt.Sprintf("%s %d", u, users[u]))
	}
	if more := len(names) - most; more > 0 {
		first = append(first, fmt.Sprintf("%d more", more))
	}
	return fmt.Sprintf("%s of %s: %s", spell.Plural(n, what), spell.Plural(len(users), "person"), strings.Join(first, ", "))
}

// table prints counts by outcome, of the first rows up to a limit.
func (r *replayReport) table(title string, rows []replay.Row, unnamed string, limit int) {
	if len(rows) == 0 {
		return
	}
	width := max(16, len([]rune(title))-2)
	for i, row := range rows {
		if row.Name == "" {
			rows[i].Name = unnamed
		}
		width = max(width, len([]rune(rows[i].Name)))
	}
	r.out.Printf("\n%s %s\n", r.paint.Blue(screen.Pad(title, width+2)), r.paint.Faint("    all   grant  review step-up   block"))
	for _, row := range rows[:min(len(rows), limit)] {
		r.out.Printf("  %s %7d %7s %7s %7s %7s\n", screen.Pad(row.Name, width), row.All(), number(row.Outcomes[signon.Grant]), number(row.Outcomes[signon.Review]),
			number(row.Outcomes[signon.StepUp]), number(row.Outcomes[signon.Block]))
	}
	if more := len(rows) - limit; more > 0 {
		r.out.Printf("  and %d more\n", more)
	}
}

// policyRows are the policies that decided, alone or among others, each with its cases.
func (r *replayReport) policyRows() (rows []replay.Row) {
	for _, p := range r.sum.PolicyRows() {
		rows = append(rows, replay.Row{Name: p.Policy, Outcomes: p.Outcomes})
		for _, c := range p.Cases {
			rows = append(rows, replay.Row{Name: fmt.Sprintf("  %q", c.Label), Outcomes: c.Decided})
		}
	}
	return rows
}

// number leaves a place empty where there is nothing to count.
func number(n int) string {
	if n == 0 {
		return "·"
	}
	return fmt.Sprint(n)
}

// people lists those whose sign-ons were stopped most often.
func (r *replayReport) people() {
	users := r.sum.Affected()
	if len(users) == 0 {
		return
	}
	rows := make([]replay.Row, 0, mostRows)
	for _, u := range users[:min(len(users), mostRows)] {
		rows = append(rows, replay.Row{Name: u, Outcomes: r.sum.People[u].Outcomes})
	}
	r.table(heading("People most affected", len(rows), len(users)), rows, "none", mostRows)
}

func (r *replayReport) badLines() {
	if r.sum.Refused > 0 {
		r.err.Printf("brisk: %s could not be decided and count for nothing: a user attribute of the wrong type\n", spell.Plural(r.sum.Refused, "sign-on"))
	}
	r.session.badLines(r.sum.Bad, r.sum.BadLines)
}
