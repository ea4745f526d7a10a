// Package reach tells what people get to, and under which circumstances, as the command "brisk reach"
// does.
//
//	of, err := reach.User(ctx, rules, "mira.holt", []reach.Circumstance{{SignOn: so}})
package reach

import (
	"cmp"
	"context"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"briskwarden.example/briskwarden"
	"briskwarden.example/briskwarden/internal/bridge"
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
func Of(ctx context.Context, rules *briskwarden.Rulebook, so signon.SignOn) (f Fare, err error) {
	var d signon.Decision
	if err := bridge.Engine(rules).Reasons(ctx, &so, &d); err != nil {
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

// OfUser is how a user gets to every app. Its JSON is that of "brisk reach user --json".
type OfUser struct {
	User    string   `json:"user"`
	Columns []string `json:"columns"` // the names of the circumstances
	Apps    []Row    `json:"apps"`
}

// Row is how one app, under each circumstance, can be reached.
type Row struct {
	App   string `json:"app"`
	Fares []Fare `json:"fares"`
}

// User tells how a user gets to every app under some circumstances.
func User(ctx context.Context, rules *briskwarden.Rulebook, user string, all []Circumstance) (*OfUser, error) {
	if _, known := bridge.Engine(rules).Rulebook().People[user]; !known {
		return nil, fmt.Errorf("there is no user %q", user)
	}
	r := &OfUser{User: user, Columns: namesOf(all)}
	for _, app := range rules.Apps() {
		fares, err := fares(ctx, rules, user, app, all)
		if err != nil {
			return nil, err
		}
		r.Apps = append(r.Apps, Row{app, fares})
	}
	return r, nil
}

func namesOf(all []Circumstance) (names []string) {
	for _, c := range all {
		names = append(names, c.Name)
	}
	return names
}

func fares(ctx context.Context, rules *briskwarden.Rulebook, user, app string, all []Circumstance) (list []Fare, err error) {
	for _, c := range all {
		so := c.SignOn
		so.User, so.App = user, app
		f, err := Of(ctx, rules, so)
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

// OfApp is who gets to an app. Its JSON is that of "brisk reach app --json".
type OfApp struct {
	App     string   `json:"app"`
	Columns []string `json:"columns"` // the names of the circumstances
	Alike   []*Alike `json:"alike"`   // the most people first
}

// App tells who gets to an app, people who fare alike together. People who are disabled are left out.
func App(ctx context.Context, rules *briskwarden.Rulebook, app string, all []Circumstance) (*OfApp, error) {
	if _, known := bridge.Engine(rules).Rulebook().Apps[app]; !known {
		return nil, fmt.Errorf("there is no app %q", app)
	}
	groups, err := gather(rules, same, func(user string) ([]Fare, error) { return fares(ctx, rules, user, app, all) })
	if err != nil {
		return nil, err
	}
	return &OfApp{app, namesOf(all), groups}, nil
}

// Matrix is who gets to what under one circumstance. Its JSON is that of "brisk reach --all --json".
type Matrix struct {
	Column string   `json:"column,omitzero"` // the name of the circumstance
	Apps   []string `json:"apps"`
	Alike  []*Alike `json:"alike"` // their fares are by app; the most people first
}

// All tells how everybody gets to every app under one circumstance. People to whom the same
// outcomes come stand together, whatever they are asked for.
func All(ctx context.Context, rules *briskwarden.Rulebook, c Circumstance) (*Matrix, error) {
	m := &Matrix{Column: c.Name, Apps: rules.Apps()}
	var err error
	m.Alike, err = gather(rules, sameOutcome, func(user string) (list []Fare, err error) {
		for _, app := range m.Apps {
			f, err := fares(ctx, rules, user, app, []Circumstance{c})
			if err != nil {
				return nil, err
			}
			list = append(list, f...)
		}
		return list, nil
	})
	return m, err
}

// gather puts people together who fare alike.
func gather(rules *briskwarden.Rulebook, same func(x, y Fare) bool, of func(user string) ([]Fare, error)) (groups []*Alike, err error) {
	var users []string
	for id, p := range bridge.Engine(rules).Rulebook().People {
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
