package rulebook

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
	"briskwarden.example/briskwarden/internal/schedule"
	"briskwarden.example/briskwarden/internal/spell"
	"briskwarden.example/briskwarden/language/ast"
	"briskwarden.example/briskwarden/language/token"
)

// The codes of warnings about what the directory's files say.
const (
	MissingMember diag.Code = "missing-member"  // a member of a group, or a group of a user, that nothing has
	CutShort      diag.Code = "cut-short"       // a file that lists fewer than it says there are
	SameGroupName diag.Code = "same-group-name" // two groups of one file under one name
)

// census gathers people and groups from several files. Until it is closed, the groups of a
// person are direct ones: the id of a group, or the complement of a key's number.
type census struct {
	r       *resolver
	file    string // the one being read
	files   uint16 // how many were
	wrong   int    // how many errors it has
	loaded  *Loaded
	seen    map[string]int // the groups of the file, by name, with their lines
	numbers map[string]int32
	holders []holder // by the number of the key
	lists   []members
	origins map[int32]Origin // of groups
	breakIn map[string]bool  // the break-glass users

	userFacts   map[string]*fact.Attribute // by name without "user."
	memberships int                        // in groups, nested ones counted, of people in the same ones once

	words  map[string]string       // attributes' values, once each
	values map[string][]fact.Value // sets of attributes, once each
	key    []byte
}

// holder is who or what has a resource id or a DN.
type holder struct {
	key     string
	called  string // what users call the group that they say to be in
	shown   string // what it is called among the members of a group
	person  *Person
	group   int32 // plus 1; 0 is none
	origin  Origin
	outside bool // no file has the group, and it is only called so
}

// members are those of a group of a file.
type members struct {
	group  int32
	keys   []int32
	names  []string // of users that are named outright
	origin Origin
}

func newCensus(r *resolver) *census {
	c := &census{r: r, numbers: map[string]int32{}, origins: map[int32]Origin{}, breakIn: map[string]bool{},
		words: map[string]string{}, values: map[string][]fact.Value{}, userFacts: map[string]*fact.Attribute{}}
	for _, a := range r.rb.Facts.Attributes() {
		if !a.OfDevice {
			c.userFacts[strings.TrimPrefix(a.Name, "user.")] = a
		}
	}
	if b := r.decls.rulebook.BreakGlass; b != nil {
		for _, u := range b.Users {
			c.breakIn[u.Text] = true
		}
	}
	return c
}

// read reads the directory's files: CSV and LDIF by their names' endings, else SCIM.
func (c *census) read(clauses []ast.Name) {
	for _, clause := range clauses {
		c.r.each(clause, func(file string, in io.Reader) error {
			c.files++
			c.file, c.wrong, c.seen, c.loaded = file, 0, map[string]int{}, c.r.loading(file)
			switch lines.Format(file) {
			case ".csv":
				return directory.ReadCSV(in, func(name string) bool { return c.userFacts[name] != nil }, c)
			case ".ldif", ".ldf":
				return directory.ReadLDIF(in, c)
			}
			return directory.ReadSCIM(in, c)
		})
	}
}

// mostWrong is how many errors of one file are told.
const mostWrong = 20

// fail reports an error of the file at a line; it gives one back when there are too many.
func (c *census) fail(line int, help, format string, args ...any) error {
	c.r.found.Add(diag.Invalid, diag.Error, token.Pos{File: c.file, Line: int32(line), Column: 1}, 1, help, format, args...)
	if c.wrong++; c.wrong == mostWrong {
		return errors.New("and perhaps more: the file was not read on")
	}
	return nil
}

// Aside counts what is neither a user nor a group.
func (c *census) Aside(what string) { c.loaded.aside(1, what) }

// Listed warns of an export that is cut short.
func (c *census) Listed(read, total int) {
	if read < total {
		c.r.found.Add(CutShort, diag.Warning, token.Pos{File: c.file, Line: 1, Column: 1}, 1, "export all pages, one after the other, into the file",
			"the export is cut short: it lists %d of %d resources, and whoever is missing is in no group and no policy", read, total)
	}
}

