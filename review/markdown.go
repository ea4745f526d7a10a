package review

// A review for where changes are looked at, in Markdown as CommonMark describes it.

import (
	"fmt"
	"strings"

	"briskwarden.example/briskwarden/internal/spell"
)

// Markdown is the review as CommonMark. Whatever a rulebook says stands in fenced blocks, where it is neither markup nor a mention, with
// what nobody can see shown.
func (r *Review) Markdown(accepted string) string {
	var b strings.Builder
	b.WriteString("## What this change of the rulebook does\n\n")
	fmt.Fprintf(&b, "**%s** %s\n", r.Sentence(), r.Spans())
	switch {
	case !r.Loosens():
	case accepted == "":
		b.WriteString("\nSomething loosens, and nobody said why.\n")
	default:
		b.WriteString("\nAccepted, because:\n\n" + fenced([]string{accepted}))
	}
	for _, s := range r.Sections() {
		var lines []string
		for _, item := range s.Items {
			for i, line := range item {
				if i > 0 {
					line.Text = fmt.Sprintf("    %-6s %s", line.Label, line.Text)
				}
				lines = append(lines, line.Text)
			}
		}
		if s.More > 0 {
			lines = append(lines, fmt.Sprintf("and %d more", s.More))
		}
		fmt.Fprintf(&b, "\n### %s\n\n%s", s.Title, fenced(lines))
	}
	return b.String()
}

// fenced are lines in a fence that none of them can close.
func fenced(lines []string) string {
	text, fence := "", "```"
	for _, l := range lines {
		text += spell.Printable(l) + "\n"
	}
	for strings.Contains(text, fence) {
		fence += "`"
	}
	return fence + "text\n" + text + fence + "\n"
}
