package report

// The page of a comparison.

import (
	"fmt"
	"strings"
	"time"

	"briskwarden.example/briskwarden"
	"briskwarden.example/briskwarden/internal/spell"
	"briskwarden.example/briskwarden/replay"
	"briskwarden.example/briskwarden/signon"
)

// Compare is the page of a comparison of two rulebooks.
func Compare(before, after *briskwarden.Rulebook, c *replay.Comparison) *Page {
	_, all, changed := c.From.Changes()
	p := &Page{Title: "What a new rulebook would decide differently", About: append(about(after, c.Span), "compared with "+short(before.Digest()))}
	if changed == 0 {
		p.Answer = fmt.Sprintf("Nothing changes for %s.", signOns(all))
		if all == 0 && c.Consents.Compared > 0 {
			p.Answer = consentsChange(&c.Consents)
		}
	} else {
		p.Answer = fmt.Sprintf("%s of %s change, for %s.", Count(changed), signOns(all), spell.Plural(len(c.People), "person"))
		stricter, looser := 0, 0
		for _, person := range c.People {
			stricter += person.Stricter
			looser += person.Looser
		}
		p.Tiles = []Tile{{stricter, "come out stricter", Block}, {looser, "come out looser", Grant}, {all - changed, "stay as they are", Still}}
	}
	if all > 0 && c.Consents.Compared > 0 {
		p.Say = append(p.Say, Remark{Plain, "Consent:", consentsChange(&c.Consents)})
	}
	p.badLines(c.Bad, c.BadLines)
	consents := consentParts(after, &c.Consents)
	table := fromTo(Head{Name: "outcome-to-outcome", Title: "From the old rulebook to the new", Note: "in sign-ons"}, &c.From)
	if changed == 0 {
		p.Parts = append(append(p.Parts, Part{Charts: []Chart{table}}), consents...)
		return p
	}
	p.Parts = append(p.Parts,
		Part{Charts: []Chart{table, byApp("changes", "What changes", &c.Changes)}},
		Part{Charts: []Chart{because(c)}},
		Part{Charts: []Chart{overTime("changes", "What changes", &c.Changes, c.Span, after.Zone())}},
		byHour("changes", "What changes", &c.Changes))
	for _, g := range c.Groups[:min(len(c.Groups), mostRows)] {
		p.Parts = append(p.Parts, Part{Title: fmt.Sprintf("%s from %s to %s", signOns(g.Count), g.From, g.To), Table: groupTable(after.Zone(), g)})
	}
	if t := changedPeople(c); len(t.Rows) > 0 {
		p.Parts = append(p.Parts, Part{Title: "People for whom something changes", Table: t})
	}
	p.Parts = append(p.Parts, consents...)
	return p
}

// consentsChange tells how many requests for consent change.
func consentsChange(d *replay.Difference) string {
	_, all, changed := d.From.Changes()
	if changed == 0 {
		return fmt.Sprintf("Nothing changes for %s for consent.", spell.Plural(all, "request"))
	}
	return fmt.Sprintf("%s of %s for consent change, for %s.", Count(changed), spell.Plural(all, "request"), spell.Plural(len(d.People), "person"))
}

// consentParts are the ways in which requests for consent change.
func consentParts(after *briskwarden.Rulebook, d *replay.Difference) (parts []Part) {
	for _, g := range d.Groups[:min(len(d.Groups), mostRows)] {
		parts = append(parts, Part{Title: fmt.Sprintf("%s for consent from %s to %s", spell.Plural(g.Count, "request"), g.From, g.To), Table: groupTable(after.Zone(), g)})
	}
	return parts
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

func groupTable(zone *time.Location, g *replay.Group) *Table {
	names, _ := replay.Ranked(g.People)
	t := &Table{Note: fmt.Sprintf("Because %s. It concerns %s: %s.", strings.Join(g.Because, " and "), spell.Plural(len(names), "person"), firstOf(names, g.People)),
		Heads: []string{"for example", "to", "at", "in the log"}}
	for _, e := range g.Examples {
		t.Rows = append(t.Rows, []Text{plain(e.User), plain(e.App), plain(e.Time.In(zone).Format("Mon 2 Jan 2006 15:04")), faint(strings.TrimSpace(e.ID + " " + e.At))})
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
