package possible

// How the cells are bound to what was asked.

import (
	"slices"
	"strings"

	"briskwarden.example/briskwarden/internal/logic"
	"briskwarden.example/briskwarden/internal/rulebook"
)

// Bind binds the cells to what was asked. Nothing more is asked after it.
func (sp *Space) Bind() {
	sp.bindScopes()
	sp.bindProof()
	for _, a := range sp.w.axes {
		if f := sp.factors[a]; f != nil && a.parent == nil {
			sp.group(f)
		}
	}
	for _, a := range sp.w.axes {
		if f := sp.factors[a]; f != nil {
			if a.parent != nil {
				sp.group(f)
			}
			sp.bindCells(f)
		}
	}
	sp.bindClock()
}

// group parts the cells of an axis into those that nothing asked tells apart.
func (sp *Space) group(f *factor) {
	a := f.axis
	var hanging []*axis
	for child := range sp.factors {
		if child.parent == a && child.class != nil {
			hanging = append(hanging, child)
		}
	}
	slices.SortFunc(hanging, func(x, y *axis) int { return strings.Compare(x.name, y.name) })
	numbers := map[string]int{}
	var key strings.Builder
	for cell := range a.cells {
		key.Reset()
		var answers []timeline
		for _, child := range hanging {
			key.WriteString(child.class(cell) + "\x00")
		}
		for class := range a.keys {
			if !a.allowed(class, cell) {
				key.WriteByte('-')
				answers = append(answers, make([]timeline, len(f.order))...)
				continue
			}
			for _, p := range f.order {
				c := p.at(class, cell)
				c.key(&key)
				answers = append(answers, c)
			}
		}
		n, seen := numbers[key.String()]
		if !seen {
			n = len(f.groups)
			numbers[key.String()] = n
			f.groups, f.answers = append(f.groups, nil), append(f.answers, answers)
		}
		f.groups[n] = append(f.groups[n], cell)
	}
	if len(f.groups) == 1 {
		f.lits = []logic.Lit{logic.Yes}
		return
	}
	for _, cells := range f.groups {
		l := sp.Variable()
		if a.cells[cells[0]].nothing {
			sp.Prefer(l)
		}
		f.lits = append(f.lits, l)
	}
	sp.Require(f.lits...)
}

// bindCells has each group of cells answer what was asked.
func (sp *Space) bindCells(f *factor) {
	if f.axis.ofConsent && sp.Action != rulebook.Consent {
		for g, cells := range f.groups {
			if cells[0] != 0 {
				sp.Require(f.lits[g].Not())
			}
		}
	}
	plain := sp.plain(f)
	for class := range f.axis.keys {
		in := sp.inClass(f, class)
		f.within = append(f.within, in)
		for g, cells := range f.groups {
			if !f.axis.allowed(class, cells[0]) {
				sp.Imply(f.lits[g].Not(), in)
				continue
			}
			for i, p := range f.order {
				is := sp.goes(f.answer(g, class, i))
				sp.bindEqual(p.is.Must, is.Must, in, f.lits[g])
				if !plain[i] {
					sp.bindEqual(p.is.May, is.May, in, f.lits[g])
				}
			}
		}
	}
}

// plain tells which of what is asked is never unknown, so that one proposition says it all.
func (sp *Space) plain(f *factor) []bool {
	plain := make([]bool, len(f.order))
	for i, p := range f.order {
		plain[i] = true
		for class := range f.axis.keys {
			for g, cells := range f.groups {
				if f.axis.allowed(class, cells[0]) {
					c := f.answer(g, class, i)
					plain[i] = plain[i] && c.known()
				}
			}
		}
		if plain[i] {
			sp.bindEqual(p.is.May, p.is.Must)
		}
	}
	return plain
}

// bindEqual has two propositions be the same where conditions hold.
func (sp *Space) bindEqual(a, b logic.Lit, conditions ...logic.Lit) {
	with := func(l logic.Lit) []logic.Lit { return append(slices.Clone(conditions), l) }
	if b != logic.No {
		sp.Imply(a, with(b)...)
	}
	if b != logic.Yes {
		sp.Imply(b, with(a)...)
	}
}

// inClass is whether the parent's cell is of a class.
func (sp *Space) inClass(f *factor, class int) logic.Lit {
	a := f.axis
	if a.parent == nil || len(a.keys) == 1 {
		return logic.Yes
	}
	parent := sp.factors[a.parent]
	var list []logic.Lit
	for g, cells := range parent.groups {
		if a.class(cells[0]) == a.keys[class] {
			list = append(list, parent.lits[g])
		}
	}
	return sp.Or(list...)
}
