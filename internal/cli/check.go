package cli

import (
	"bytes"
	"cmp"
	"fmt"
	"os"
	"strings"
	"unicode/utf16"
	"unicode/utf8"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"
	"github.com/spf13/cobra"

	"briskwarden.example/briskwarden/internal/diag"
	"briskwarden.example/briskwarden/internal/findings"
	"briskwarden.example/briskwarden/internal/rulebook"
	"briskwarden.example/briskwarden/internal/spell"
)

func (s *session) checkCommand() *cobra.Command {
	var sarif string
	c := &cobra.Command{
		Use:   "check",
		Short: "Read everything, and report errors and warnings with their places",
		Args: func(c *cobra.Command, args []string) error {
			if len(args) == 1 && isFolder(args[0]) {
				return usage("check takes no folder: write brisk check --rulebook %s", shellQuoted(args))
			}
			return noArgs(c, args)
		},
		RunE: func(*cobra.Command, []string) error { return s.check(sarif) },
	}
	c.Flags().StringVar(&sarif, "sarif", "", "write the findings to a file in SARIF 2.1.0 too")
	return c
}

func isFolder(name string) bool {
	info, err := os.Stat(name)
	return err == nil && info.IsDir()
}

// noArgs is cobra.NoArgs in our words.
func noArgs(c *cobra.Command, args []string) error {
	if len(args) > 0 {
		return usage("%s takes no arguments, found %q", c.CommandPath(), args[0])
	}
	return nil
}

func (s *session) check(sarif string) error {
	rb, err := s.load()
	if err != nil {
		return err
	}
	list, accepted := rb.Diagnostics, []findings.Accepted(nil)
	if list.Count(diag.Error) == 0 {
		now, err := s.clock(rb.Zone)
		if err != nil {
			return err
		}
		list, accepted = findings.Check(rb, now)
	}
	if s.json {
		err = s.checkJSON(rb, list, accepted)
	} else {
		(&listing{out: s.out, rb: rb, dir: s.opened, paint: s.paint}).print(list)
		s.checkSummary(rb, list, accepted)
	}
	if err == nil && sarif != "" {
		err = writeSARIF(sarif, rb, list, accepted)
	}
	if err == nil && list.Count(diag.Error) > 0 {
		err = &exit{status: exitFindings}
	}
	return err
}

func (s *session) checkSummary(rb *rulebook.Rulebook, list diag.List, accepted []findings.Accepted) {
	errors, warnings := list.Count(diag.Error), list.Count(diag.Warning)
	if errors > 0 {
		s.out.printf("%s, %s: a rulebook with errors never decides.\n", s.paint.red(spell.Plural(errors, "error")), spell.Plural(warnings, "warning"))
		return
	}
	verdict := s.paint.green("no errors")
	if warnings > 0 {
		verdict += ", " + s.paint.amber(spell.Plural(warnings, "warning"))
	}
	if len(accepted) > 0 {
		verdict += styledf(", %d accepted", len(accepted))
	}
	s.out.printf("%s: %s.\n", s.paint.bold(rb.Name), verdict)
	for _, a := range accepted {
		s.out.printf("  %s\n", s.paint.faint(wrapped(fmt.Sprintf("accepted %s:%d %s, because %s", a.Pos.File, a.Pos.Line, a.Code, a.Because), 4)))
	}
	counts := []string{spell.Plural(len(rb.Policies), "policy"), spell.Plural(len(rb.Waivers), "waiver"), spell.Plural(len(rb.Apps), "app"),
		spell.Plural(len(rb.People), "person"), spell.Plural(len(rb.Groups.Names()), "group"), spell.Plural(len(rb.Expects), "expectation")}
	s.out.printf("Read %s: %s.\n", spell.Plural(len(rb.Files), "rulebook file"), strings.Join(counts, ", "))
	s.checkLoaded(rb)
}

// checkLoaded tells what came from each file that the rulebook points to.
func (s *session) checkLoaded(rb *rulebook.Rulebook) {
	width := 0
	for _, l := range rb.Loaded {
		width = max(width, utf8.RuneCountInString(l.File))
	}
	for _, l := range rb.Loaded {
		line := clean(cmp.Or(tallies(l.Items), "nothing"))
		if len(l.Aside) > 0 {
			var aside []string
			for _, t := range l.Aside {
				aside = append(aside, fmt.Sprintf("%d %s", t.N, t.What))
			}
			line += s.paint.faint("; left aside: " + strings.Join(aside, ", "))
		}
		s.out.printf("  %-*s  %s\n", width, l.File, line)
	}
}

