package findings

// The findings in SARIF 2.1.0.

import (
	"slices"
	"strings"

	"briskwarden.example/briskwarden"
	"briskwarden.example/briskwarden/internal/sarif"
)

// ruleOf describes the rule that a finding breaks.
func ruleOf(f *Finding) sarif.Rule {
	words := strings.Split(f.Code+"-"+string(f.Severity), "-") // a name must not be the id
	for i, w := range words {
		words[i] = strings.ToUpper(w[:1]) + w[1:]
	}
	text := About(f.Code)
	help := text + " A comment on the line above accepts a warning: # brisk: allow " + f.Code + " because …"
	if f.Severity == briskwarden.Error {
		help = text + " A rulebook with errors never decides."
	}
	return sarif.Rule{ID: f.Code, Name: strings.Join(words, ""), Text: text, Help: help, Page: "commands.md#findings", Level: string(f.Severity)}
}

// SARIF gives the findings as a SARIF 2.1.0 log (OASIS) of a tool of that version; places are
// relative to the rulebook's folder. Accepted ones are there as suppressed by a comment.
func (r *Report) SARIF(version string) ([]byte, error) {
	var results []sarif.Result
	for _, f := range slices.Concat(r.Findings, r.Accepted) {
		text := f.Message
		if f.Help != "" {
			text += " (" + f.Help + ")"
		}
		results = append(results, sarif.Result{Rule: ruleOf(&f), Message: text, File: f.File, Line: f.Line, Column: f.Column, EndColumn: f.Column + f.Span,
			Snippet: f.Text, Because: f.Because})
	}
	return sarif.Log(version, results)
}
