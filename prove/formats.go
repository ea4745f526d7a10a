package prove

// A report for other tools.

import (
	"fmt"
	"slices"
	"strings"

	"briskwarden.example/briskwarden/internal/junit"
	"briskwarden.example/briskwarden/internal/sarif"
	"briskwarden.example/briskwarden/internal/spell"
)

// Text tells a way in one line.
func (w *Way) Text() string {
	text := fmt.Sprintf("%s: %s to %s", w.Outcome, spell.Few(w.People, 3), spell.Few(w.Apps, 3))
	if len(w.Actions) > 1 || w.Actions[0] != "sign-on" {
		text += " (" + strings.Join(w.Actions, ", ") + ")"
	}
	var by []string
	for _, b := range w.By {
		by = append(by, b.Text())
	}
	return text + " by " + strings.Join(by, ", ")
}

// Text tells a case: its policy, its label and its place.
func (b *By) Text() string {
	switch {
	case b.Case == "" && b.Policy == "unmatched":
		return "no policy: unmatched"
	case b.Case == "" && slices.Contains([]string{"unknown-user", "disabled-user", "unknown-app"}, b.Policy):
		return map[string]string{"unknown-user": "the user is not known", "disabled-user": "the user is disabled", "unknown-app": "the app or action is not known"}[b.Policy]
	case b.Case == "" && b.Policy == "break-glass":
		return "the demand of the emergency accounts"
	case b.Case == "":
		return "the " + b.Policy
	}
	return fmt.Sprintf("%s %q (%s)", b.Policy, b.Case, b.At)
}

// why tells, in lines, how a promise is broken.
func (p *Proof) why() string {
	var lines []string
	for i := range p.Broken {
		w := &p.Broken[i]
		line := w.Text()
		if w.brief != "" {
			line += "; all when " + w.brief
		}
		if w.Decide != "" {
			line += "; brisk decide " + w.Decide
		}
		lines = append(lines, line)
	}
	return strings.Join(lines, "\n")
}

// headline tells what came of a promise that does not hold.
func (p *Proof) headline() string {
	if p.Answer == Undecided {
		return "not decided in time: " + p.Hard
	}
	people, apps := p.Reach()
	return fmt.Sprintf("broken by %s at %s", spell.Plural(len(people), "person"), spell.Plural(len(apps), "app"))
}

// JUnit gives the report in the XML that JUnit's readers know: what is not decided counts as skipped.
func (r *Report) JUnit() ([]byte, error) {
	suite := junit.Suite{Name: r.Rulebook, Tests: len(r.Promises)}
	for i := range r.Promises {
		p := &r.Promises[i]
		c := junit.Case{Name: p.Promise, Class: r.Rulebook, File: p.file, Line: p.line}
		switch p.Answer {
		case Broken:
			suite.Failures++
			c.Failure = &junit.Failure{Message: p.headline(), Text: p.why()}
		case Undecided:
			suite.Skipped++
			c.Skipped = &junit.Failure{Message: p.headline()}
		}
		suite.Cases = append(suite.Cases, c)
	}
	return suite.XML()
}

// The rules of SARIF that promises break.
var (
	brokenRule = sarif.Rule{ID: "broken-promise", Name: "BrokenPromise", Level: "error", Page: "certainty.md", Text: "Some possible sign-on breaks a promise.",
		Help: "Some possible sign-on breaks a promise. Mend the policy that lets it through, or say in the promise whom and what it is not about."}
	undecidedRule = sarif.Rule{ID: "undecided-promise", Name: "UndecidedPromise", Level: "warning", Page: "certainty.md", Text: "Whether a promise holds was not decided in time.",
		Help: "Whether a promise holds was not decided in time. Allow more with --within."}
)

// SARIF gives what does not hold as a SARIF 2.1.0 log (OASIS) of a tool of that version, at the places of the promises.
func (r *Report) SARIF(version string) ([]byte, error) {
	var results []sarif.Result
	for i := range r.Promises {
		p := &r.Promises[i]
		x := sarif.Result{Rule: brokenRule, File: p.file, Line: p.line, Column: p.column, EndColumn: p.column + p.span}
		switch p.Answer {
		case Holds:
			continue
		case Undecided:
			x.Rule = undecidedRule
		}
		if p.At == "" {
			x.File, x.Line = "rulebook.warden", 0
		}
		x.Message = fmt.Sprintf("%q: %s", p.Promise, p.headline())
		if why := p.why(); why != "" {
			x.Message += "\n" + why
		}
		results = append(results, x)
	}
	return sarif.Log(version, results)
}

// Reach are all people of whom, and all apps at which, the promise is broken.
func (p *Proof) Reach() (people, apps []string) {
	for i := range p.Broken {
		people = append(people, p.Broken[i].People...)
		apps = append(apps, p.Broken[i].Apps...)
	}
	return unique(people), unique(apps)
}
