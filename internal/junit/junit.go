// Package junit writes results in JUnit's XML.
package junit

import (
	"encoding/xml"

	"briskwarden.example/briskwarden/internal/spell"
)

// Suite are the results of one rulebook.
type Suite struct {
	XMLName  xml.Name `xml:"testsuite"`
	Name     string   `xml:"name,attr"`
	Tests    int      `xml:"tests,attr"`
	Failures int      `xml:"failures,attr"`
	Skipped  int      `xml:"skipped,attr,omitempty"`
	Cases    []Case   `xml:"testcase"`
}

// Case is one result.
type Case struct {
	Name    string   `xml:"name,attr"`
	Class   string   `xml:"classname,attr"`
	File    string   `xml:"file,attr,omitempty"`
	Line    int      `xml:"line,attr,omitempty"`
	Failure *Failure `xml:"failure"`
	Skipped *Failure `xml:"skipped"`
}

// Failure says what went wrong, or why nothing can be said.
type Failure struct {
	Message string `xml:"message,attr"`
	Text    string `xml:",chardata"`
}

// XML gives the results in the XML that JUnit's readers know.
func (s *Suite) XML() ([]byte, error) {
	text, err := xml.MarshalIndent(s, "", "  ")
	return []byte(xml.Header + spell.PrintableLines(string(text)) + "\n"), err
}
