package cli

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"briskwarden.example/briskwarden/internal/diag"
	"briskwarden.example/briskwarden/internal/expect"
	"briskwarden.example/briskwarden/internal/rulebook"
	"briskwarden.example/briskwarden/signon"
)

// verdict lays out one decision for a person: the answer, what is asked, what decided,
// what stood by and why.
type verdict struct {
	out   *screen
	paint painter
	rb    *rulebook.Rulebook
	so    *signon.SignOn
	d     *signon.Decision
	brief bool // leave out what did not decide
}

// labelWidth is the width of the labels at the left.
const labelWidth = 10

func (v *verdict) row(label, format string, args ...any) {
	v.out.printf("%s%s\n", v.paint.faint(pad(label, labelWidth)), wrapped(fmt.Sprintf(format, args...), labelWidth))
}

func (v *verdict) print() {
	v.head()
	v.why()
}

// head is the answer in one line.
func (v *verdict) head() {
	action := v.so.Action
	if action == "" {
		action = rulebook.SignOn
	}
	v.out.printf("%s%s\n", v.paint.outcome(v.d.Outcome, pad(strings.ToUpper(v.d.Outcome.String()), labelWidth)),
		v.paint.bold(fmt.Sprintf("%s, %s to %s", orNobody(v.so.User), action, orNobody(v.so.App))))
}

// why tells what is asked, what decided, and what stood by.
func (v *verdict) why() {
	if v.d.Message != "" {
		v.row("Told", "“%s”%s", v.d.Message, map[bool]string{true: " (built in)"}[v.d.Explanation.BuiltIn])
	}
	v.asked()
	v.scopes()
	v.decided()
	if !v.brief {
		v.rest()
		v.stoodBy()
	}
}

func orNobody(name string) string {
	if name == "" {
		return "(none)"
	}
	return name
}

// asked tells what the person can do next.
func (v *verdict) asked() {
	for i, s := range v.d.Next {
		label := map[bool]string{true: "Asked", false: "and"}[i == 0]
		switch s.Do {
		case signon.Verify:
			v.row(label, "present %s%s", sets(s.AnyOf), v.challenge())
		case signon.Enrol:
			v.row(label, "enrol in %s", sets(s.AnyOf))
		case signon.ChangePassword:
			v.row(label, "change the password")
		case signon.Remedy:
			v.row("Mend", "the device, to meet %s: %s", s.Baseline, strings.Join(s.Checks, ", "))
		case signon.EnrolElsewhere:
			v.row("Mend", "enrol in %s, elsewhere: nobody enrols in this sign-on", sets(s.AnyOf))
		case signon.WaitForReview:
			v.row("Waits", "for a review by group %s", s.Group)
		}
	}
}

// scopes tells by which sets the scopes are known that a client application asks for.
func (v *verdict) scopes() {
	if v.so.Consent == nil {
		return
	}
	label := "Scopes"
	for _, c := range v.rb.Classify(v.so.Consent.Scopes) {
		const most = 8
		v.row(label, "%s, of %s", diag.Few(c.Scopes, most), setText(c))
		label = ""
	}
}

// setText names a set of scopes, with its weight.
func setText(c rulebook.Classified) string {
	if c.Name == "unclassified" {
		return fmt.Sprintf("no set (weight %d)", c.Weight)
	}
	return fmt.Sprintf("%s (weight %d)", c.Name, c.Weight)
}

// sets tells alternatives: "passkey, or password and app-code".
func sets(list [][]string) string {
	alternatives := make([]string, len(list))
	for i, set := range list {
		alternatives[i] = strings.Join(set, " and ")
	}
	return strings.Join(alternatives, ", or ")
}

// challenge tells what a resource server would ask for.
func (v *verdict) challenge() string {
	var parts []string
	if v.d.ACR != "" {
		parts = append(parts, v.d.ACR)
	}
	switch age := v.d.MaxAge; {
	case age == 0:
		parts = append(parts, "with this very sign-on")
	case age != signon.NoMaxAge:
		parts = append(parts, "at most "+span(age)+" old")
	}
	if len(parts) == 0 {
		return ""
	}
	return " (" + strings.Join(parts, ", ") + ")"
}

// span tells a number of seconds in the largest unit that divides it.
func span(seconds int64) string {
	for _, unit := range []struct {
		size int64
		name string
	}{{7 * 86400, "w"}, {86400, "d"}, {3600, "h"}} {
		if seconds%unit.size == 0 {
			return fmt.Sprintf("%d%s", seconds/unit.size, unit.name)
		}
	}
	return fmt.Sprintf("%dm", seconds/60)
}

