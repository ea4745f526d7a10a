package expect

// Expectations proposed from what was logged.

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"briskwarden.example/briskwarden"
	"briskwarden.example/briskwarden/internal/bridge"
	"briskwarden.example/briskwarden/internal/demand"
	"briskwarden.example/briskwarden/internal/engine"
	"briskwarden.example/briskwarden/internal/rulebook"
	"briskwarden.example/briskwarden/language"
	"briskwarden.example/briskwarden/language/scanner"
	"briskwarden.example/briskwarden/replay"
	"briskwarden.example/briskwarden/signon"
)

// Proposal is a few sign-ons of logs that cover every case and outcome seen, as expectations.
type Proposal struct {
	Text string           // the expectations, in the one layout of the language
	Seen int              // sign-ons
	Left int              // that showed something new, and that the clauses of an expectation cannot tell
	Bad  []replay.BadLine // that cannot be read
}

// Propose picks, from the sign-ons of logs, a few that cover every case and outcome seen, and writes
// them as expectations, which hold. Progress, if it is not nil, is told how many lines were read.
func Propose(ctx context.Context, rules *briskwarden.Rulebook, logs []replay.Log, progress func(lines int)) (*Proposal, error) {
	p := &proposer{engine: bridge.Engine(rules), covered: map[string]int{}}
	var found Proposal
	for _, l := range logs {
		err := replay.Each(l.In, l.Name, func(line *replay.Line) error {
			if err := ctx.Err(); err != nil {
				return err
			}
			if found.Seen++; progress != nil {
				progress(found.Seen)
			}
			return p.consider(ctx, &line.SignOn)
		}, func(b replay.BadLine) { found.Bad = append(found.Bad, b) })
		if err != nil {
			return nil, fmt.Errorf("%s: %w", l.Name, err)
		}
	}
	text, err := language.Format("proposal", []byte(p.expectations()))
	if err != nil {
		return nil, err
	}
	found.Text, found.Left = string(text), p.left
	return &found, nil
}

// proposer picks sign-ons.
type proposer struct {
	engine  *engine.Engine
	covered map[string]int // how many of the picked cover it
	picked  []proposal
	left    int
}

// proposal is a sign-on that was picked.
type proposal struct {
	text   string
	covers []string
}

// consider picks the sign-on if it shows a case, or an outcome of one, that none before it did.
// What is written is decided once more as it is written, so that it holds.
func (p *proposer) consider(ctx context.Context, so *signon.SignOn) error {
	var d signon.Decision
	if err := p.engine.Decide(ctx, so, &d, true); err != nil {
		return err
	}
	covers := coverage(&d)
	if !slices.ContainsFunc(covers, func(c string) bool { return p.covered[c] == 0 }) {
		return nil
	}
	clauses, ok := rulebook.Clauses(so)
	if !ok || !p.knows(so, &d) || !p.holds(ctx, clauses, &d) {
		p.left++
		return nil
	}
	name := fmt.Sprintf("%s to %s: %s", so.User, so.App, d.Outcome)
	if so.ID != "" {
		name += " (" + so.ID + ")"
	}
	p.picked = append(p.picked, proposal{fmt.Sprintf("expect %q {\n  %s\n  => %s%s\n}\n", name, clauses, d.Outcome, asked(&d)), covers})
	for _, c := range covers {
		p.covered[c]++
	}
	return nil
}

// knows reports whether the rulebook knows every name, without which an expectation is an error.
func (p *proposer) knows(so *signon.SignOn, d *signon.Decision) bool {
	methods := slices.Clone(so.Presented)
	for _, e := range so.Evidence {
		methods = append(methods, e.Method)
		if _, known := p.engine.Rulebook().Apps[e.App]; !known && e.App != "" {
			return false
		}
	}
	unknown := func(method string) bool {
		_, known := p.engine.Rulebook().Methods.Lookup(method)
		return !known && method != demand.ChangePassword
	}
	ground := d.Explanation.Ground
	return ground != signon.GroundUnknownUser && ground != signon.GroundUnknownTarget && !slices.ContainsFunc(methods, unknown)
}

// expectations are those picked, without any that the others make needless.
func (p *proposer) expectations() string {
	kept, covered := slices.Clone(p.picked), maps.Clone(p.covered)
	for i := len(kept) - 1; i >= 0; i-- {
		if !slices.ContainsFunc(kept[i].covers, func(c string) bool { return covered[c] == 1 }) {
			for _, c := range kept[i].covers {
				covered[c]--
			}
			kept = slices.Delete(kept, i, i+1)
		}
	}
	texts := make([]string, len(kept))
	for i, k := range kept {
		texts[i] = k.text
	}
	return strings.Join(texts, "\n")
}

// coverage is what a decision shows: its outcome by its ground, and each case taken with the outcome.
func coverage(d *signon.Decision) (list []string) {
	list = append(list, fmt.Sprint(d.Outcome, " ", d.Explanation.Ground))
	for _, e := range d.Explanation.Policies {
		if e.Sure {
			list = append(list, fmt.Sprintf("%s %q %s", e.Policy, e.Case, d.Outcome))
		}
	}
	return list
}

// asked is what an expectation says of the decision behind its outcome.
func asked(d *signon.Decision) (text string) {
	if list := d.Explanation.Deciding; len(list) > 0 {
		first := list[max(0, slices.IndexFunc(list, func(e signon.Entry) bool { return e.Case != "otherwise" }))]
		text = fmt.Sprintf(" by %s %q", scanner.Quote(first.Policy), first.Case)
	}
	for _, s := range d.Next {
		if s.Do == signon.Verify {
			return text + " asking " + strings.Join(s.AnyOf[0], ", ")
		}
	}
	return text
}

// holds reports whether the clauses tell a sign-on that is decided in the same way.
func (p *proposer) holds(ctx context.Context, clauses string, want *signon.Decision) bool {
	so, err := p.engine.Rulebook().TellClauses(clauses, time.Time{})
	if err != nil {
		return false
	}
	var d signon.Decision
	if err := p.engine.Decide(ctx, &so, &d, true); err != nil {
		return false
	}
	return slices.Equal(coverage(&d), coverage(want)) && asked(&d) == asked(want)
}