// User takes a user as the file states it, and adds it to what is known of the user already.
func (c *census) User(line int, u *directory.User) error {
	c.loaded.add(1, "person")
	at := Origin{c.file, line}
	switch {
	case len(u.ID) > mostName:
		return c.fail(line, "", "the user's id is longer than %d bytes", mostName)
	case lines.Padded(u.ID):
		return c.fail(line, unpad, "the user's id %q has blanks at its ends", u.ID)
	}
	before := c.r.rb.People[u.ID]
	if before != nil {
		defer func() { before.readFrom = c.files }()
	}
	if before != nil && before.readFrom == c.files {
		return c.fail(line, "leave one of them out", "the user %q stands twice in this file", u.ID)
	}
	if c.breakIn[u.ID] && before != nil { // is what its block says
		return c.hold(u.Key, before, 0, at)
	}
	stated := &Person{ID: u.ID, Type: u.Type, Risk: u.Risk, Active: u.Active, Joined: u.Joined.In(c.r.rb.Zone), Origin: at, readFrom: c.files}
	if u.Joined.IsZero() {
		stated.Joined = time.Time{}
	}
	if err := c.bind(stated, u); err != nil {
		return c.fail(line, "", "the user %q: %v", u.ID, err)
	}
	if before == nil {
		stated.ID = strings.Clone(u.ID)
		before = stated
		c.r.rb.People[stated.ID] = stated
	} else if err := c.merge(before, stated); err != nil {
		return c.fail(line, "make the two agree, or let one of them leave it out", "the user %q: %v", u.ID, err)
	}
	return c.hold(u.Key, before, 0, at)
}

// mostName is the size in bytes of the longest id of a user or name of a group, as in the language.
const mostName = 4096

// unpad is what to do about a name with blanks at its ends.
const unpad = "take them away: names compare exactly"

// bind binds what the file states by names.
func (c *census) bind(p *Person, u *directory.User) (err error) {
	rb := c.r.rb
	if u.JoinedText != "" {
		if p.Joined, err = c.r.joined(u.JoinedText); err != nil {
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
			p.Groups = append(p.Groups, rb.Groups.Add(g.Name))
		default:
			m, err := c.joins(g)
			if err != nil {
				return err
			}
			p.Groups = append(p.Groups, m)
		}
	}
	return c.attributes(p, u.Attributes)
}

func hinted(name string, known []string) string {
	if hint := spell.Hint(name, known); hint != "" {
		return ": " + hint
	}
	return ""
}

// attributes binds the declared ones. Sets of values that many users share are held once.
func (c *census) attributes(p *Person, stated []directory.Attribute) error {
	rb := c.r.rb
	var scratch []fact.Value
	c.key = c.key[:0]
	for _, s := range stated {
		a, declared := c.userFacts[s.Name]
		if !declared {
			c.loaded.aside(1, "undeclared user."+s.Name)
			continue
		}
		if scratch == nil {
			scratch = make([]fact.Value, rb.Facts.Users())
		}
		v, err := c.r.listed(a, s.Value)
		if err != nil {
			return fmt.Errorf("%s: %w", s.Name, err)
		}
		if a.Type == fact.Word || a.Type == fact.Date {
			v.Word = c.word(v.Word)
		}
		if before := scratch[a.Index]; before.Known && !before.Equal(v, a.Type) {
			return fmt.Errorf("%s is both %s and %s: which of them counts?", s.Name, quoted(before, a.Type), quoted(v, a.Type))
		}
		scratch[a.Index] = v
		c.key = binary.LittleEndian.AppendUint32(c.key, uint32(a.Index))
		c.key = binary.LittleEndian.AppendUint64(c.key, math.Float64bits(v.Number))
		c.key = binary.LittleEndian.AppendUint32(c.key, uint32(len(v.Word)))
		c.key = append(append(c.key, v.Word...), byte(v.YesNo))
	}
	if scratch == nil {
		return nil
	}
	shared, ok := c.values[string(c.key)]
	if !ok {
		shared = scratch
		if len(c.values) < 1<<16 {
			c.values[string(c.key)] = shared
		}
	}
	p.Attributes = shared
	return nil
}

// word gives one copy of words that are the same.
func (c *census) word(w string) string {
	same, ok := c.words[w]
	if !ok {
		same = strings.Clone(w)
		if len(c.words) < 1<<16 {
			c.words[same] = same
		}
	}
	return same
}

