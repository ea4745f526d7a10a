package cli

import (
	"net/url"
	"strings"

	"github.com/go-json-experiment/json/jsontext"

	"briskwarden.example/briskwarden/internal/diag"
	"briskwarden.example/briskwarden/internal/findings"
	"briskwarden.example/briskwarden/internal/lines"
	"briskwarden.example/briskwarden/internal/rulebook"
)

// The parts of SARIF 2.1.0 (OASIS) that findings need.
type (
	sarifLog struct {
		Schema  string     `json:"$schema"`
		Version string     `json:"version"`
		Runs    []sarifRun `json:"runs"`
	}
	sarifRun struct {
		Tool       sarifTool     `json:"tool"`
		ColumnKind string        `json:"columnKind"`
		Results    []sarifResult `json:"results"`
	}
	sarifTool struct {
		Driver sarifDriver `json:"driver"`
	}
	sarifDriver struct {
		Name           string      `json:"name"`
		Version        string      `json:"version"`
		InformationURI string      `json:"informationUri"`
		Rules          []sarifRule `json:"rules"`
	}
	sarifRule struct {
		ID          diag.Code    `json:"id"`
		Name        string       `json:"name"`
		Description sarifMessage `json:"shortDescription"`
		Full        sarifMessage `json:"fullDescription"`
		Help        sarifMessage `json:"help"`
		HelpURI     string       `json:"helpUri"`
		Default     sarifDefault `json:"defaultConfiguration"`
	}
	sarifDefault struct {
		Level diag.Severity `json:"level"`
	}
	sarifResult struct {
		RuleID    diag.Code       `json:"ruleId"`
		RuleIndex int             `json:"ruleIndex"`
		Level     diag.Severity   `json:"level"`
		Message   sarifMessage    `json:"message"`
		Locations []sarifLocation `json:"locations"`

		Suppressions []sarifSuppression `json:"suppressions,omitempty"`
	}
	sarifSuppression struct {
		Kind          string `json:"kind"`
		Justification string `json:"justification"`
	}
	sarifMessage struct {
		Text string `json:"text"`
	}
	sarifLocation struct {
		Physical sarifPhysical `json:"physicalLocation"`
	}
	sarifPhysical struct {
		Artifact sarifArtifact `json:"artifactLocation"`
		Region   *sarifRegion  `json:"region,omitzero"`
	}
	sarifArtifact struct {
		URI string `json:"uri"`
	}
	sarifRegion struct {
		StartLine   int32        `json:"startLine"`
		StartColumn int32        `json:"startColumn"`
		EndColumn   int32        `json:"endColumn"`
		Snippet     sarifMessage `json:"snippet,omitzero"`
	}
)

// homePage is where more is told of brisk; the domain is reserved for examples (RFC 2606).
const homePage = "https://briskwarden.example/briskwarden"

// ruleOf describes the rule that a finding breaks.
func ruleOf(d diag.Diagnostic) sarifRule {
	words := strings.Split(string(d.Code)+"-"+d.Severity.String(), "-") // a name must not be the id
	for i, w := range words {
		words[i] = strings.ToUpper(w[:1]) + w[1:]
	}
	text := sarifMessage{findings.About(d.Code)}
	help := sarifMessage{text.Text + " A comment on the line above accepts a warning: # brisk: allow " + string(d.Code) + " because …"}
	if d.Severity == diag.Error {
		help.Text = text.Text + " A rulebook with errors never decides."
	}
	return sarifRule{d.Code, strings.Join(words, ""), text, text, help, homePage + "/docs/commands.md#findings", sarifDefault{d.Severity}}
}

// writeSARIF writes findings as a SARIF 2.1.0 log; places are relative to the rulebook's folder.
// Accepted ones are there as suppressed by a comment.
func writeSARIF(name string, rb *rulebook.Rulebook, list diag.List, accepted []findings.Accepted) error {
	run := sarifRun{Tool: sarifTool{sarifDriver{Name: "brisk", Version: version, InformationURI: homePage, Rules: []sarifRule{}}}, ColumnKind: "unicodeCodePoints", Results: []sarifResult{}}
	sources, known := listing{rb: rb}, map[diag.Code]int{}
	add := func(d diag.Diagnostic, suppressions ...sarifSuppression) {
		rules := &run.Tool.Driver.Rules
		index, seen := known[d.Code]
		if !seen {
			index = len(*rules)
			known[d.Code] = index
			*rules = append(*rules, ruleOf(d))
		}
		text := d.Message
		if d.Help != "" {
			text += " (" + d.Help + ")"
		}
		place := sarifPhysical{Artifact: sarifArtifact{(&url.URL{Path: d.Pos.File}).String()}}
		if d.Pos.IsValid() {
			line, _ := sources.line(d.Pos)
			place.Region = &sarifRegion{d.Pos.Line, d.Pos.Column, d.Pos.Column + int32(d.Span), sarifMessage{line}}
		}
		run.Results = append(run.Results, sarifResult{d.Code, index, d.Severity, sarifMessage{text}, []sarifLocation{{place}}, suppressions})
	}
	for _, d := range list {
		add(d)
	}
	for _, a := range accepted {
		add(a.Diagnostic, sarifSuppression{"inSource", a.Because})
	}
	log := sarifLog{"https://docs.oasis-open.org/sarif/sarif/v2.1.0/errata01/os/schemas/sarif-schema-2.1.0.json", "2.1.0", []sarifRun{run}}
	text, err := jsonText(log, jsontext.WithIndent("  "))
	if err != nil {
		return err
	}
	if err := lines.WriteFile(name, append(text, '\n')); err != nil {
		return usage("%w", err)
	}
	return nil
}
