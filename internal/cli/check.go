package cli

import (
	"bufio"
	"fmt"
	"strings"
	"unicode"
	"unicode/utf8"

	"github.com/go-json-experiment/json"
	"github.com/spf13/cobra"

	"briskwarden.example/briskwarden/internal/diag"
	"briskwarden.example/briskwarden/internal/findings"
	"briskwarden.example/briskwarden/internal/rulebook"
	"briskwarden.example/briskwarden/language/token"
)

func (s *session) checkCommand() *cobra.Command {
	var sarif string
	c := &cobra.Command{
		Use:   "check",
		Short: "Read everything, and report errors and warnings with their places",
		Args:  noArgs,
		RunE:  func(*cobra.Command, []string) error { return s.check(sarif) },
	}
	c.Flags().StringVar(&sarif, "sarif", "", "write the findings to a file in SARIF 2.1.0 too")
	return c
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
	list := rb.Diagnostics
	if list.Count(diag.Error) == 0 {
		now, err := s.clock(rb.Zone)
		if err != nil {
			return err
		}
		list = findings.Check(rb, now)
	}
	if s.json {
		err = s.checkJSON(rb, list)
	} else {
		(&listing{out: s.out, rb: rb, paint: s.paint}).print(list)
		s.checkSummary(rb, list)
	}
	if err == nil && sarif != "" {
		err = writeSARIF(sarif, list)
	}
	if err == nil && list.Count(diag.Error) > 0 {
		err = &exit{status: exitFindings}
	}
	return err
}

func (s *session) checkSummary(rb *rulebook.Rulebook, list diag.List) {
	errors, warnings := list.Count(diag.Error), list.Count(diag.Warning)
	if errors > 0 {
		fmt.Fprintf(s.out, "%s, %s: a rulebook with errors never decides.\n", s.paint.red(plural(errors, "error")), plural(warnings, "warning"))
		return
	}
	verdict := s.paint.green("no errors")
	if warnings > 0 {
		verdict += ", " + s.paint.amber(plural(warnings, "warning"))
	}
	fmt.Fprintf(s.out, "%s: %s.\n", s.paint.bold(rb.Name), verdict)
	counts := []string{plural(len(rb.Policies), "policy"), plural(len(rb.Waivers), "waiver"), plural(len(rb.Apps), "app"),
		plural(len(rb.People), "person"), plural(len(rb.Groups.Names()), "group"), plural(len(rb.Expects), "expectation")}
	fmt.Fprintf(s.out, "Read %s: %s.\n", plural(len(rb.Files), "rulebook file"), strings.Join(counts, ", "))
	s.checkLoaded(rb)
}

// checkLoaded tells what came from each file that the rulebook points to.
func (s *session) checkLoaded(rb *rulebook.Rulebook) {
	width := 0
	for _, l := range rb.Loaded {
		width = max(width, utf8.RuneCountInString(l.File))
	}
	for _, l := range rb.Loaded {
		line := tallies(l.Items)
		if line == "" {
			line = "nothing"
		}
		if len(l.Aside) > 0 {
			var aside []string
			for _, t := range l.Aside {
				aside = append(aside, fmt.Sprintf("%d %s", t.N, printable(t.What)))
			}
			line += s.paint.faint("; left aside: " + strings.Join(aside, ", "))
		}
		fmt.Fprintf(s.out, "  %-*s  %s\n", width, printable(l.File), line)
	}
}