func tallies(list []rulebook.Tally) string {
	var parts []string
	for _, t := range list {
		parts = append(parts, spell.Plural(t.N, t.What))
	}
	return strings.Join(parts, ", ")
}

type (
	jsonLoaded struct {
		File  string      `json:"file"`
		Items []jsonTally `json:"items"`
		Aside []jsonTally `json:"aside,omitempty"`
	}
	jsonTally struct {
		What  string `json:"what"`
		Count int    `json:"count"`
	}
)

func loadedJSON(list []*rulebook.Loaded) []jsonLoaded {
	answer := []jsonLoaded{}
	for _, l := range list {
		answer = append(answer, jsonLoaded{l.File, talliesJSON(l.Items), talliesJSON(l.Aside)})
	}
	return answer
}

func talliesJSON(list []rulebook.Tally) []jsonTally {
	answer := []jsonTally{}
	for _, t := range list {
		answer = append(answer, jsonTally{t.What, t.N})
	}
	return answer
}

type jsonFinding struct {
	Code     diag.Code     `json:"code"`
	Severity diag.Severity `json:"severity"`
	File     string        `json:"file"`
	Line     int32         `json:"line,omitzero"`
	Column   int32         `json:"column,omitzero"`
	Message  string        `json:"message"`
	Help     string        `json:"help,omitzero"`
	Because  string        `json:"because,omitzero"` // of one that is accepted
}

func findingJSON(d diag.Diagnostic, because string) jsonFinding {
	return jsonFinding{d.Code, d.Severity, d.Pos.File, d.Pos.Line, d.Pos.Column, d.Message, d.Help, because}
}

func (s *session) checkJSON(rb *rulebook.Rulebook, list diag.List, accepted []findings.Accepted) error {
	answer := struct {
		Rulebook string        `json:"rulebook"`
		Digest   string        `json:"digest"`
		Errors   int           `json:"errors"`
		Warnings int           `json:"warnings"`
		Loaded   []jsonLoaded  `json:"loaded"`
		Findings []jsonFinding `json:"findings"`
		Accepted []jsonFinding `json:"accepted"`
	}{rb.Name, rb.Digest, list.Count(diag.Error), list.Count(diag.Warning), loadedJSON(rb.Loaded), []jsonFinding{}, []jsonFinding{}}
	for _, d := range list {
		answer.Findings = append(answer.Findings, findingJSON(d, ""))
	}
	for _, a := range accepted {
		answer.Accepted = append(answer.Accepted, findingJSON(a.Diagnostic, a.Because))
	}
	return s.writeJSON(answer)
}

// writeJSON writes a value as one line.
func (s *session) writeJSON(v any) error {
	text, err := jsonText(v)
	if err == nil {
		_, err = s.out.machine().Write(append(text, '\n'))
	}
	return err
}

// jsonText is JSON that a terminal shows as it is: what cannot be seen stands there escaped, and
// U+FFFD in place of bytes that are no UTF-8.
func jsonText(v any, options ...json.Options) ([]byte, error) {
	text, err := json.Marshal(v, append(options, json.Deterministic(true), jsontext.AllowInvalidUTF8(true))...)
	if err != nil || bytes.IndexFunc(text, unseenInJSON) < 0 {
		return text, err
	}
	var b []byte
	for len(text) > 0 {
		r, n := utf8.DecodeRune(text)
		switch {
		case !unseenInJSON(r):
			b = append(b, text[:n]...)
		case r > 0xffff:
			high, low := utf16.EncodeRune(r)
			b = fmt.Appendf(b, `\u%04x\u%04x`, high, low)
		default:
			b = fmt.Appendf(b, `\u%04x`, r)
		}
		text = text[n:]
	}
	return b, nil
}

// unseenInJSON is about characters within strings: all others are ASCII.
func unseenInJSON(r rune) bool { return r >= 0x7f && spell.Unseen(r) }
