package report

import (
	"fmt"
	"strings"

	"briskwarden.example/briskwarden/internal/replay"
	"briskwarden.example/briskwarden/internal/rulebook"
	"briskwarden.example/briskwarden/internal/spell"
	"briskwarden.example/briskwarden/signon"
)

// Compare is the page of a comparison of two rulebooks.
func Compare(before, after *rulebook.Rulebook, c *replay.Comparison) *Page {
	_, all, changed := c.From.Changes()
	p := &Page{Title: "What a new rulebook would decide differently", About: append(about(after, c.Span), "compared with "+short(before.Digest))}
	if changed == 0 {
		p.Answer = fmt.Sprintf("Nothing changes for %s.", signOns(all))
	} else {
		p.Answer = fmt.Sprintf("%s of %s change, for %s.", Count(changed), signOns(all), spell.Plural(len(c.People), "person"))
		stricter, looser := 0, 0
		for _, person := range c.People {
			stricter += person.Stricter
			looser += person.Looser
		}
		p.Tiles = []Tile{{stricter, "come out stricter", Block}, {looser, "come out looser", Grant}, {all - changed, "stay as they are", Still}}
	}
	p.badLines(c.Bad, c.BadLines)
	table := fromTo(Head{Name: "outcome-to-outcome", Title: "From the old rulebook to the new", Note: "in sign-ons"}, &c.From)
	if changed == 0 {
		p.Parts = append(p.Parts, Part{Charts: []Chart{table}})
		return p
	}
	p.Parts = append(p.Parts,
		Part{Charts: []Chart{table, byApp("changes", "What changes", &c.Changes)}},
		Part{Charts: []Chart{because(c)}},
		Part{Charts: []Chart{overTime("changes", "What changes", &c.Changes, c.Span, after.Zone)}},
		byHour("changes", "What changes", &c.Changes))
	for _, g := range c.Groups[:min(len(c.Groups), mostRows)] {
		p.Parts = append(p.Parts, Part{Title: fmt.Sprintf("%s from %s to %s", signOns(g.Count), g.From, g.To), Table: groupTable(after, g)})
	}
	if t := changedPeople(c); len(t.Rows) > 0 {
		p.Parts = append(p.Parts, Part{Title: "People for whom something changes", Table: t})
	}
	return p
}

// because are the reasons of what changes.
func because(c *replay.Comparison) *Bars {
	b := &Bars{Head: Head{Name: "reasons", Title: "Why they change", Note: "by the new outcome"}, Series: byOutcome, More: max(0, len(c.Groups)-mostBars)}
	for _, g := range c.Groups[:len(c.Groups)-b.More] {
		var o replay.Outcomes
		o[g.To] = g.Count
		b.Bars = append(b.Bars, Bar{Label: strings.Join(g.Because, " and "), Parts: outcomes(&o)})
	}
	return b
}

func groupTable(rb *rulebook.Rulebook, g *replay.Group) *Table {
	names, _ := replay.Ranked(g.People)
	t := &Table{Note: fmt.Sprintf("Because %s. It concerns %s: %s.", strings.Join(g.Because, " and "), spell.Plural(len(names), "person"), firstOf(names, g.People)),
		Heads: []string{"for example", "to", "at", "in the log"}}
	for _, e := range g.Examples {
		t.Rows = append(t.Rows, []Text{plain(e.User), plain(e.App), plain(e.Time.In(rb.Zone).Format("Mon 2 Jan 2006 15:04")), faint(strings.TrimSpace(e.ID + " " + e.At))})
	}
	return t
}

func changedPeople(c *replay.Comparison) *Table {
	t := &Table{Heads: []string{"person", "stricter", "looser", "to grant", "to review", "to step-up", "to block"}}
	changes := map[string]int{}
	for u, p := range c.People {
		changes[u] = p.Outcomes.All()
	}
	names, _ := replay.Ranked(changes)
	t.More = inJSON(len(names) - mostRows)
	for _, u := range names[:min(len(names), mostRows)] {
		p := c.People[u]
		t.Rows = append(t.Rows, []Text{plain(u), amount(p.Stricter), amount(p.Looser), amount(p.Outcomes[signon.Grant]),
			amount(p.Outcomes[signon.Review]), amount(p.Outcomes[signon.StepUp]), amount(p.Outcomes[signon.Block])})
	}
	return t
}
