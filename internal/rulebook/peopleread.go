package rulebook

// The first phase of making people: what files state is read into drafts.

import (
	"cmp"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"math"
	"slices"
	"strings"
	"time"

	"briskwarden.example/briskwarden/internal/diag"
	"briskwarden.example/briskwarden/internal/directory"
	"briskwarden.example/briskwarden/internal/fact"
	"briskwarden.example/briskwarden/internal/known"
	"briskwarden.example/briskwarden/internal/lines"
	"briskwarden.example/briskwarden/internal/spell"
	"briskwarden.example/briskwarden/language/ast"
	"briskwarden.example/briskwarden/language/token"
)

// read reads the directory's files: CSV and LDIF by their names' endings, else SCIM.
func (b *peopleBuilder) read(clauses []ast.Name) {
	for _, clause := range clauses {
		b.r.each(clause, func(file string, in io.Reader) error {
			b.files++
			b.file, b.wrong, b.seen, b.loaded = file, 0, map[string]int{}, b.r.loading(file)
			switch lines.Format(file) {
			case ".csv":
				return directory.ReadCSV(in, func(name string) bool { return b.userFacts[name] != nil }, b)
			case ".ldif", ".ldf":
				return directory.ReadLDIF(in, b)
			}
			return directory.ReadSCIM(in, b)
		})
	}
}

// mostWrong is how many errors of one file are told.
const mostWrong = 20

// fail reports an error of the file at a line; it gives one back when there are too many.
func (b *peopleBuilder) fail(line int, help, format string, args ...any) error {
	b.r.found.Add(diag.Invalid, diag.Error, token.Pos{File: b.file, Line: int32(line), Column: 1}, 1, help, format, args...)
	if b.wrong++; b.wrong == mostWrong {
		return errors.New("and perhaps more: the file was not read on")
	}
	return nil
}

// Aside counts what is neither a user nor a group.
func (b *peopleBuilder) Aside(what string) { b.loaded.aside(1, what) }

// Listed warns of an export that is cut short.
func (b *peopleBuilder) Listed(read, total int) {
	if read < total {
		b.r.found.Add(CutShort, diag.Warning, token.Pos{File: b.file, Line: 1, Column: 1}, 1, "export all pages, one after the other, into the file",
			"the export is cut short: it lists %d of %d resources, and whoever is missing is in no group and no policy", read, total)
	}
}

// User takes a user as the file states it, and adds it to what is known of the user already.
func (b *peopleBuilder) User(line int, u *directory.User) error {
	b.loaded.add(1, "person")
	at := Origin{b.file, line}
	if unfit, err := b.unfit(line, "the user's id", u.ID); unfit {
		return err
	}
	before := b.drafts[u.ID]
	if before != nil {
		defer func() { before.readFrom = b.files }()
	}
	if before != nil && before.readFrom == b.files {
		return b.fail(line, "leave one of them out", "the user %q stands twice in this file", u.ID)
	}
	if b.breakIn[u.ID] && before != nil { // is what its block says
		return b.hold(u.Key, before, 0, at)
	}
	stated := &draftPerson{Person: &Person{ID: u.ID, Type: u.Type, Risk: u.Risk, Active: u.Active, Joined: u.Joined.In(b.r.rb.Zone), Origin: at}, readFrom: b.files}
	if u.Joined.IsZero() {
		stated.Joined = time.Time{}
	}
	if err := b.bind(stated, u); err != nil {
		return b.fail(line, "", "the user %q: %v", u.ID, err)
	}
	if before == nil {
		stated.ID = strings.Clone(u.ID)
		before = stated
		b.drafts[stated.ID] = stated
	} else if err := b.merge(before, stated); err != nil {
		return b.fail(line, "make the two agree, or let one of them leave it out", "the user %q: %v", u.ID, err)
	}
	return b.hold(u.Key, before, 0, at)
}

// mostName is the size in bytes of the longest id of a user or name of a group, as in the language.
const mostName = 4096

