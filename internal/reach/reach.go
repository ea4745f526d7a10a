// Package reach tells what people get to, and under which circumstances.
package reach

import (
	"cmp"
	"regexp"
	"slices"
	"strings"

	"briskwarden.example/briskwarden/internal/engine"
	"briskwarden.example/briskwarden/internal/known"
	"briskwarden.example/briskwarden/signon"
)

// Circumstance is how somebody signs on, whoever that is and to whatever app.
type Circumstance struct {
	Name   string
	SignOn signon.SignOn
}

// Fare is how a sign-on fares.
type Fare struct {
	Outcome signon.Outcome `json:"outcome"`
	Asked   string         `json:"asked,omitzero"`   // what the person is asked for, or what would mend a block
	By      string         `json:"by,omitzero"`      // the policy and case that decided
	Unknown []string       `json:"unknown,omitzero"` // facts that were left out, and mattered
}

// same reports whether two fares are the same to the person.
func same(x, y Fare) bool { return x.Outcome == y.Outcome && x.Asked == y.Asked }

// sameOutcome reports whether two fares come to the same.
func sameOutcome(x, y Fare) bool { return x.Outcome == y.Outcome }

// Of decides on one sign-on.
func Of(e *engine.Engine, so signon.SignOn) (f Fare, err error) {
	var d signon.Decision
	if err := e.Decide(&so, &d, true); err != nil {
		return f, err
	}
	f = Fare{Outcome: d.Outcome, Asked: asked(&d)}
	for _, x := range d.Explanation.Deciding {
		if f.By == "" || strings.HasSuffix(f.By, `"otherwise"`) && x.Case != "otherwise" {
			f.By = x.Policy + ` "` + x.Case + `"`
		}
	}
	for _, x := range d.Explanation.Policies {
		if !x.Sure && x.Stage == "enforce" {
			for _, m := range unknown.FindAllStringSubmatch(x.Why, -1) {
				f.Unknown = append(f.Unknown, m[1])
			}
		}
	}
	slices.Sort(f.Unknown)
	f.Unknown = slices.Compact(f.Unknown)
	return f, nil
}

// unknown finds the facts that a reason says are unknown.
var unknown = regexp.MustCompile(`([a-z][a-z.-]*) is unknown`)

// asked tells what a person is asked for next.
func asked(d *signon.Decision) string {
	var steps []string
	for _, s := range d.Next {
		switch s.Do {
		case signon.Verify, signon.Enrol, signon.EnrolElsewhere:
			var sets []string
			for _, set := range s.AnyOf {
				sets = append(sets, strings.Join(set, " and "))
			}
			text := strings.Join(sets, ", or ")
			if s.Do != signon.Verify {
				text = "enrol in " + text
			}
			steps = append(steps, text)
		case signon.ChangePassword:
			steps = append(steps, "change the password")
		case signon.Remedy:
			steps = append(steps, "mend the device: "+strings.Join(s.Checks, ", "))
		case signon.WaitForReview:
			steps = append(steps, "review by "+s.Group)
		}
	}
	return strings.Join(steps, "; ")
}

// Apps are the names of all apps.
func Apps(e *engine.Engine) (names []string) {
	for name := range e.Rulebook().Apps {
		names = append(names, name)
	}
	slices.Sort(names)
	return names
}

// Row is how one app, under each circumstance, can be reached.
type Row struct {
	App   string `json:"app"`
	Fares []Fare `json:"fares"`
}

// User tells how a user gets to every app.
func User(e *engine.Engine, user string, all []Circumstance) (rows []Row, err error) {
	for _, app := range Apps(e) {
		fares, err := fares(e, user, app, all)
		if err != nil {
			return nil, err
		}
		rows = append(rows, Row{app, fares})
	}
	return rows, nil
}

func fares(e *engine.Engine, user, app string, all []Circumstance) (list []Fare, err error) {
	for _, c := range all {
		so := c.SignOn
		so.User, so.App = user, app
		f, err := Of(e, so)
		if err != nil {
			return nil, err
		}
		list = append(list, f)
	}
	return list, nil
}

// Alike are people who fare alike.
type Alike struct {
	People []string `json:"people"`
	Fares  []Fare   `json:"fares"` // by circumstance
}

// App tells who gets to an app, people who fare alike together; the most of them first.
// People who are disabled are left out.
func App(e *engine.Engine, app string, all []Circumstance) (groups []*Alike, err error) {
	return gather(e, same, func(user string) ([]Fare, error) { return fares(e, user, app, all) })
}

// Matrix tells how everybody gets to every app under one circumstance; the fares are by app.
// People to whom the same outcomes come stand together, whatever they are asked for.
func Matrix(e *engine.Engine, c Circumstance) (groups []*Alike, err error) {
	apps := Apps(e)
	return gather(e, sameOutcome, func(user string) (list []Fare, err error) {
		for _, app := range apps {
			f, err := fares(e, user, app, []Circumstance{c})
			if err != nil {
				return nil, err
			}
			list = append(list, f...)
		}
		return list, nil
	})
}

// gather puts people together who fare alike.
func gather(e *engine.Engine, same func(x, y Fare) bool, of func(user string) ([]Fare, error)) (groups []*Alike, err error) {
	var users []string
	for id, p := range e.Rulebook().People {
		if p.Active != known.False {
			users = append(users, id)
		}
	}
	slices.Sort(users)
	for _, user := range users {
		list, err := of(user)
		if err != nil {
			return nil, err
		}
		i := slices.IndexFunc(groups, func(g *Alike) bool { return slices.EqualFunc(g.Fares, list, same) })
		if i < 0 {
			groups = append(groups, &Alike{Fares: list})
			i = len(groups) - 1
		}
		groups[i].People = append(groups[i].People, user)
	}
	slices.SortStableFunc(groups, func(a, b *Alike) int { return cmp.Compare(len(b.People), len(a.People)) })
	return groups, nil
}
