package findings

// The findings in SARIF 2.1.0.

import (
	"net/url"
	"slices"
	"strings"

	"github.com/go-json-experiment/json/jsontext"

	"briskwarden.example/briskwarden"
	"briskwarden.example/briskwarden/internal/plainjson"
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
		ID          string       `json:"id"`
		Name        string       `json:"name"`
		Description sarifMessage `json:"shortDescription"`
		Full        sarifMessage `json:"fullDescription"`
		Help        sarifMessage `json:"help"`
		HelpURI     string       `json:"helpUri"`
		Default     sarifDefault `json:"defaultConfiguration"`
	}
	sarifDefault struct {
		Level briskwarden.Severity `json:"level"`
	}
	sarifResult struct {
		RuleID    string               `json:"ruleId"`
		RuleIndex int                  `json:"ruleIndex"`
		Level     briskwarden.Severity `json:"level"`
		Message   sarifMessage         `json:"message"`
		Locations []sarifLocation      `json:"locations"`

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
		StartLine   int          `json:"startLine"`
		StartColumn int          `json:"startColumn"`
		EndColumn   int          `json:"endColumn"`
		Snippet     sarifMessage `json:"snippet,omitzero"`
	}
)

// homePage is where more is told of brisk; the domain is reserved for examples (RFC 2606).
const homePage = "https://briskwarden.example/briskwarden"

// ruleOf describes the rule that a finding breaks.
func ruleOf(f *Finding) sarifRule {
	words := strings.Split(f.Code+"-"+string(f.Severity), "-") // a name must not be the id
	for i, w := range words {
		words[i] = strings.ToUpper(w[:1]) + w[1:]
	}
	text := sarifMessage{About(f.Code)}
	help := sarifMessage{text.Text + " A comment on the line above accepts a warning: # brisk: allow " + f.Code + " because …"}
	if f.Severity == briskwarden.Error {
		help.Text = text.Text + " A rulebook with errors never decides."
	}
	return sarifRule{f.Code, strings.Join(words, ""), text, text, help, homePage + "/docs/commands.md#findings", sarifDefault{f.Severity}}
}

// SARIF gives the findings as a SARIF 2.1.0 log (OASIS) of a tool of that version; places are
// relative to the rulebook's folder. Accepted ones are there as suppressed by a comment.
func (r *Report) SARIF(version string) ([]byte, error) {
	run := sarifRun{Tool: sarifTool{sarifDriver{Name: "brisk", Version: version, InformationURI: homePage, Rules: []sarifRule{}}}, ColumnKind: "unicodeCodePoints", Results: []sarifResult{}}
	known := map[string]int{}
	for _, f := range slices.Concat(r.Findings, r.Accepted) {
		rules := &run.Tool.Driver.Rules
		index, seen := known[f.Code]
		if !seen {
			index = len(*rules)
			known[f.Code] = index
			*rules = append(*rules, ruleOf(&f))
		}
		text := f.Message
		if f.Help != "" {
			text += " (" + f.Help + ")"
		}
		place := sarifPhysical{Artifact: sarifArtifact{(&url.URL{Path: f.File}).String()}}
		if f.Line > 0 {
			place.Region = &sarifRegion{f.Line, f.Column, f.Column + f.Span, sarifMessage{f.Text}}
		}
		var suppressions []sarifSuppression
		if f.Because != "" {
			suppressions = []sarifSuppression{{"inSource", f.Because}}
		}
		run.Results = append(run.Results, sarifResult{f.Code, index, f.Severity, sarifMessage{text}, []sarifLocation{{place}}, suppressions})
	}
	log := sarifLog{"https://docs.oasis-open.org/sarif/sarif/v2.1.0/errata01/os/schemas/sarif-schema-2.1.0.json", "2.1.0", []sarifRun{run}}
	return plainjson.Marshal(log, jsontext.WithIndent("  "))
}