// unfit reports a name that cannot be; the error ends the reading.
func (b *peopleBuilder) unfit(line int, what, name string) (unfit bool, err error) {
	switch {
	case len(name) > mostName:
		return true, b.fail(line, "", "%s is longer than %d bytes", what, mostName)
	case lines.Padded(name):
		return true, b.fail(line, unpad, "%s %q has blanks at its ends", what, name)
	}
	return false, nil
}

// unpad is what to do about a name with blanks at its ends.
const unpad = "take them away: names compare exactly"

// bind binds what the file states by names.
func (b *peopleBuilder) bind(p *draftPerson, u *directory.User) (err error) {
	rb := b.r.rb
	if u.JoinedText != "" {
		if p.Joined, err = b.r.joined(u.JoinedText); err != nil {
			return fmt.Errorf("joined: %w", err)
		}
	}
	if i := slices.Index(fact.Levels, u.Risk); i >= 0 {
		p.Risk = fact.Levels[i]
	} else if u.Risk != "" {
		return fmt.Errorf("risk: %q is none of none, low, medium and high", u.Risk)
	}
	for _, name := range u.Methods {
		m, ok := rb.Methods.Lookup(name)
		if !ok {
			return fmt.Errorf("methods: there is no method %q%s", name, hinted(name, rb.Methods.Names()))
		}
		p.Methods.Add(m.ID)
	}
	for _, g := range u.Groups {
		switch {
		case len(g.Name) > mostName:
			return fmt.Errorf("groups: a name is longer than %d bytes", mostName)
		case lines.Padded(g.Name):
			return fmt.Errorf("groups: %q has blanks at its ends", g.Name)
		case g.Key == "":
			p.memberships = append(p.memberships, membership(rb.Groups.Add(g.Name)))
		default:
			m, err := b.joins(g)
			if err != nil {
				return err
			}
			p.memberships = append(p.memberships, m)
		}
	}
	return b.attributes(p, u.Attributes)
}

func hinted(name string, known []string) string {
	if hint := spell.Hint(name, known); hint != "" {
		return ": " + hint
	}
	return ""
}

// attributes binds the declared ones. Sets of values that many users share are held once.
func (b *peopleBuilder) attributes(p *draftPerson, stated []directory.Attribute) error {
	rb := b.r.rb
	var scratch []fact.Value
	b.key = b.key[:0]
	for _, s := range stated {
		a, declared := b.userFacts[s.Name]
		if !declared {
			b.loaded.aside(1, "undeclared user."+s.Name)
			continue
		}
		if scratch == nil {
			scratch = make([]fact.Value, rb.Facts.Users())
		}
		v, err := b.r.listed(a, s.Value)
		if err != nil {
			return fmt.Errorf("%s: %w", s.Name, err)
		}
		if a.Type == fact.Word || a.Type == fact.Date {
			v.Word = b.word(v.Word)
		}
		if before := scratch[a.Index]; before.Known && !before.Equal(v, a.Type) {
			return fmt.Errorf("%s is both %s and %s: which of them counts?", s.Name, quoted(before, a.Type), quoted(v, a.Type))
		}
		scratch[a.Index] = v
		b.key = binary.LittleEndian.AppendUint32(b.key, uint32(a.Index))
		b.key = binary.LittleEndian.AppendUint64(b.key, math.Float64bits(v.Number))
		b.key = binary.LittleEndian.AppendUint32(b.key, uint32(len(v.Word)))
		b.key = append(append(b.key, v.Word...), byte(v.YesNo))
	}
	if scratch == nil {
		return nil
	}
	shared, ok := b.values[string(b.key)]
	if !ok {
		shared = scratch
		if len(b.values) < 1<<16 {
			b.values[string(b.key)] = shared
		}
	}
	p.Attributes = shared
	return nil
}

// word gives one copy of words that are the same.
func (b *peopleBuilder) word(w string) string {
	same, ok := b.words[w]
	if !ok {
		same = strings.Clone(w)
		if len(b.words) < 1<<16 {
			b.words[same] = same
		}
	}
	return same
}

