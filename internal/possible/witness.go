package possible

// From what a solver found to a sign-on.

import (
	"briskwarden.example/briskwarden/internal/logic"
	"briskwarden.example/briskwarden/signon"
)

// SignOn is a sign-on of what was found last, and the kinds of people of whom it was found.
func (sp *Space) SignOn() (so signon.SignOn, who []*Kind) {
	so = signon.SignOn{App: sp.App, Action: sp.Action, Time: sp.at()}
	for _, a := range sp.w.axes {
		f := sp.factors[a]
		if f == nil {
			continue
		}
		for g, l := range f.lits {
			if !sp.Holds(l) || !sp.allowed(f, g) {
				continue
			}
			a.cells[f.groups[g][0]].put(&so)
			if a.name == personAxis {
				for _, cell := range f.groups[g] {
					who = append(who, sp.w.Kinds[cell])
				}
			}
			break
		}
	}
	if list := sp.list(); list != nil {
		if so.Consent == nil {
			so.Consent = &signon.Consent{}
		}
		so.Consent.Scopes = list
	}
	sp.prove(&so)
	return so, who
}

// allowed reports whether a group of cells can be where the parent is.
func (sp *Space) allowed(f *factor, g int) bool {
	for class := range f.axis.keys {
		if sp.Holds(f.within[class]) && f.axis.allowed(class, f.groups[g][0]) {
			return true
		}
	}
	return false
}

// Groups are the kinds of people that nothing asked in the space tells apart, and whether it is one of them.
func (sp *Space) Groups() (kinds [][]*Kind, is []logic.Lit) {
	f := sp.factors[sp.w.byName[personAxis]]
	for _, cells := range f.groups {
		var list []*Kind
		for _, cell := range cells {
			list = append(list, sp.w.Kinds[cell])
		}
		kinds = append(kinds, list)
	}
	return kinds, f.lits
}