// merge adds what another source states: what both state must be equal, and lists are united.
func (c *census) merge(p, stated *Person) error {
	differ := func(what, here, there string) error {
		return fmt.Errorf("%s is %s here, and %s at %s", what, here, there, p.Origin)
	}
	day := func(p *Person) string { return p.Joined.Format(time.RFC3339) }
	switch {
	case stated.Type != "" && p.Type != "" && stated.Type != p.Type:
		return differ("type", stated.Type, p.Type)
	case stated.Risk != "" && p.Risk != "" && stated.Risk != p.Risk:
		return differ("risk", stated.Risk, p.Risk)
	case stated.Active != known.Unknown && p.Active != known.Unknown && stated.Active != p.Active:
		return differ("active", yesNo(stated.Active), yesNo(p.Active))
	case !stated.Joined.IsZero() && !p.Joined.IsZero() && !stated.Joined.Equal(p.Joined):
		return differ("joined", day(stated), day(p))
	}
	for _, a := range c.r.rb.Facts.Attributes() {
		if a.OfDevice {
			continue
		}
		v, w := attributeOf(p, a), attributeOf(stated, a)
		switch {
		case v.Known && w.Known && !v.Equal(w, a.Type):
			return differ(a.Name, quoted(w, a.Type), quoted(v, a.Type))
		case w.Known:
			p.Attributes = append([]fact.Value(nil), p.Attributes...) // others may share them
			p.Attributes = append(p.Attributes, make([]fact.Value, c.r.rb.Facts.Users()-len(p.Attributes))...)
			p.Attributes[a.Index] = w
		}
	}
	p.Type, p.Risk = cmp.Or(p.Type, stated.Type), cmp.Or(p.Risk, stated.Risk)
	p.Active = cmp.Or(p.Active, stated.Active)
	if p.Joined.IsZero() {
		p.Joined = stated.Joined
	}
	p.Groups = append(p.Groups, stated.Groups...)
	p.Methods |= stated.Methods
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
func (c *census) Group(line int, g *directory.Group) error {
	c.loaded.add(1, "group")
	at := Origin{c.file, line}
	switch {
	case len(g.Name) > mostName:
		return c.fail(line, "", "the group's name is longer than %d bytes", mostName)
	case lines.Padded(g.Name):
		return c.fail(line, unpad, "the group's name %q has blanks at its ends", g.Name)
	}
	if first, again := c.seen[g.Name]; again {
		c.r.found.Add(SameGroupName, diag.Warning, token.Pos{File: c.file, Line: int32(line), Column: 1}, 1,
			"rename one of them, or let one have all members", "two groups of this file are named %q, the other on line %d: they count as one", g.Name, first)
	}
	id := c.r.rb.Groups.Add(g.Name)
	c.seen[g.Name] = line
	if _, ok := c.origins[id]; !ok {
		c.origins[id] = at
	}
	list := members{group: id, origin: at, keys: make([]int32, 0, len(g.Members))}
	for _, m := range g.Members {
		if m.Key == "" {
			list.names = append(list.names, m.Name)
		} else {
			n := c.number(m.Key)
			if h := &c.holders[n]; h.shown == "" && h.person == nil && h.group == 0 {
				h.shown = m.Name
			}
			list.keys = append(list.keys, n)
		}
	}
	c.lists = append(c.lists, list)
	return c.hold(g.Key, nil, id+1, at)
}

// joins is the membership in a group that is told by its key. Should nothing have the key, the
// group is called as that very reference calls it; what another one says counts for others.
func (c *census) joins(g directory.Reference) (membership int32, err error) {
	n := c.number(g.Key)
	h := &c.holders[n]
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

// A membership in a group of which only the key is known is a negative number, for as long as
// the files are read: of the key, and whether the user's own reference names the group.
func named(key int32) int32               { return ^(key << 1) }
func unnamed(key int32) int32             { return ^(key<<1 | 1) }
func keyed(m int32) (key int32, own bool) { return ^m >> 1, ^m&1 == 0 }

// number is the number of a key, which is new if nothing named it before.
func (c *census) number(key string) int32 {
	n, ok := c.numbers[key]
	if !ok {
		n = int32(len(c.holders))
		key = strings.Clone(key)
		c.numbers[key] = n
		c.holders = append(c.holders, holder{key: key})
	}
	return n
}

// hold says who or what has a key.
func (c *census) hold(key string, p *Person, group int32, at Origin) error {
	if key == "" {
		return nil
	}
	h := &c.holders[c.number(key)]
	if h.person != nil && h.person != p || h.group != 0 && h.group != group || (h.person != nil || h.group != 0) && h.origin.File == at.File {
		return c.fail(at.Line, "each has an id of its own", "the id %q stands twice, first at %s", key, h.origin)
	}
	h.person, h.group, h.origin = p, group, at
	return nil
}

// close puts the members into their groups, and works out who is in which.
func (c *census) close() {
	for i := range c.holders {
		if h := &c.holders[i]; h.called != "" && h.person == nil && h.group == 0 {
			h.group, h.outside = c.r.rb.Groups.Add(h.called)+1, true
		}
	}
	for i := range c.lists {
		c.enter(&c.lists[i])
	}
	for _, p := range c.r.rb.People {
		c.resolve(p)
	}
	groups := c.r.rb.Groups
	if circle := groups.Circle(); circle != nil {
		c.circle(circle)
		c.r.rb.Groups = directory.NewGroups() // nothing can be told of members
		for _, name := range groups.Names() {
			c.r.rb.Groups.Add(name)
		}
	}
	c.r.rb.Groups.Close()
	c.r.rb.GroupPlaces = make(map[int32]token.Pos, len(c.origins))
	for id, at := range c.origins {
		c.r.rb.GroupPlaces[id] = token.Pos{File: at.File, Line: int32(at.Line), Column: 1}
	}
	for _, d := range c.r.decls.groups.list {
		id, _ := c.r.rb.Groups.Lookup(d.Name.Text)
		c.r.rb.GroupPlaces[id] = d.Name.Pos
	}
	closures := map[string][]int32{}
	for _, p := range c.r.rb.People {
		c.finish(p, closures)
	}
	if c.memberships > mostMemberships {
		c.r.fail(c.r.decls.rulebook.Name, "nest groups less deep", "the groups of all people, those nested counted, are more than %d", mostMemberships)
	}
}

// mostMemberships is in how many groups all people may be, nested ones counted, and people who
// are in the same ones counted once.
const mostMemberships = 100_000_000

// circle reports groups that contain each other, at the block of one of them if it has one.
func (c *census) circle(groups []string) {
	const help, message = "take one of them out", "groups form a circle: %s"
	all := strings.Join(groups, " → ")
	for _, name := range groups {
		if d := c.r.decls.groups.byName[name]; d != nil {
			c.r.fail(d.Name, help, message, all)
			return
		}
	}
	id, _ := c.r.rb.Groups.Lookup(groups[0])
	at := c.origins[id]
	c.r.found.Add(diag.Invalid, diag.Error, token.Pos{File: at.File, Line: int32(at.Line), Column: 1}, 1, help, message, all)
}

// enter puts the members of one group into it.
func (c *census) enter(list *members) {
	var missing []string
	for _, n := range list.keys {
		switch h := &c.holders[n]; {
		case h.group != 0:
			c.r.rb.Groups.Nest(list.group, h.group-1)
		case h.person != nil && !c.breakIn[h.person.ID]:
			h.person.Groups = append(h.person.Groups, list.group)
		case h.person == nil:
			missing = append(missing, c.called(h))
		}
	}
	for _, name := range list.names {
		if p := c.r.rb.People[name]; p == nil {
			missing = append(missing, name)
		} else if !c.breakIn[name] {
			p.Groups = append(p.Groups, list.group)
		}
	}
	if len(missing) > 0 {
		c.warn(list.origin, "members of the group %s that no file has: %s", c.r.rb.Groups.Name(list.group), spell.Few(missing, 3))
	}
}

func (c *census) warn(at Origin, format string, args ...any) {
	c.r.found.Add(MissingMember, diag.Warning, token.Pos{File: at.File, Line: int32(at.Line), Column: 1}, 1,
		"export them too, or take them out where they are named", format, args...)
}

func (c *census) called(h *holder) string {
	if name := cmp.Or(h.shown, h.called); name != "" && name != h.key {
		return fmt.Sprintf("%s (%s)", h.key, name)
	}
	return h.key
}

// resolve turns the keys among the groups of a person into groups.
func (c *census) resolve(p *Person) {
	known := p.Groups[:0]
	for _, g := range p.Groups {
		if g >= 0 {
			known = append(known, g)
			continue
		}
		key, own := keyed(g)
		switch h := &c.holders[key]; {
		case h.group != 0 && (own || !h.outside):
			known = append(known, h.group-1)
		default:
			c.warn(p.Origin, "the user %s is in a group that no file has: %s", p.ID, h.key)
		}
	}
	p.Groups = known
}

// finish fills in what nothing stated, and all groups; people in the same groups share the list.
func (c *census) finish(p *Person, closures map[string][]int32) {
	p.Type, p.Risk = cmp.Or(p.Type, fact.UserTypes[0]), cmp.Or(p.Risk, fact.Levels[0])
	if !p.Joined.IsZero() {
		p.JoinedDay = schedule.DateOf(p.Joined, c.r.rb.Zone).Start(c.r.rb.Zone)
	}
	slices.Sort(p.Groups)
	direct := slices.Compact(p.Groups)
	c.key = c.key[:0]
	for _, g := range direct {
		c.key = binary.LittleEndian.AppendUint32(c.key, uint32(g))
	}
	list, ok := closures[string(c.key)]
	if !ok {
		if c.memberships <= mostMemberships {
			list = c.r.rb.Groups.Closure(direct)
		}
		c.memberships += len(list)
		closures[string(c.key)] = list
	}
	p.Groups = list
}
