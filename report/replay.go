package report

// The page of a replay.

import (
	"fmt"
	"strings"
	"time"

	"briskwarden.example/briskwarden"
	"briskwarden.example/briskwarden/internal/spell"
	"briskwarden.example/briskwarden/replay"
	"briskwarden.example/briskwarden/signon"
)

// mostRows is how many rows a table has at most; all are in the JSON.
const mostRows = 50

// inJSON tells where the rest stands.
func inJSON(more int) string {
	if more <= 0 {
		return ""
	}
	return fmt.Sprintf("and %s more; --json lists all", Count(more))
}

// Replay is the page of a replay.
func Replay(rules *briskwarden.Rulebook, s *replay.Summary) *Page {
	p := &Page{Title: "What the rulebook would do to logged sign-ons", About: about(rules, s.Span)}
	p.answer(&s.Outcomes, &s.Recorded, signOns)
	if s.Outcomes.All() == 0 && s.Consents.Outcomes.All() > 0 {
		p.Title = "What the rulebook would do to logged requests for consent"
		p.answer(&s.Consents.Outcomes, &s.Consents.Recorded, requests)
	}
	for _, w := range s.Watched {
		p.Say = append(p.Say, watching(w))
	}
	p.badLines(s.Bad, s.BadLines)
	if s.Outcomes.All() == 0 {
		p.consents(&s.Consents)
		return p
	}
	apps := Part{Charts: []Chart{byApp("sign-ons", "Sign-ons", &s.Spread)}}
	if _, recorded, _ := s.Recorded.Changes(); recorded > 0 {
		apps.Charts = append(apps.Charts, fromTo(Head{Name: "outcome-to-outcome", Title: "From what the log recorded to what comes out now"}, &s.Recorded))
	}
	p.Parts = append(p.Parts,
		Part{Charts: []Chart{overTime("sign-ons", "Sign-ons", &s.Spread, s.Span, rules.Zone())}},
		apps,
		byHour("sign-ons", "Sign-ons", &s.Spread),
		Part{Title: "What decides", Charts: []Chart{policyBars(s)}},
		Part{Title: "Where from, and with what", Charts: []Chart{
			bars(Head{Name: "countries", Title: "By country"}, replay.Rows(s.Countries), "unknown"),
			bars(Head{Name: "networks", Title: "By named network"}, s.NetworkRows(), "no named network"),
			bars(Head{Name: "devices", Title: "By form of device"}, replay.Rows(s.Forms), "unknown")}})
	for _, x := range []struct {
		title   string
		outcome signon.Outcome
	}{{"Why it blocks", signon.Block}, {"Why it steps up", signon.StepUp}, {"Why it sends to review", signon.Review}} {
		if t := reasonTable(&s.Reasoning, x.outcome, "sign-ons"); len(t.Rows) > 0 {
			p.Parts = append(p.Parts, Part{Title: x.title, Table: t})
		}
	}
	if t := affectedTable(s); len(t.Rows) > 0 {
		p.Parts = append(p.Parts, Part{Title: "People most affected", Table: t})
	}
	p.consents(&s.Consents)
	return p
}

// consents are requests for consent, apart from sign-ons.
func (p *Page) consents(c *replay.Consents) {
	if c.Outcomes.All() == 0 {
		return
	}
	p.Parts = append(p.Parts, Part{Title: "Requests for consent", Charts: []Chart{
		bars(Head{Name: "consents-by-client", Title: "By client application"}, replay.Rows(c.Clients), "none"),
		fromTo(Head{Name: "consents-outcome-to-outcome", Title: "From what the log recorded to what comes out now"}, &c.Recorded)}})
	for _, x := range []struct {
		title   string
		outcome signon.Outcome
	}{{"Why consent is blocked", signon.Block}, {"Why consent waits for a review", signon.Review}} {
		if t := reasonTable(&c.Reasoning, x.outcome, "requests"); len(t.Rows) > 0 {
			p.Parts = append(p.Parts, Part{Title: x.title, Table: t})
		}
	}
}

