package rulebook

// The three phases of making people: reading, linking, finishing.

import (
	"strings"

	"briskwarden.example/briskwarden/internal/diag"
	"briskwarden.example/briskwarden/internal/fact"
)

// The codes of warnings about what the directory's files say.
const (
	MissingMember diag.Code = "missing-member"  // a member of a group, or a group of a user, that nothing has
	CutShort      diag.Code = "cut-short"       // a file that lists fewer than it says there are
	SameGroupName diag.Code = "same-group-name" // two groups of one file under one name
)

// peopleBuilder makes the people and groups of a rulebook in three phases: it reads what the blocks
// and files state into drafts, links them, and finishes people of them.
type peopleBuilder struct {
	r       *resolver
	file    string // the one being read
	files   uint16 // how many were
	wrong   int    // how many errors it has
	loaded  *Loaded
	seen    map[string]int // the groups of the file, by name, with their lines
	numbers map[string]int32
	drafts  map[string]*draftPerson
	keys    []keyHolder // by the number of the key
	lists   []members
	origins map[int32]Origin // of groups
	breakIn map[string]bool  // the break-glass users

	userFacts   map[string]*fact.Attribute // by name without "user."
	memberships int                        // in groups, nested ones counted, of people in the same ones once

	words  map[string]string       // attributes' values, once each
	values map[string][]fact.Value // sets of attributes, once each
	key    []byte
}

// draftPerson is a person who is being made: her Groups are not known yet.
type draftPerson struct {
	*Person
	memberships []membership // as they are stated, and groups alone once they are linked
	readFrom    uint16       // the number of the last directory file that has the user
}

// membership is what a source says of a group that somebody is directly in: the group, or, negative,
// the number of a key and whether the user's own reference names the group.
type membership int32

// keyHolder is who or what has a resource id or a DN.
type keyHolder struct {
	key     string
	called  string // what users call the group that they say to be in
	shown   string // what it is called among the members of a group
	person  *draftPerson
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

func newPeopleBuilder(r *resolver) *peopleBuilder {
	b := &peopleBuilder{r: r, drafts: map[string]*draftPerson{}, numbers: map[string]int32{}, origins: map[int32]Origin{}, breakIn: map[string]bool{},
		words: map[string]string{}, values: map[string][]fact.Value{}, userFacts: map[string]*fact.Attribute{}}
	for _, a := range r.rb.Facts.Attributes() {
		if !a.OfDevice {
			b.userFacts[strings.TrimPrefix(a.Name, "user.")] = a
		}
	}
	if glass := r.decls.rulebook.BreakGlass; glass != nil {
		for _, u := range glass.Users {
			b.breakIn[u.Text] = true
		}
	}
	return b
}
