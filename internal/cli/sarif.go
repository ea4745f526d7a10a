package cli

import (
	"net/url"
	"slices"

	"github.com/go-json-experiment/json/jsontext"

	"briskwarden.example/briskwarden/internal/diag"
	"briskwarden.example/briskwarden/internal/findings"
	"briskwarden.example/briskwarden/internal/lines"
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
		Name  string      `json:"name"`
		Rules []sarifRule `json:"rules"`
	}
	sarifRule struct {
		ID diag.Code `json:"id"`
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
		StartLine   int32 `json:"startLine"`
		StartColumn int32 `json:"startColumn"`
		EndColumn   int32 `json:"endColumn"`
	}
)

// writeSARIF writes findings as a SARIF 2.1.0 log; places are relative to the rulebook's folder.
// Accepted ones are there as suppressed by a comment.
func writeSARIF(name string, list diag.List, accepted []findings.Accepted) error {
	run := sarifRun{Tool: sarifTool{sarifDriver{Name: "brisk", Rules: []sarifRule{}}}, ColumnKind: "unicodeCodePoints", Results: []sarifResult{}}
	add := func(d diag.Diagnostic, suppressions ...sarifSuppression) {
		rules := &run.Tool.Driver.Rules
		index := slices.Index(*rules, sarifRule{d.Code})
		if index < 0 {
			index = len(*rules)
			*rules = append(*rules, sarifRule{d.Code})
		}
		text := d.Message
		if d.Help != "" {
			text += " (" + d.Help + ")"
		}
		place := sarifPhysical{Artifact: sarifArtifact{(&url.URL{Path: d.Pos.File}).String()}}
		if d.Pos.IsValid() {
			place.Region = &sarifRegion{d.Pos.Line, d.Pos.Column, d.Pos.Column + int32(d.Span)}
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
