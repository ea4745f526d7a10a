package digest

// A digest as text, as a page for mail readers, and as JSON.

import (
	"bytes"
	_ "embed"
	"fmt"
	"html/template"
	"strings"
	"time"

	"github.com/go-json-experiment/json"

	"briskwarden.example/briskwarden/internal/screen"
	"briskwarden.example/briskwarden/internal/spell"
	"briskwarden.example/briskwarden/signon"
)

// Title says whose digest it is, and of when.
func (d *Digest) Title() string {
	from, last := d.From.In(d.zone), d.To.Add(-time.Nanosecond).In(d.zone)
	title := fmt.Sprintf("%s, %s to %s", d.Rulebook, from.Format("Mon 2 January 2006"), last.Format("Mon 2 January 2006"))
	return spell.Printable(title)
}

// Text is the digest as plain text of a width in columns. Whatever anybody named stands in it in characters that can be seen.
func (d *Digest) Text(width int) string {
	var b strings.Builder
	line := func(text string, column, indent int) {
		b.WriteString(string(screen.WrappedTo(spell.Printable(text), column, indent, width)) + "\n")
	}
	line(d.Title(), 0, 0)
	line(d.Headline(), 0, 0)
	for _, s := range d.Sections() {
		mark := ""
		if s.Worse {
			mark = "! "
		}
		b.WriteString("\n")
		line(mark+s.Title, 0, 2)
		var lines [][2]string
		for _, l := range s.Lines {
			lines = append(lines, [2]string{l.Label, l.Text})
		}
		b.WriteString(string(screen.Labelled(lines, width)))
		if s.See != "" && s.Worse {
			b.WriteString("  more: " + s.See + "\n")
		}
	}
	return b.String()
}

//go:embed digest.html
var pageHTML string

var page = template.Must(template.New("digest").Funcs(template.FuncMap{"plain": spell.Printable}).Parse(pageHTML))

// HTML is the digest as a page for mail readers: by itself, without script, in light and dark.
func (d *Digest) HTML() []byte {
	var b bytes.Buffer
	if err := page.Execute(&b, d); err != nil {
		panic(err) // into memory, by a template that is tested
	}
	return b.Bytes()
}

// MarshalJSON gives the counts by outcome.
func (n SignOns) MarshalJSON() ([]byte, error) {
	type counts struct {
		Now    int `json:"now"`
		Before int `json:"before"`
	}
	by := map[string]counts{}
	for o := range n.Now {
		by[signon.Outcome(o).String()] = counts{n.Now[o], n.Before[o]}
	}
	return json.Marshal(struct {
		Now      int               `json:"now"`
		Before   int               `json:"before"`
		Outcomes map[string]counts `json:"outcomes"`
	}{n.All, n.AllBefore, by}, json.Deterministic(true))
}