func tallies(list []rulebook.Tally) string {
	var parts []string
	for _, t := range list {
		parts = append(parts, plural(t.N, t.What))
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
}

func (s *session) checkJSON(rb *rulebook.Rulebook, list diag.List) error {
	answer := struct {
		Rulebook string        `json:"rulebook"`
		Digest   string        `json:"digest"`
		Errors   int           `json:"errors"`
		Warnings int           `json:"warnings"`
		Loaded   []jsonLoaded  `json:"loaded"`
		Findings []jsonFinding `json:"findings"`
	}{rb.Name, rb.Digest, list.Count(diag.Error), list.Count(diag.Warning), loadedJSON(rb.Loaded), []jsonFinding{}}
	for _, d := range list {
		answer.Findings = append(answer.Findings, jsonFinding{d.Code, d.Severity, d.Pos.File, d.Pos.Line, d.Pos.Column, d.Message, d.Help})
	}
	return s.writeJSON(answer)
}

// writeJSON writes a value as one line.
func (s *session) writeJSON(v any) error {
	if err := json.MarshalWrite(s.out, v, json.Deterministic(true)); err != nil {
		return err
	}
	return s.out.WriteByte('\n')
}

// mostListed is how many findings are shown before the rest is counted.
const mostListed = 50

// listing prints findings, each with the line that it is about.
type listing struct {
	out    *bufio.Writer
	rb     *rulebook.Rulebook // nil where the text is given
	source string
	paint  painter
}

func (l *listing) print(list diag.List) {
	for i, d := range list {
		if i == mostListed {
			rest := list[i:]
			fmt.Fprintf(l.out, "… and %s and %s more.\n\n", plural(rest.Count(diag.Error), "error"), plural(rest.Count(diag.Warning), "warning"))
			return
		}
		l.finding(d)
	}
}

func (l *listing) finding(d diag.Diagnostic) {
	word := l.paint.red("error")
	if d.Severity == diag.Warning {
		word = l.paint.amber("warning")
	}
	code := ""
	if d.Severity == diag.Warning {
		code = l.paint.faint(" [" + string(d.Code) + "]")
	}
	fmt.Fprintf(l.out, "%s: %s: %s%s\n", l.paint.bold(printable(d.Pos.String())), word, printable(d.Message), code)
	if line, ok := l.line(d.Pos); ok {
		l.excerpt(line, int(d.Pos.Line), int(d.Pos.Column), d.Span)
	}
	if d.Help != "" {
		fmt.Fprintf(l.out, "       %s %s\n", l.paint.faint("→"), wrapped(d.Help, 9))
	}
	fmt.Fprintln(l.out)
}

// line is the source line at a position.
func (l *listing) line(pos token.Pos) (string, bool) {
	source := l.source
	if l.rb != nil {
		for _, f := range l.rb.Files {
			if f.Name == pos.File {
				source = string(f.Source)
			}
		}
	}
	source = strings.TrimPrefix(source, "\ufeff")
	for n := int32(1); pos.Line > 0 && source != ""; n++ {
		line, rest, _ := strings.Cut(source, "\n")
		if n == pos.Line {
			return strings.TrimRight(line, "\r"), true
		}
		source = rest
	}
	return "", false
}

// excerpt shows the line with a caret under what is meant; of a long line, the part around it.
func (l *listing) excerpt(line string, number, column, span int) {
	const most = 92
	line = strings.Map(oneCell, line[:min(len(line), 1<<16)])
	runes := []rune(line)
	from := 0
	if column > most-20 {
		from = column - most/2
	}
	to := min(len(runes), from+most)
	if from > to {
		return
	}
	caret := column - 1 - from
	width := max(1, min(span, to-from-caret))
	fmt.Fprintf(l.out, "%s %s\n", l.paint.faint(fmt.Sprintf("%5d │", number)), string(runes[from:to]))
	fmt.Fprintf(l.out, "%s %s%s\n", l.paint.faint("      │"), strings.Repeat(" ", caret), l.paint.amber(strings.Repeat("^", width)))
}

// oneCell keeps what takes one cell of a terminal, and stands in for what could steer it.
func oneCell(r rune) rune {
	switch {
	case r == '\t':
		return ' '
	case unicode.IsControl(r) || unicode.Is(unicode.Cf, r) || r == utf8.RuneError:
		return '·'
	}
	return r
}
