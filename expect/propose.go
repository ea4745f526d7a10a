package expect

// Expectations proposed from what was logged.

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"math"
	"slices"
	"strings"
	"time"

	"briskwarden.example/briskwarden"
	"briskwarden.example/briskwarden/internal/bridge"
	"briskwarden.example/briskwarden/internal/engine"
	"briskwarden.example/briskwarden/internal/posture"
	"briskwarden.example/briskwarden/internal/rulebook"
	"briskwarden.example/briskwarden/language"
	"briskwarden.example/briskwarden/language/parser"
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
	clauses, ok := tell(so)
	if !ok || !p.holds(ctx, clauses, &d) {
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
	tree, err := parser.SignOn("proposal", clauses)
	if err != nil {
		return false
	}
	so, err := p.engine.Rulebook().Tell(tree, time.Time{})
	if err != nil {
		return false
	}
	var d signon.Decision
	if err := p.engine.Decide(ctx, &so, &d, true); err != nil {
		return false
	}
	return slices.Equal(coverage(&d), coverage(want)) && asked(&d) == asked(want)
}

// tell writes a sign-on in clauses; not ok where they have no words for it.
func tell(so *signon.SignOn) (text string, ok bool) {
	if len(so.Properties) > 0 || so.User == "" || so.App == "" || so.Time.IsZero() {
		return "", false
	}
	var parts []string
	add := func(clause, value string) {
		if value != "" {
			parts = append(parts, clause+" "+scanner.Quote(value))
		}
	}
	add("user", so.User)
	add("app", so.App)
	if so.Action != rulebook.SignOn {
		add("doing", so.Action)
	}
	if so.IP.IsValid() {
		add("ip", so.IP.String())
	}
	add("country", so.Country)
	add("at", so.Time.Format(time.RFC3339))
	add("client", string(so.Client))
	if so.Device != nil {
		device, ok := tellDevice(so.Device)
		if !ok {
			return "", false
		}
		parts = append(parts, device)
	}
	if so.Session.ID != "" {
		add("session", so.Session.ID)
		if !so.Session.Started.IsZero() {
			parts = append(parts, "started "+so.Session.Started.Format(time.RFC3339))
		}
	}
	if len(so.Presented) > 0 {
		parts = append(parts, "presenting "+strings.Join(so.Presented, ", "))
	}
	for _, e := range so.Evidence {
		age := so.Time.Sub(e.Time)
		if age < 0 {
			return "", false
		}
		having := fmt.Sprintf("having %s %dm", scanner.Quote(e.Method), int(math.Ceil(age.Minutes())))
		for _, x := range [][2]string{{"in session", e.Session}, {"on device", e.Device}, {"for app", e.App}} {
			if x[1] != "" {
				having += " " + x[0] + " " + scanner.Quote(x[1])
			}
		}
		parts = append(parts, having)
	}
	if so.Risk != nil {
		parts = append(parts, fmt.Sprintf("risk %g", *so.Risk))
	}
	if so.Consent != nil {
		parts = append(parts, tellConsent(so.Consent)...)
	}
	return strings.Join(parts, "  "), true
}

// tellConsent tells what a client application asks for. What a clause cannot tell shows when
// the clauses are decided once more.
func tellConsent(c *signon.Consent) (parts []string) {
	if c.Client != "" {
		parts = append(parts, "client-app "+scanner.Quote(c.Client))
	}
	if c.Publisher != "" {
		publisher := "publisher " + scanner.Quote(c.Publisher)
		if c.Verified == signon.Yes {
			publisher += " verified"
		}
		parts = append(parts, publisher)
	}
	if len(c.Scopes) > 0 {
		quoted := make([]string, len(c.Scopes))
		for i, s := range c.Scopes {
			quoted[i] = scanner.Quote(s)
		}
		parts = append(parts, "scopes "+strings.Join(quoted, ", "))
	}
	if c.For != "" {
		whom := "for " + string(c.For)
		if c.Group != "" {
			whom += " " + scanner.Quote(c.Group)
		}
		if c.Owner == signon.Yes {
			whom += " owner"
		}
		parts = append(parts, whom)
	}
	return parts
}

func tellDevice(d *signon.Device) (string, bool) {
	if d.ID == "" || len(d.Attributes) > 0 {
		return "", false
	}
	copied := *d
	var fields []string
	for name, word := range posture.Words(&copied) {
		if name != "id" && *word != "" {
			fields = append(fields, name+" "+scanner.Quote(*word))
		}
	}
	for name, flag := range posture.Flags(&copied) {
		if *flag != signon.Unknown {
			fields = append(fields, name+map[signon.YesNo]string{signon.Yes: " yes", signon.No: " no"}[*flag])
		}
	}
	if !d.Reported.IsZero() {
		fields = append(fields, "reported "+d.Reported.Format(time.RFC3339))
	}
	slices.SortFunc(fields, func(a, b string) int { return cmp.Compare(a, b) })
	if len(fields) == 0 {
		return "device " + scanner.Quote(d.ID), true
	}
	return "device " + scanner.Quote(d.ID) + " { " + strings.Join(fields, "  ") + " }", true
}
