// Package report draws charts, and lays out pages that read without anything else at hand.
//
//	err := report.Replay(rules, summary).Write(file)
package report