// decided tells which policy and case gave the outcome, and where they stand.
func (v *verdict) decided() {
	x := v.d.Explanation
	label := "Decided"
	for _, e := range particularFirst(x.Deciding) {
		v.entry(label, e)
		label = "and"
	}
	switch x.Ground {
	case signon.GroundIdentity:
		v.row(label, "before any policy was asked%s", v.nearest())
	case signon.GroundBreakGlass:
		v.row(label, "break-glass asks for %s", v.d.Demands[0].Demand)
	case signon.GroundUnmatched:
		v.row(label, "no policy surely spoke: the rulebook's unmatched is %s", v.d.Outcome)
	case signon.GroundFloor:
		if len(x.Deciding) > 0 {
			return // what the floor asks for is asked for anyway
		}
		for _, d := range v.d.Demands {
			if d.Policy == "floor" {
				v.row(label, "the floor asks for %s", d.Demand)
			}
		}
	}
}

// particularFirst puts cases with a condition before those that are otherwise.
func particularFirst(list []signon.Entry) []signon.Entry {
	rank := map[bool]int{true: 1}
	return slices.SortedStableFunc(slices.Values(list), func(a, b signon.Entry) int {
		return rank[a.Case == "otherwise"] - rank[b.Case == "otherwise"]
	})
}

// nearest suggests a known name for one that is not.
func (v *verdict) nearest() string {
	if _, ok := v.rb.People[v.so.User]; !ok {
		return hint(v.so.User, slices.Collect(maps.Keys(v.rb.People)))
	} else if _, ok := v.rb.Apps[v.so.App]; !ok {
		return hint(v.so.App, slices.Collect(maps.Keys(v.rb.Apps)))
	} else if !v.rb.Actions[v.so.Action] {
		return hint(v.so.Action, slices.Collect(maps.Keys(v.rb.Actions)))
	}
	return ""
}

func (v *verdict) entry(label string, e signon.Entry) {
	sure := ""
	if !e.Sure {
		sure = ", which cannot be ruled out"
	}
	v.row(label, "%s %q%s, at %s", e.Policy, e.Case, sure, e.At)
	if d, ok := v.demandOf(e); ok {
		v.row("", "asks %s%s", d.Demand, v.whether(d.Met))
	}
	v.row("", "because %s", e.Why)
}

// whether tells what became of a demand.
func (v *verdict) whether(met bool) string {
	switch {
	case met:
		return " (met)"
	case v.d.Outcome == signon.Block:
		return " (cannot be met here)"
	}
	return ""
}

// demandOf finds what a case asked for, and whether it was met.
func (v *verdict) demandOf(e signon.Entry) (signon.Demand, bool) {
	for _, p := range v.rb.Policies {
		for _, c := range p.Cases {
			if p.Name != e.Policy || c.Label != e.Case || c.Demand == nil {
				continue
			}
			i := slices.IndexFunc(v.d.Demands, func(d signon.Demand) bool { return d.Policy == e.Policy && d.Demand == c.Demand.Text })
			if i >= 0 {
				return v.d.Demands[i], true
			}
		}
	}
	return signon.Demand{}, false
}

// rest tells what else counts: other policies that spoke, sessions, waivers, notices, watch and risk.
func (v *verdict) rest() {
	x := v.d.Explanation
	v.alsoSpoke()
	if w := x.Watch; w != nil {
		same := map[bool]string{true: "the same", false: w.Outcome.String()}[w.Outcome == v.d.Outcome]
		v.row("Watched", "with the policies on watch it would be %s", same)
		for _, e := range w.Policies {
			if e.Outcome == "abstain" {
				continue
			}
			v.row("", "%s %q: %s; %s (%s)", e.Policy, e.Case, e.Outcome, e.Why, e.At)
		}
	}
	for i, k := range x.Known {
		v.row(map[bool]string{true: "Known", false: ""}[i == 0], "%s", k)
	}
	for _, name := range x.Lapsed {
		i := slices.IndexFunc(v.rb.Waivers, func(w *rulebook.Waiver) bool { return w.Name == name })
		w := v.rb.Waivers[i]
		v.row("Ended", "the waiver %s would have lifted it; its last day was %s (%s:%d)", name,
			w.Until.Add(-1).In(v.rb.Zone).Format("Mon 2006-01-02"), w.Decl.Name.Pos.File, w.Decl.Name.Pos.Line)
	}
	if len(x.Waivers) > 0 {
		v.row("Waived", "by %s", strings.Join(x.Waivers, ", "))
	}
	if r := x.Risk; r != nil {
		v.risk(r)
	}
	if l := v.d.Session; l != (signon.SessionLimits{}) {
		v.row("Session", "%s", limitText(l))
	}
	for _, n := range v.d.Notices {
		v.row("Notice", "%s", n)
	}
}

