package condition

// Why a condition came out as it did, in words.

import (
	"fmt"
	"slices"
	"strings"

	"briskwarden.example/briskwarden/internal/fact"
	"briskwarden.example/briskwarden/internal/known"
)

// mostReasons is how many reasons are told before the rest is counted.
const mostReasons = 4

// ExplainedFacts are facts that can also tell a person what they are, and what says so.
type ExplainedFacts interface {
	Facts
	// Show tells the value of a fact.
	Show(s fact.Slot) string
	// ShowBaseline tells which checks of a baseline are not true, and why.
	ShowBaseline(id int) string
	// ShowScopes names the scopes asked for that lie in any of the sets, or those that lie in none.
	ShowScopes(inside bool, sets []int) string
	// Evidence tells what a fact's value comes from, or why it is unknown; "" where there is nothing to add.
	Evidence(s fact.Slot) string
	// MemberEvidence tells what makes the sign-on be in a network or schedule, or not.
	MemberEvidence(s fact.Slot, id int) string
}

// reasons collects what made a condition come out as it did.
type reasons struct{ list []string }

func (r *reasons) add(format string, args ...any) {
	if text := fmt.Sprintf(format, args...); !slices.Contains(r.list, text) {
		r.list = append(r.list, text)
	}
}

// Why tells why the condition is true, false or unknown: the facts that made it so, and no others.
func Why(n Node, f ExplainedFacts) string {
	var r reasons
	n.reasons(f, n.Eval(f), &r)
	if more := len(r.list) - mostReasons; more > 0 {
		r.list = append(r.list[:mostReasons:mostReasons], fmt.Sprintf("%d more", more))
	}
	return strings.Join(r.list, " and ")
}

func (n *andNode) reasons(f ExplainedFacts, is known.Truth, r *reasons) {
	partReasons(n.parts, f, is, known.False, r)
}

func (n *orNode) reasons(f ExplainedFacts, is known.Truth, r *reasons) {
	partReasons(n.parts, f, is, known.True, r)
}

// partReasons tells of the first part that settles the whole by itself, else of all parts
// that came out like the whole.
func partReasons(parts []Node, f ExplainedFacts, is, settles known.Truth, r *reasons) {
	for _, p := range parts {
		if p.Eval(f) != is {
			continue
		}
		p.reasons(f, is, r)
		if is == settles {
			return
		}
	}
}

func (n *notNode) reasons(f ExplainedFacts, is known.Truth, r *reasons) { n.x.reasons(f, is.Not(), r) }

func (n *surelyNode) reasons(f ExplainedFacts, _ known.Truth, r *reasons) {
	n.x.reasons(f, n.x.Eval(f), r)
}

func (n *memberNode) reasons(f ExplainedFacts, is known.Truth, r *reasons) {
	value, list := f.Show(n.fact.Slot), strings.Join(n.names, " or ")
	switch slot := n.fact.Slot; {
	case slot == fact.DeviceMeets:
		r.add("%s", f.ShowBaseline(n.ids[0]))
	case is == known.Unknown && slot == fact.Time:
		r.add("whether %s is in %s is unknown", value, list)
	case is == known.Unknown:
		r.add("%s is unknown%s", n.fact.Name, after(f.Evidence(slot)))
	case slot == fact.UserHas:
		r.add("the user has %s%s", map[known.Truth]string{known.False: "no "}[is], list)
	case slot == fact.Tag:
		r.add("the app has %s", map[known.Truth]string{known.True: "the tag " + n.names[n.holds(f)], known.False: "no tag " + list}[is])
	case is == known.True && slot == fact.Network:
		i := n.holds(f)
		r.add("network in %s: %s", n.names[i], f.MemberEvidence(slot, n.ids[i]))
	case is == known.True:
		r.add("%s is in %s", value, n.names[n.holds(f)])
	default:
		r.add("%s is not in %s%s", value, list, after(n.whyNot(f)))
	}
}

// holds is the index of the first of the sets that holds.
func (n *memberNode) holds(f Facts) int {
	return max(0, slices.IndexFunc(n.ids, func(id int) bool { return f.Member(n.fact.Slot, []int{id}) == known.True }))
}

// whyNot tells what there is to say of sets that do not hold.
func (n *memberNode) whyNot(f ExplainedFacts) string {
	var notes []string
	for i, id := range n.ids {
		if note := f.MemberEvidence(n.fact.Slot, id); note != "" {
			notes = append(notes, n.names[i]+" "+note)
		}
	}
	return strings.Join(notes, ", ")
}

// after puts evidence behind what it is of.
func after(evidence string) string {
	if evidence == "" {
		return ""
	}
	return ": " + evidence
}

func (n *scopesNode) reasons(f ExplainedFacts, is known.Truth, r *reasons) {
	verb := map[bool]string{true: "within", false: "touch"}[n.within]
	switch is {
	case known.Unknown:
		r.add("scopes are unknown")
	case known.True:
		r.add("scopes %s %s %s", f.ShowScopes(true, n.sets), verb, n.names)
	default:
		r.add("scopes %s not %s %s", f.ShowScopes(false, n.sets), verb, n.names)
	}
}

// fact tells the value of a fact.
func (r *reasons) fact(f ExplainedFacts, of *fact.Fact) {
	if !f.Known(of.Slot) && of.Type != fact.Number && of.Type != fact.Band {
		r.add("%s is unknown%s", of.Name, after(f.Evidence(of.Slot)))
		return
	}
	r.add("%s is %s%s", of.Name, f.Show(of.Slot), after(f.Evidence(of.Slot)))
}

func (n *yesNoNode) reasons(f ExplainedFacts, _ known.Truth, r *reasons)   { r.fact(f, n.fact) }
func (n *wordNode) reasons(f ExplainedFacts, _ known.Truth, r *reasons)    { r.fact(f, n.fact) }
func (n *countryNode) reasons(f ExplainedFacts, _ known.Truth, r *reasons) { r.fact(f, n.fact) }
func (n *numberNode) reasons(f ExplainedFacts, _ known.Truth, r *reasons)  { r.fact(f, n.fact) }
func (n *bandNode) reasons(f ExplainedFacts, _ known.Truth, r *reasons)    { r.fact(f, n.fact) }
func (n *withinNode) reasons(f ExplainedFacts, _ known.Truth, r *reasons)  { r.fact(f, n.fact) }
func (n *versionNode) reasons(f ExplainedFacts, _ known.Truth, r *reasons) { r.fact(f, n.fact) }

func (n *timeNode) reasons(f ExplainedFacts, is known.Truth, r *reasons) {
	if n.attribute != nil {
		r.fact(f, n.attribute)
		if is == known.Unknown {
			return
		}
	}
	r.fact(f, n.fact)
}

func (n *knownNode) reasons(f ExplainedFacts, _ known.Truth, r *reasons) {
	if f.Known(n.fact.Slot) {
		r.add("%s is known", n.fact.Name)
	} else {
		r.add("%s is unknown%s", n.fact.Name, after(f.Evidence(n.fact.Slot)))
	}
}

func (n *knownOfNode) reasons(f ExplainedFacts, _ known.Truth, r *reasons) {
	if n.x.Eval(f) == known.Unknown {
		r.add("%s is unknown", n.text)
	} else {
		r.add("%s is known", n.text)
	}
}
