package expect

// The results in JUnit's XML.

import (
	"encoding/xml"
	"strings"

	"briskwarden.example/briskwarden/explain"
	"briskwarden.example/briskwarden/internal/spell"
)

// The parts of JUnit's XML that expectations need.
type (
	junitSuite struct {
		XMLName  xml.Name    `xml:"testsuite"`
		Name     string      `xml:"name,attr"`
		Tests    int         `xml:"tests,attr"`
		Failures int         `xml:"failures,attr"`
		Cases    []junitCase `xml:"testcase"`
	}
	junitCase struct {
		Name    string        `xml:"name,attr"`
		Class   string        `xml:"classname,attr"`
		File    string        `xml:"file,attr"`
		Line    int           `xml:"line,attr"`
		Failure *junitFailure `xml:"failure"`
	}
	junitFailure struct {
		Message string `xml:"message,attr"`
		Text    string `xml:",chardata"`
	}
)

// JUnit gives the results in the XML that JUnit's readers know.
func (r *Results) JUnit() ([]byte, error) {
	suite := junitSuite{Name: r.Rulebook, Tests: len(r.Expectations), Failures: r.Failed}
	for i := range r.Expectations {
		x := &r.Expectations[i]
		c := junitCase{Name: x.Name, Class: r.Rulebook, File: x.file, Line: x.line}
		if !x.Passed {
			why := []string{"decided: " + x.Decision.Outcome.String() + " by " + explain.By(&x.Decision)}
			for _, e := range x.Decision.Explanation.Deciding {
				why = append(why, e.At+": "+e.Why)
			}
			c.Failure = &junitFailure{strings.Join(x.Failed, "; "), strings.Join(why, "\n")}
		}
		suite.Cases = append(suite.Cases, c)
	}
	text, err := xml.MarshalIndent(suite, "", "  ")
	return []byte(xml.Header + spell.PrintableLines(string(text)) + "\n"), err
}
