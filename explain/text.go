package explain

// The layout of an explanation.

import (
	"cmp"
	"fmt"
	"iter"
	"maps"
	"slices"
	"strings"

	"briskwarden.example/briskwarden"
	"briskwarden.example/briskwarden/internal/bridge"
	"briskwarden.example/briskwarden/internal/rulebook"
	"briskwarden.example/briskwarden/internal/screen"
	"briskwarden.example/briskwarden/internal/spell"
	"briskwarden.example/briskwarden/signon"
)

// Options say how a decision is laid out.
type Options struct {
	Width  int  // in the cells of a terminal; 0 is 100
	Colour bool // with the escape sequences of ECMA-48
	Brief  bool // leave out what did not decide
}

// Text explains a decision of [briskwarden.Rulebook.Explain] on a sign-on. Whatever anybody named
// stands there in characters that can be seen. Of a lean decision there is less to tell.
func Text(rules *briskwarden.Rulebook, s signon.SignOn, d signon.Decision, o Options) string {
	return Head(s, d.Outcome, o) + Reasons(rules, s, d, o)
}

// Head is the first line of [Text]: the outcome, and who signs on to what.
func Head(s signon.SignOn, outcome signon.Outcome, o Options) string {
	paint := screen.Painter(o.Colour)
	return string(screen.Styledf("%s%s\n", paint.Outcome(outcome, screen.Pad(strings.ToUpper(outcome.String()), labelWidth)),
		paint.Bold(fmt.Sprintf("%s, %s to %s", orNone(s.User), cmp.Or(s.Action, rulebook.SignOn), orNone(s.App)))))
}

// Row is a line of [Text] with its label, broken to the width.
func Row(label, text string, o Options) string {
	return string(screen.Styledf("%s%s\n", screen.Painter(o.Colour).Faint(screen.Pad(label, labelWidth)),
		screen.WrappedTo(text, labelWidth, labelWidth, cmp.Or(o.Width, screen.Width))))
}

// Reasons are what follows the first line of [Text].
func Reasons(rules *briskwarden.Rulebook, s signon.SignOn, d signon.Decision, o Options) string {
	if d.Explanation == nil {
		d.Explanation = &signon.Explanation{}
	}
	o.Width = cmp.Or(o.Width, screen.Width)
	v := &verdict{rb: bridge.Engine(rules).Rulebook(), so: &s, d: &d, o: o, paint: screen.Painter(o.Colour)}
	v.why()
	if !o.Brief {
		v.rest()
		v.stoodBy()
	}
	return v.text.String()
}

// verdict is a decision that is laid out.
type verdict struct {
	text  strings.Builder
	o     Options
	paint screen.Painter
	rb    *rulebook.Rulebook
	so    *signon.SignOn
	d     *signon.Decision
}

// labelWidth is the width of the labels at the left.
const labelWidth = 10

func (v *verdict) printf(format string, args ...any) {
	v.text.WriteString(string(screen.Styledf(format, args...)))
}

func (v *verdict) wrapped(text string, indent int) screen.Styled {
	return screen.WrappedTo(text, indent, indent, v.o.Width)
}

func (v *verdict) row(label, format string, args ...any) {
	v.text.WriteString(Row(label, fmt.Sprintf(format, args...), v.o))
}

// why tells what is asked, what decided, and what stood by.
func (v *verdict) why() {
	if v.d.Message != "" {
		v.row("Told", "“%s”%s", v.d.Message, map[bool]string{true: " (built in)"}[v.d.Explanation.BuiltIn])
	}
	v.asked()
	v.scopes()
	v.decided()
}

func orNone(name string) string {
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
		v.row(label, "%s, of %s", spell.Few(c.Scopes, most), briskwarden.ScopeSet{Name: c.Name, Weight: c.Weight})
		label = ""
	}
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
	switch ground := x.Ground; {
	case ground.Identity():
		v.row(label, "before any policy was asked%s", v.nearest())
	case ground == signon.GroundBreakGlass:
		v.row(label, "break-glass asks for %s", v.d.Demands[0].Demand)
	case ground == signon.GroundUnmatched:
		v.row(label, "no policy surely spoke: the rulebook's unmatched is %s", v.d.Outcome)
	case ground == signon.GroundFloor:
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
		return hint(v.so.User, maps.Keys(v.rb.People))
	} else if _, ok := v.rb.Apps[v.so.App]; !ok {
		return hint(v.so.App, maps.Keys(v.rb.Apps))
	} else if !v.rb.Actions[v.so.Action] {
		return hint(v.so.Action, maps.Keys(v.rb.Actions))
	}
	return ""
}

// hint suggests the nearest known name at the end of a sentence.
func hint(name string, known iter.Seq[string]) string {
	if text := spell.Hint(name, slices.Collect(known)); text != "" {
		return "; " + text
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
	v.text.WriteString(Factors(r, labelWidth, v.o.Width))
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
	v.printf("\n%s\n", v.paint.Faint("Stood by"))
	for _, why := range order {
		v.printf("  %s\n      %s\n", v.wrapped(why, 2), v.wrapped(strings.Join(reasons[why], ", "), 6))
	}
}

// closeness orders reasons by how near the policy was to applying.
func closeness(why string) int {
	clause, _, _ := strings.Cut(why, ":")
	return slices.Index([]string{"stage", "who", "doing", "to"}, clause)
}

// Factors tell what each factor adds to a score, and why, a line each behind an indent:
// "45 because new.country is yes: …".
func Factors(r *signon.Risk, indent, width int) string {
	var b strings.Builder
	for _, f := range r.Factors {
		why := "because " + f.Why
		if f.Value != "true" {
			why = "perhaps: " + f.Why
		}
		fmt.Fprintf(&b, "%s%3d %s\n", strings.Repeat(" ", indent), f.Add, screen.WrappedTo(why, indent+4, indent+4, width))
	}
	return b.String()
}

// By tells what decided: policies with their cases, the floor, or that none surely spoke.
func By(d *signon.Decision) string {
	var list []string
	for _, e := range d.Explanation.Deciding {
		list = append(list, fmt.Sprintf("%s %q", e.Policy, e.Case))
	}
	switch ground := d.Explanation.Ground; {
	case ground == signon.GroundFloor:
		if len(list) == 0 {
			list = append(list, "the floor")
		}
	case ground == signon.GroundUnmatched:
		list = append(list, "unmatched")
	case ground == signon.GroundBreakGlass:
		list = append(list, "the emergency accounts' demand")
	case ground.Identity():
		list = append(list, "who signs on")
	}
	return strings.Join(list, ", ")
}