// merge adds what another source states: what both state must be equal, and lists are united.
func (b *peopleBuilder) merge(p, stated *draftPerson) error {
	if stated.Active != known.Unknown && p.Active != known.Unknown && stated.Active != p.Active {
		return &Disagreement{"active", yesNo(stated.Active), yesNo(p.Active), p.Origin}
	}
	if d := b.r.rb.disagreement(stated.Person, p.Person); d != nil {
		return d
	}
	b.r.rb.add(p.Person, stated.Person)
	p.Type, p.Risk = cmp.Or(p.Type, stated.Type), cmp.Or(p.Risk, stated.Risk)
	p.Active = cmp.Or(p.Active, stated.Active)
	p.memberships = append(p.memberships, stated.memberships...)
	return nil
}

func yesNo(t known.Truth) string {
	return map[known.Truth]string{known.True: "yes", known.False: "no"}[t]
}

func attributeOf(p *Person, a *fact.Attribute) fact.Value {
	if a.Index < len(p.Attributes) {
		return p.Attributes[a.Index]
	}
	return fact.Value{}
}

func quoted(v fact.Value, t fact.Type) string { return fmt.Sprintf("%v", v.JSON(t)) }

// Group takes a group as the file states it.
func (b *peopleBuilder) Group(line int, g *directory.Group) error {
	b.loaded.add(1, "group")
	at := Origin{b.file, line}
	if unfit, err := b.unfit(line, "the group's name", g.Name); unfit {
		return err
	}
	if first, again := b.seen[g.Name]; again {
		b.r.found.Add(SameGroupName, diag.Warning, token.Pos{File: b.file, Line: int32(line), Column: 1}, 1,
			"rename one of them, or let one have all members", "two groups of this file are named %q, the other on line %d: they count as one", g.Name, first)
	}
	id := b.r.rb.Groups.Add(g.Name)
	b.seen[g.Name] = line
	if _, ok := b.origins[id]; !ok {
		b.origins[id] = at
	}
	list := members{group: id, origin: at, keys: make([]int32, 0, len(g.Members))}
	for _, m := range g.Members {
		if m.Key == "" {
			list.names = append(list.names, m.Name)
		} else {
			n := b.number(m.Key)
			if h := &b.keys[n]; h.shown == "" && h.person == nil && h.group == 0 {
				h.shown = m.Name
			}
			list.keys = append(list.keys, n)
		}
	}
	b.lists = append(b.lists, list)
	return b.hold(g.Key, nil, id+1, at)
}

// joins is the membership in a group that is told by its key. Should nothing have the key, the
// group is called as that very reference calls it; what another one says counts for others.
func (b *peopleBuilder) joins(g directory.Reference) (membership, error) {
	n := b.number(g.Key)
	h := &b.keys[n]
	switch {
	case g.Name == "":
		return unnamed(n), nil
	case h.called != "" && h.called != g.Name:
		return 0, fmt.Errorf("groups: the group %s is called %q here, and %q by another user: export the group itself", g.Key, g.Name, h.called)
	case h.called == "":
		h.called = strings.Clone(g.Name)
	}
	return named(n), nil
}

func named(key int32) membership   { return membership(^(key << 1)) }
func unnamed(key int32) membership { return membership(^(key<<1 | 1)) }

func (m membership) key() (key int32, own bool) { return int32(^m >> 1), ^m&1 == 0 }

// number is the number of a key, which is new if nothing named it before.
func (b *peopleBuilder) number(key string) int32 {
	n, ok := b.numbers[key]
	if !ok {
		n = int32(len(b.keys))
		key = strings.Clone(key)
		b.numbers[key] = n
		b.keys = append(b.keys, keyHolder{key: key})
	}
	return n
}

// hold says who or what has a key.
func (b *peopleBuilder) hold(key string, p *draftPerson, group int32, at Origin) error {
	if key == "" {
		return nil
	}
	h := &b.keys[b.number(key)]
	if h.person != nil && h.person != p || h.group != 0 && h.group != group || (h.person != nil || h.group != 0) && h.origin.File == at.File {
		return b.fail(at.Line, "each has an id of its own", "the id %q stands twice, first at %s", key, h.origin)
	}
	h.person, h.group, h.origin = p, group, at
	return nil
}
