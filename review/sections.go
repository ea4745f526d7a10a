package review

// A review as people read it: the worst first.

import (
	"cmp"
	"fmt"
	"time"

	"briskwarden.example/briskwarden/findings"
	"briskwarden.example/briskwarden/internal/spell"
	"briskwarden.example/briskwarden/prove"
	"briskwarden.example/briskwarden/replay"
)

// Section is one part of what a change does. The names in its lines are as they stand in the rulebook: whoever prints them sees to
// what they hold.
type Section struct {
	Title string
	Worse bool // something that somebody has to answer for
	Items [][]Line
	More  int // that are not told
}

// Line is a line of an item: all but the first have a label.
type Line struct{ Label, Text string }

// mostItems is how many items of a section are told.
const mostItems = 12

// Sections are the parts of the review that have something to tell, the worst first.
func (r *Review) Sections() []Section {
	w := r.ways()
	var unknown [][]Line
	if r.Differences.Undecided != "" {
		unknown = [][]Line{{{Text: r.Differences.Undecided}}}
	}
	list := []Section{
		section("Loosened", true, w.looser, difference),
		section("Not worked out in time", true, unknown, func(lines []Line) []Line { return lines }),
		section("Sessions that may last longer", true, w.longer, difference),
		section("What comes from outside", true, r.Outside, Declared.lines),
		section("Promises that changed their answer", worse(r.Promises) > 0, r.Promises, Changed.lines),
		section("Expectations that changed their answer", worse(r.Expectations) > 0, r.Expectations, Changed.lines),
		section("New findings", len(r.New) > 0, r.New, finding),
		section("Tightened", false, w.stricter, difference),
		section("Sessions that end sooner", false, w.shorter, difference),
		section("No longer ready", false, r.Unready, Unready.lines),
		section("In the log", false, r.felt(), func(lines []Line) []Line { return lines }),
		section("Findings that are gone", false, r.Gone, finding),
		section("Declarations", false, r.Declarations, Declared.lines),
		section("Past the span", false, r.Differences.Past, dated),
	}
	told := list[:0]
	for _, s := range list {
		if len(s.Items) > 0 {
			told = append(told, s)
		}
	}
	return told
}

func section[T any](title string, worse bool, all []T, lines func(T) []Line) Section {
	s := Section{Title: title, Worse: worse, More: max(0, len(all)-mostItems)}
	for _, one := range all[:len(all)-s.More] {
		s.Items = append(s.Items, lines(one))
	}
	return s
}

func dated(d prove.Dated) []Line { return []Line{{Text: d.At.Format(time.DateOnly) + "  " + d.What}} }

func difference(d *prove.Difference) []Line {
	doing := ""
	if len(d.Actions) != 1 || d.Actions[0] != "sign-on" {
		doing = ", doing " + spell.Few(d.Actions, 4)
	}
	goes := fmt.Sprintf("%s to %s", d.From, d.To)
	if d.Session != nil {
		goes = d.Session.Text()
	}
	lines := []Line{{Text: fmt.Sprintf("%s  %s at %s%s", goes, spell.Few(d.People, 4), spell.Few(d.Apps, 6), doing)}}
	if when := d.Brief(); when != "" {
		lines = append(lines, Line{"when", when})
	}
	lines = append(append(lines, by("before", d.Old)...), by("now", d.New)...)
	if d.Decide != "" {
		lines = append(lines, Line{"see", "brisk decide " + spell.Shell([]string{d.Decide})})
	}
	return lines
}

func by(label string, list []prove.By) (lines []Line) {
	const most = 3
	for i := range list[:min(len(list), most)] {
		lines = append(lines, Line{label, list[i].Text()})
		label = ""
	}
	if more := len(list) - most; more > 0 {
		lines = append(lines, Line{"", fmt.Sprintf("and %d more", more)})
	}
	return lines
}

func (c Changed) lines() []Line {
	head := fmt.Sprintf("%s to %s  %s", cmp.Or(c.Before, "none"), cmp.Or(c.After, "none"), c.Name)
	if c.At != "" {
		head += " (" + c.At + ")"
	}
	lines := []Line{{Text: head}}
	if c.Why != "" {
		lines = append(lines, Line{"why", c.Why})
	}
	return lines
}

func finding(f findings.Finding) []Line { return []Line{{Text: f.Problem.String()}} }

func (u Unready) lines() []Line {
	since := "already"
	if !u.From.IsZero() {
		since = "from " + u.From.Format("2006-01-02 15:04")
	}
	return []Line{{Text: fmt.Sprintf("%s  %s, by %s", u.User, since, spell.Few(u.Policies, 4))}}
}

// felt is what sign-ons of the log, and requests for consent, would have come to.
func (r *Review) felt() (items [][]Line) {
	if r.Log == nil {
		return nil
	}
	for _, x := range []struct {
		what string
		d    *replay.Difference
	}{{"sign-on", &r.Log.Difference}, {"consent request", &r.Log.Consents}} {
		if x.d.Compared == 0 {
			continue
		}
		all := spell.Plural(x.d.Compared, x.what)
		changes, _, changed := x.d.From.Changes()
		if changed == 0 {
			items = append(items, []Line{{Text: "of " + all + ", none changes"}})
			continue
		}
		lines := []Line{{Text: fmt.Sprintf("of %s, %d change, of %s", all, changed, spell.Plural(len(x.d.People), "person"))}}
		for _, c := range changes {
			lines = append(lines, Line{fmt.Sprint(c.Count), fmt.Sprintf("from %s to %s", c.From, c.To)})
		}
		items = append(items, lines)
	}
	if n := r.Log.BadLines; n > 0 {
		items = append(items, []Line{{Text: spell.Plural(n, "line") + " of the log could not be read, and count as nothing"}})
	}
	return items
}
