package digest

// What logs, rulebook and inventories tell.

import (
	"cmp"
	"maps"
	"path"
	"regexp"
	"slices"
	"strings"
	"time"

	"briskwarden.example/briskwarden/internal/fact"
	"briskwarden.example/briskwarden/internal/rulebook"
	"briskwarden.example/briskwarden/replay"
	"briskwarden.example/briskwarden/signon"
)

func sorted[V any](m map[string]V) []string { return slices.Sorted(maps.Keys(m)) }

// fromLogs takes over what the logs have.
func (d *Digest) fromLogs(w *replay.Week) {
	d.SignOns = SignOns{w.Now.All(), w.Was.All(), w.Now, w.Was}
	d.Stopped, d.Bad, d.BadLines, d.Latest = w.Stops, w.Bad, w.BadLines, w.Latest
	if w.RiskyNow == 0 {
		return
	}
	d.Risky = &Risky{Band: w.TopBand, Count: w.RiskyNow, Before: w.RiskyWas, Users: len(w.Risky)}
	for _, u := range w.Risky[:min(len(w.Risky), mostListed)] {
		granted := u.Since[signon.Grant]
		d.Risky.Worst = append(d.Risky.Worst, RiskyUser{u.User, u.Count, u.Score, u.Time, u.App, u.Came, u.Where, granted, u.Since.All() - granted})
	}
}

// dayOfNode is how the service calls the files of its sign-on logs: by day and node.
var dayOfNode = regexp.MustCompile(`^\d{4}-\d{2}-\d{2}\.(.+)\.jsonl(\.gz|\.zst)?$`)

// quiet tells which sources have nothing new.
func (d *Digest) quiet(w *replay.Week, rb *rulebook.Rulebook, to time.Time) {
	last := map[string]time.Time{}
	for _, l := range w.Logs {
		name := "the sign-on log"
		if m := dayOfNode.FindStringSubmatch(path.Base(strings.ReplaceAll(l.Name, `\`, "/"))); m != nil {
			name = "the sign-on log of " + m[1]
		}
		if l.Last.After(last[name]) {
			last[name] = l.Last
		}
	}
	if len(last) == 0 && !d.NoLogs {
		d.Silent = append(d.Silent, Silent{Source: "the sign-on log"})
	}
	for _, name := range sorted(last) {
		if to.Sub(last[name]) > quietAfter {
			d.Silent = append(d.Silent, Silent{name, last[name]})
		}
	}
	var reported time.Time
	for _, record := range rb.Devices {
		if record.Reported.After(reported) {
			reported = record.Reported
		}
	}
	if !reported.IsZero() && to.Sub(reported) > unheard {
		d.Silent = append(d.Silent, Silent{"the inventory of devices", reported})
	}
}

// ends tells what ends within 30 days.
func (d *Digest) ends(rb *rulebook.Rulebook, o Options) {
	add := func(what, who string, at time.Time) {
		if at.After(o.To) && !at.After(o.To.Add(Ahead)) {
			d.Ends = append(d.Ends, End{what, who, at})
		}
	}
	for _, e := range o.Ends {
		add(e.What, e.Who, e.At)
	}
	for _, w := range rb.Waivers {
		add("the waiver "+w.Name, w.Decl.Owner.Text, w.Until)
	}
	for _, c := range rb.Callers {
		for _, t := range c.Tokens {
			add("a token of the caller "+c.Name, "", t.Until)
		}
	}
	for _, a := range rb.Facts.Attributes() {
		if a.Type != fact.Date || a.OfDevice {
			continue
		}
		for _, p := range rb.People {
			if a.Index < len(p.Attributes) && p.Attributes[a.Index].Known && p.Attributes[a.Index].Day != nil {
				add(a.Name, p.ID, p.Attributes[a.Index].Day.Next)
			}
		}
	}
	slices.SortFunc(d.Ends, func(a, b End) int {
		return cmp.Or(a.At.Compare(b.At), strings.Compare(a.What, b.What), strings.Compare(a.Who, b.Who))
	})
}
