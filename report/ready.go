package report

// The page of who is not ready.

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"briskwarden.example/briskwarden"
	"briskwarden.example/briskwarden/internal/schedule"
	"briskwarden.example/briskwarden/ready"
)

// byReadiness are the parts of bars of people.
var byReadiness = []Series{{"already", Block}, {"later", StepUp}, {"ready", Grant}}

// Ready is the page of who is not ready.
func Ready(rules *briskwarden.Rulebook, r *ready.Report) *Page {
	people, zone := r.People(), rules.Zone()
	already := ready.Stopped(people)
	p := &Page{Title: "Who is not ready for what the policies will demand", About: []string{"Rulebook " + short(rules.Digest()),
		"as of " + date(r.Now, zone), "demands by " + date(r.By, zone)}}
	if len(people) == 0 {
		p.Answer = fmt.Sprintf("Everybody is ready for what the policies demand by %s.", date(r.By, zone))
		return p
	}
	p.Answer = fmt.Sprintf("%s not ready for what the policies demand by %s.", are(len(people)), date(r.By, zone))
	p.Tiles = []Tile{{already, "already stopped where it is asked", Block}, {len(people) - already, "stopped later", StepUp},
		{r.All - len(people), "of all others", Grant}}
	lacks := r.Lacks()
	p.Parts = append(p.Parts,
		Part{Charts: []Chart{lackBars(lacks), groupBars(r.Groups())}},
		Part{Charts: []Chart{deadlines(people, zone)}},
		Part{Title: "What is missing, by policy", Table: lackTable(lacks, zone)},
		Part{Title: "By person", Table: peopleTable(people, zone)})
	return p
}

func are(people int) string {
	if people == 1 {
		return "1 person is"
	}
	return Count(people) + " people are"
}

// lackBars count people by policy.
func lackBars(lacks []*ready.Lack) *Bars {
	b := &Bars{Head: Head{Name: "not-ready-by-policy", Title: "People not ready, by policy", Note: "stopped already where it is asked, or later"}, Series: byReadiness}
	at := map[string]map[string]bool{} // by policy, whether each person is stopped already
	var order []string
	for _, l := range lacks {
		name := l.Policy
		if at[name] == nil {
			at[name] = map[string]bool{}
			order = append(order, name)
		}
		for _, u := range l.People {
			at[name][u] = at[name][u] || l.Deadline.IsZero()
		}
	}
	slices.SortStableFunc(order, func(x, y string) int { return cmp.Compare(len(at[y]), len(at[x])) })
	b.More = max(0, len(order)-mostBars)
	for _, name := range order[:len(order)-b.More] {
		parts := make([]int, 3)
		for _, already := range at[name] {
			if already {
				parts[0]++
			} else {
				parts[1]++
			}
		}
		b.Bars = append(b.Bars, Bar{Label: name, Parts: parts})
	}
	return b
}

func groupBars(groups []*ready.Group) *Bars {
	b := &Bars{Head: Head{Name: "ready-by-group", Title: "People, by group"}, Series: byReadiness, More: max(0, len(groups)-mostBars)}
	for _, g := range groups[:len(groups)-b.More] {
		b.Bars = append(b.Bars, Bar{Label: g.Name, Parts: []int{g.Now, g.NotReady - g.Now, g.All - g.NotReady}})
	}
	return b
}

// deadlines are how many people are stopped from which day on.
func deadlines(people []*ready.Person, zone *time.Location) *Bars {
	b := &Bars{Head: Head{Name: "deadlines", Title: "From when people would be stopped"}, Series: byReadiness}
	for _, p := range people {
		label, series := "already", 0
		if !p.Deadline.IsZero() {
			label, series = schedule.DateOf(p.Deadline, zone).String(), 1
		}
		if n := len(b.Bars); n == 0 || b.Bars[n-1].Label != label {
			b.Bars = append(b.Bars, Bar{Label: label, Parts: make([]int, len(b.Series))})
		}
		b.Bars[len(b.Bars)-1].Parts[series]++
	}
	b.More = max(0, len(b.Bars)-mostRows)
	b.Bars = b.Bars[:len(b.Bars)-b.More]
	return b
}

func since(deadline time.Time, zone *time.Location) Text {
	if deadline.IsZero() {
		return marked("already", Block)
	}
	return marked("from "+schedule.DateOf(deadline, zone).String(), StepUp)
}

func lackTable(lacks []*ready.Lack, zone *time.Location) *Table {
	t := &Table{Heads: []string{"policy", "case", "asks", "stopped", "people", "missing", "who"}, More: inJSON(len(lacks) - mostRows)}
	for _, l := range lacks[:min(len(lacks), mostRows)] {
		const most = 12
		who := strings.Join(l.People[:min(len(l.People), most)], ", ")
		if more := len(l.People) - most; more > 0 {
			who += fmt.Sprintf(" and %s more", Count(more))
		}
		t.Rows = append(t.Rows, []Text{plain(l.Policy), plain(`"` + l.Case + `"`), code(l.Asks), since(l.Deadline, zone),
			amount(len(l.People)), plain(ready.Fewer(l.Missing)), faint(who)})
	}
	return t
}

func peopleTable(people []*ready.Person, zone *time.Location) *Table {
	const most = 500
	t := &Table{Heads: []string{"person", "stopped", "by", "missing"}}
	if more := len(people) - most; more > 0 {
		t.More = fmt.Sprintf("and %s more; --csv lists all", Count(more))
	}
	for _, p := range people[:min(len(people), most)] {
		var missing []string
		for _, g := range p.Gaps {
			if text := ready.Fewer(g.Missing); !slices.Contains(missing, text) {
				missing = append(missing, text)
			}
		}
		t.Rows = append(t.Rows, []Text{plain(p.ID), since(p.Deadline, zone), plain(strings.Join(p.Policies(), ", ")), plain(strings.Join(missing, "; "))})
	}
	return t
}