// answer tells what would change against the log, or else what comes out.
func (p *Page) answer(o *replay.Outcomes, table *replay.Table, counted func(int) string) {
	p.Tiles = tiles(o)
	changes, recorded, changed := table.Changes()
	switch {
	case recorded == 0:
		p.Answer = fmt.Sprintf("Of %s, %s would be blocked and %s stepped up.", counted(o.All()), Count(o[signon.Block]), Count(o[signon.StepUp]))
	case changed == 0:
		p.Answer = fmt.Sprintf("Nothing would change: %s come out as the log recorded.", counted(recorded))
	case len(changes) == 1:
		p.Answer = fmt.Sprintf("%s of %s would change, all from %s to %s.", Count(changed), counted(recorded), changes[0].From, changes[0].To)
	default:
		var parts []string
		for _, c := range changes {
			parts = append(parts, fmt.Sprintf("%s from %s to %s", Count(c.Count), c.From, c.To))
		}
		p.Answer = fmt.Sprintf("%s of %s would change: %s.", Count(changed), counted(recorded), strings.Join(parts, ", "))
	}
}

func requests(n int) string {
	if n == 1 {
		return "1 request for consent"
	}
	return Count(n) + " requests for consent"
}

func signOns(n int) string {
	if n == 1 {
		return "1 sign-on"
	}
	return Count(n) + " sign-ons"
}

func tiles(o *replay.Outcomes) (list []Tile) {
	for _, outcome := range []signon.Outcome{signon.Grant, signon.Review, signon.StepUp, signon.Block} {
		if o[outcome] > 0 || outcome != signon.Review {
			list = append(list, Tile{o[outcome], outcome.String(), colourOf(outcome)})
		}
	}
	return list
}

// about tells of what rulebook and of which time a page is.
func about(rules *briskwarden.Rulebook, s replay.Span) []string {
	list := []string{"Rulebook " + short(rules.Digest())}
	if !s.First.IsZero() {
		const layout = "Mon 2 Jan 2006"
		list = append(list, s.First.In(rules.Zone()).Format(layout)+" to "+s.Last.In(rules.Zone()).Format(layout))
	}
	return append(list, "times are of "+rules.Zone().String())
}

func watching(w replay.Watching) Remark {
	of := fmt.Sprintf("of %s that it applied to; others stopped %s already.", signOns(w.Applied), Count(w.Already))
	name := "On watch: " + w.Policy
	if len(w.Block)+len(w.StepUp) == 0 {
		return Remark{Grant, name, "is safe to enforce by this log: it would have stopped none " + of}
	}
	var parts []string
	colour := StepUp
	for _, x := range []struct {
		word  string
		users map[string]int
	}{{"blocked", w.Block}, {"stepped up", w.StepUp}} {
		if names, n := replay.Ranked(x.users); n > 0 {
			parts = append(parts, fmt.Sprintf("%s %s of %s (%s)", x.word, signOns(n), spell.Plural(len(names), "person"), firstOf(names, x.users)))
		}
	}
	if len(w.Block) > 0 {
		colour = Block
	}
	if w.Unsure > 0 {
		of += " " + Count(w.Unsure) + " of its blocks rest on unknown facts alone."
	}
	return Remark{colour, name, "would have " + strings.Join(parts, " and ") + ", " + of}
}

// firstOf names the first few people with their numbers.
func firstOf(names []string, users map[string]int) string {
	const most = 3
	var parts []string
	for _, u := range names[:min(len(names), most)] {
		parts = append(parts, fmt.Sprintf("%s %s", u, Count(users[u])))
	}
	if more := len(names) - most; more > 0 {
		parts = append(parts, fmt.Sprintf("%s more", Count(more)))
	}
	return strings.Join(parts, ", ")
}