// alsoSpoke tells of the enforced policies that applied and did not decide.
func (v *verdict) alsoSpoke() {
	x := v.d.Explanation
	deciding := map[signon.Entry]bool{}
	for _, e := range x.Deciding {
		deciding[e] = true
	}
	label, abstained := "Also", []string(nil)
	for _, e := range x.Policies {
		switch {
		case deciding[e] || e.Stage != rulebook.Enforce.String():
		case e.Outcome == "abstain" && e.Sure:
			abstained = append(abstained, e.Policy)
		default:
			why := ""
			if e.Case != "otherwise" {
				why = "; " + e.Why
			}
			v.row(label, "%s %q: %s%s%s", e.Policy, e.Case, e.Outcome, v.metOrNot(e), why)
			label = ""
		}
	}
	if len(abstained) > 0 {
		v.row("Abstained", "%s", strings.Join(abstained, ", "))
	}
}

func (v *verdict) metOrNot(e signon.Entry) string {
	d, ok := v.demandOf(e)
	if !ok {
		return ""
	}
	return fmt.Sprintf(" %s%s", d.Demand, map[bool]string{true: " (met)", false: " (not met)"}[d.Met])
}

func (v *verdict) risk(r *signon.Risk) {
	score := fmt.Sprint(r.Low)
	if r.High != r.Low {
		score = fmt.Sprintf("%d to %d", r.Low, r.High)
	}
	if len(r.Factors) == 0 {
		v.row("Risk", "%s: no factor holds", score)
		return
	}
	v.row("Risk", "%s%s", score, v.band(r))
	writeFactors(v.out, r, labelWidth)
}

// writeFactors tells what each factor adds, and why: "45 because new.country is yes: …".
func writeFactors(out *screen, r *signon.Risk, indent int) {
	for _, f := range r.Factors {
		why := "because " + f.Why
		if f.Value != "true" {
			why = "perhaps: " + f.Why
		}
		out.printf("%s%3d %s\n", strings.Repeat(" ", indent), f.Add, wrapped(why, indent+4))
	}
}

// band names the bands of a score.
func (v *verdict) band(r *signon.Risk) string {
	low, high := v.rb.Risk.BandAt(r.Low), v.rb.Risk.BandAt(r.High)
	switch {
	case low == "" && high == "":
		return ""
	case low == high:
		return ", " + low
	}
	return fmt.Sprintf(", %s to %s", low, high)
}

func limitText(l signon.SessionLimits) string {
	var parts []string
	if l.Lifetime != "" {
		parts = append(parts, "lasts "+l.Lifetime)
	}
	if l.Idle != "" {
		parts = append(parts, "idle "+l.Idle)
	}
	return strings.Join(parts, ", ")
}

// stoodBy lists the policies that did not apply under the one reason why, those that came
// closest first.
func (v *verdict) stoodBy() {
	reasons := map[string][]string{}
	var order []string
	for _, s := range v.d.Explanation.Skipped {
		if reasons[s.Why] == nil {
			order = append(order, s.Why)
		}
		reasons[s.Why] = append(reasons[s.Why], s.Policy)
	}
	if len(order) == 0 {
		return
	}
	slices.SortStableFunc(order, func(a, b string) int { return closeness(a) - closeness(b) })
	v.out.printf("\n%s\n", v.paint.faint("Stood by"))
	for _, why := range order {
		v.out.printf("  %s\n      %s\n", wrapped(why, 2), wrapped(strings.Join(reasons[why], ", "), 6))
	}
}

// closeness orders reasons by how near the policy was to applying.
func closeness(why string) int {
	clause, _, _ := strings.Cut(why, ":")
	return slices.Index([]string{"stage", "who", "doing", "to"}, clause)
}

// summary writes a decision as one line.
func (s *session) summary(so *signon.SignOn, d *signon.Decision) {
	id := pad(orNobody(d.ID), 10)
	outcome := s.paint.outcome(d.Outcome, pad(d.Outcome.String(), 7))
	switch {
	case d.Error != "":
		s.out.printf("%s  %s  %s\n", id, outcome, d.Error)
	case d.Explanation.Ground == signon.GroundIdentity:
		s.out.printf("%s  %s  %s\n", id, outcome, d.Message)
	default:
		s.out.printf("%s  %s  %s to %s, by %s\n", id, outcome, orNobody(so.User), orNobody(so.App), expect.By(d))
	}
}
