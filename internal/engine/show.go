package engine

// The values of facts, in words.

import (
	"fmt"
	"strconv"
	"strings"
	"time"

	"briskwarden.example/briskwarden/internal/condition"
	"briskwarden.example/briskwarden/internal/fact"
	"briskwarden.example/briskwarden/internal/known"
	"briskwarden.example/briskwarden/internal/spell"
)

// Show tells the value of a fact to a person.
func (f explainer) Show(s fact.Slot) string {
	switch t := f.rb.Facts.Fact(s).Type; {
	case s == fact.Network:
		return f.so.IP.Unmap().String()
	case s == fact.Group:
		return f.person.ID
	case s == fact.Tag:
		return f.target.app.Name
	case s == fact.Time:
		return f.now.In(f.rb.Zone).Format("Mon 2006-01-02 15:04")
	case s == fact.Scopes:
		return spell.Few(f.consent().Scopes, mostScopes)
	case s == fact.RiskBand:
		return f.showBand()
	case t == fact.YesNo:
		return map[known.Truth]string{known.True: "yes", known.False: "no", known.Unknown: "unknown"}[f.YesNo(s)]
	case t == fact.Number:
		return f.showNumber(s)
	case t == fact.Instant:
		at, _ := f.Instant(s)
		return at.In(f.rb.Zone).Format("2006-01-02 15:04") + ", " + age(f.now.Sub(at))
	case t == fact.Date:
		return f.attribute(s).Day.Start.Format(time.DateOnly)
	}
	w, _ := f.Word(s)
	return w
}

// mostScopes is how many scopes a reason names.
const mostScopes = 6

// ShowScopes names the scopes asked for that lie in any of the sets, or those that lie in none.
func (f explainer) ShowScopes(inside bool, sets []int) string {
	var list []string
	inSets := f.inScopeSets(sets)
	for _, scope := range f.consent().Scopes {
		if inSets(scope) == inside {
			list = append(list, scope)
		}
	}
	return spell.Few(list, mostScopes)
}

// weighing tells what makes up the weight of the scopes.
func (f explainer) weighing() string {
	var parts []string
	for _, c := range f.rb.Classify(f.consent().Scopes) {
		parts = append(parts, fmt.Sprintf("%s %d (%s)", c.Name, c.Weight, spell.Few(c.Scopes, mostScopes)))
	}
	return strings.Join(parts, ", ")
}

func (f explainer) showNumber(s fact.Slot) string {
	x, ok := f.Number(s)
	switch {
	case !ok:
		return "unknown"
	case s == fact.TravelSpeed:
		return fmt.Sprintf("%.0f km/h", x.Low)
	case x.Low == x.High:
		return strconv.FormatFloat(x.Low, 'f', -1, 64)
	}
	return fmt.Sprintf("somewhere from %g to %g", x.Low, x.High)
}

func (f explainer) showBand() string {
	x, _ := f.Number(fact.Risk)
	low, high := f.rb.Risk.BandAt(int(x.Low)), f.rb.Risk.BandAt(int(x.High))
	if low == high {
		return low
	}
	return fmt.Sprintf("somewhere from %s to %s", low, high)
}

// age tells how long ago something was.
func age(d time.Duration) string {
	switch {
	case d < 0:
		return "in the future"
	case d < 2*time.Hour:
		return fmt.Sprintf("%d min ago", d/time.Minute)
	case d < 72*time.Hour:
		return fmt.Sprintf("%d h ago", d/time.Hour)
	}
	return fmt.Sprintf("%d days ago", d/(24*time.Hour))
}

// ShowBaseline tells which checks of a baseline are not true, and why.
func (f explainer) ShowBaseline(id int) string {
	b := f.rb.Baselines[id]
	if !f.hasDevice {
		return "device meets " + b.Name + " is unknown: nothing is known of the device"
	}
	var failed []string
	for _, c := range b.Checks {
		if is := c.When.Eval(f); is != known.True {
			verdict := map[known.Truth]string{known.False: "no", known.Unknown: "unknown"}[is]
			failed = append(failed, fmt.Sprintf("%s is %s (%s)", c.Label, verdict, condition.Why(c.When, f)))
		}
	}
	if len(failed) == 0 {
		return "device meets " + b.Name
	}
	return "device meets " + b.Name + ": " + strings.Join(failed, ", ")
}
