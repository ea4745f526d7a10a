package explain

// Who spoke beside what decided, who stood by, and the risk.

import (
	"fmt"
	"slices"
	"strings"

	"briskwarden.example/briskwarden/internal/rulebook"
	"briskwarden.example/briskwarden/internal/screen"
	"briskwarden.example/briskwarden/signon"
)

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