func (p *Page) badLines(bad []replay.BadLine, all int) {
	if all == 0 {
		return
	}
	p.Say = append(p.Say, Remark{StepUp, spell.Plural(all, "line"), "of the log could not be read and counts for nothing; the first: " + fmt.Sprintf("%s:%d: %s", bad[0].File, bad[0].Number, bad[0].Why)})
}

// overTime is a chart of outcomes by day, from the first day of a log to its last.
func overTime(name, what string, s *replay.Spread, of replay.Span, zone *time.Location) Chart {
	return timeline(Head{Name: name + "-over-time", Title: what + " over time"}, s.DayRows(), of.First.In(zone), of.Last.In(zone))
}

func byApp(name, what string, s *replay.Spread) Chart {
	return bars(Head{Name: name + "-by-app", Title: what + " by app"}, replay.Rows(s.Apps), "none")
}

// byHour are grids of the hours of the week: of all, and of what is stopped where that is not all.
func byHour(name, what string, s *replay.Spread) Part {
	stopped := func(o *replay.Outcomes) int { return o[signon.Block] + o[signon.StepUp] }
	p := Part{Title: "The hours of the week", Charts: []Chart{week(Head{Name: name + "-by-hour", Title: what + " by hour"}, Plain, &s.Hours, (*replay.Outcomes).All)}}
	if n := stopped(&s.Outcomes); n > 0 && n < s.Outcomes.All() {
		p.Charts = append(p.Charts, week(Head{Name: name + "-stopped-by-hour", Title: "Blocked or stepped up, by hour"}, Block, &s.Hours, stopped))
	}
	return p
}

// policyBars are the policies that decide, each with its cases.
func policyBars(s *replay.Summary) *Bars {
	b := &Bars{Head: Head{Name: "policies", Title: "By policy and case", Note: "A sign-on counts for every policy that gave its outcome."}, Series: byOutcome}
	rows := s.PolicyRows()
	for _, row := range rows[:min(len(rows), mostRows)] {
		b.Bars = append(b.Bars, Bar{Label: row.Policy, Parts: outcomes(&row.Outcomes)})
		for _, c := range row.Cases {
			b.Bars = append(b.Bars, Bar{Label: `"` + c.Label + `"`, Parts: outcomes(&c.Decided), Within: true})
		}
	}
	b.More = max(0, len(rows)-mostRows)
	return b
}

func reasonTable(s *replay.Reasoning, outcome signon.Outcome, counted string) *Table {
	t := &Table{Heads: []string{counted, "policy", "case", "when", "asks", "where it stands"}}
	cases, others := s.Reasons(outcome)
	t.More = inJSON(len(cases) - mostRows)
	for _, x := range cases[:min(len(cases), mostRows)] {
		t.Rows = append(t.Rows, []Text{amount(x.Count), plain(x.Policy), plain(`"` + x.Label + `"`), code(x.When), code(x.Asks), faint(x.At)})
	}
	for _, x := range others {
		t.Rows = append(t.Rows, []Text{amount(x.Count), faint(x.Ground), plain(""), plain(""), plain(""), plain("")})
	}
	return t
}

func affectedTable(s *replay.Summary) *Table {
	t := &Table{Heads: []string{"person", "sign-ons", "grant", "review", "step-up", "block", "stricter than logged", "looser"}}
	users := s.Affected()
	t.More = inJSON(len(users) - mostRows)
	for _, u := range users[:min(len(users), mostRows)] {
		o := s.People[u]
		t.Rows = append(t.Rows, []Text{plain(u), amount(o.Outcomes.All()), amount(o.Outcomes[signon.Grant]), amount(o.Outcomes[signon.Review]),
			amount(o.Outcomes[signon.StepUp]), amount(o.Outcomes[signon.Block]), amount(o.Stricter), amount(o.Looser)})
	}
	return t
}

// short is the beginning of a digest, enough to tell rulebooks apart.
func short(digest string) string {
	const enough = len("sha256:") + 12
	return digest[:min(len(digest), enough)]
}

func date(t time.Time, zone *time.Location) string { return t.In(zone).Format("Mon 2 Jan 2006") }
