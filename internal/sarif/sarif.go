// Package sarif writes findings in SARIF 2.1.0 (OASIS).
package sarif

import (
	"net/url"

	"github.com/go-json-experiment/json/jsontext"

	"briskwarden.example/briskwarden/internal/plainjson"
)

// The parts of SARIF 2.1.0 that findings need.
type (
	log struct {
		Schema  string `json:"$schema"`
		Version string `json:"version"`
		Runs    []run  `json:"runs"`
	}
	run struct {
		Tool       tool     `json:"tool"`
		ColumnKind string   `json:"columnKind"`
		Results    []result `json:"results"`
	}
	tool struct {
		Driver driver `json:"driver"`
	}
	driver struct {
		Name           string `json:"name"`
		Version        string `json:"version"`
		InformationURI string `json:"informationUri"`
		Rules          []rule `json:"rules"`
	}
	rule struct {
		ID          string   `json:"id"`
		Name        string   `json:"name"`
		Description message  `json:"shortDescription"`
		Full        message  `json:"fullDescription"`
		Help        message  `json:"help"`
		HelpURI     string   `json:"helpUri"`
		Default     defaults `json:"defaultConfiguration"`
	}
	defaults struct {
		Level string `json:"level"`
	}
	result struct {
		RuleID    string     `json:"ruleId"`
		RuleIndex int        `json:"ruleIndex"`
		Level     string     `json:"level"`
		Message   message    `json:"message"`
		Locations []location `json:"locations"`

		Suppressions []suppression `json:"suppressions,omitempty"`
	}
	suppression struct {
		Kind          string `json:"kind"`
		Justification string `json:"justification"`
	}
	message struct {
		Text string `json:"text"`
	}
	location struct {
		Physical physical `json:"physicalLocation"`
	}
	physical struct {
		Artifact artifact `json:"artifactLocation"`
		Region   *region  `json:"region,omitzero"`
	}
	artifact struct {
		URI string `json:"uri"`
	}
	region struct {
		StartLine   int     `json:"startLine"`
		StartColumn int     `json:"startColumn"`
		EndColumn   int     `json:"endColumn"`
		Snippet     message `json:"snippet,omitzero"`
	}
)

// homePage is where more is told of brisk; the domain is reserved for examples (RFC 2606).
const homePage = "https://briskwarden.example/briskwarden"

// Rule is what a finding breaks.
type Rule struct {
	ID, Name   string
	Text, Help string
	Page       string // of the documentation, after docs/
	Level      string // error or warning
}

// Result is a finding.
type Result struct {
	Rule                    Rule
	Message                 string
	File                    string
	Line, Column, EndColumn int // 0 is none
	Snippet                 string
	Because                 string // why it is accepted; empty where it is not
}

// Log gives the results as a log of the tool of a version; files are relative to the rulebook's folder.
func Log(version string, results []Result) ([]byte, error) {
	one := run{Tool: tool{driver{Name: "brisk", Version: version, InformationURI: homePage, Rules: []rule{}}}, ColumnKind: "unicodeCodePoints", Results: []result{}}
	known := map[string]int{}
	for _, r := range results {
		rules := &one.Tool.Driver.Rules
		index, seen := known[r.Rule.ID]
		if !seen {
			index = len(*rules)
			known[r.Rule.ID] = index
			text := message{r.Rule.Text}
			*rules = append(*rules, rule{r.Rule.ID, r.Rule.Name, text, text, message{r.Rule.Help}, homePage + "/docs/" + r.Rule.Page, defaults{r.Rule.Level}})
		}
		place := physical{Artifact: artifact{(&url.URL{Path: r.File}).String()}}
		if r.Line > 0 {
			place.Region = &region{r.Line, r.Column, r.EndColumn, message{r.Snippet}}
		}
		var suppressions []suppression
		if r.Because != "" {
			suppressions = []suppression{{"inSource", r.Because}}
		}
		one.Results = append(one.Results, result{r.Rule.ID, index, r.Rule.Level, message{r.Message}, []location{{place}}, suppressions})
	}
	all := log{"https://docs.oasis-open.org/sarif/sarif/v2.1.0/errata01/os/schemas/sarif-schema-2.1.0.json", "2.1.0", []run{one}}
	return plainjson.Marshal(all, jsontext.WithIndent("  "))
}
