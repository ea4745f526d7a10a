package expect

// The results in JUnit's XML.

import (
	"strings"

	"briskwarden.example/briskwarden/explain"
	"briskwarden.example/briskwarden/internal/junit"
)

// JUnit gives the results in the XML that JUnit's readers know.
func (r *Results) JUnit() ([]byte, error) {
	suite := junit.Suite{Name: r.Rulebook, Tests: len(r.Expectations), Failures: r.Failed}
	for i := range r.Expectations {
		x := &r.Expectations[i]
		c := junit.Case{Name: x.Name, Class: r.Rulebook, File: x.file, Line: x.line}
		if !x.Passed {
			why := []string{"decided: " + x.Decision.Outcome.String() + " by " + explain.By(&x.Decision)}
			for _, e := range x.Decision.Explanation.Deciding {
				why = append(why, e.At+": "+e.Why)
			}
			c.Failure = &junit.Failure{Message: strings.Join(x.Failed, "; "), Text: strings.Join(why, "\n")}
		}
		suite.Cases = append(suite.Cases, c)
	}
	return suite.XML()
}
