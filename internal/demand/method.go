package demand

// Methods, and what each counts for.

import (
	"fmt"
	"math/bits"
)

// Kind is the kind of a method, the three of NIST SP 800-63B.
type Kind uint8

// The kinds of methods.
const (
	Knowledge Kind = iota
	Possession
	Inherence
)

// Kinds names the kinds of methods.
var Kinds = [...]string{"knowledge", "possession", "inherence"}

// Method is a way of proving who one is.
type Method struct {
	ID                int // its index in the table
	Name              string
	Kind              Kind
	AMR               []string // values of RFC 8176
	Hardware          bool
	PhishingResistant bool
	VerifiesUser      bool
}

// BuiltIn lists the methods that every rulebook knows, weakest kinds first.
func BuiltIn() []Method {
	all := func(name string, kind Kind, amr ...string) Method { return Method{Name: name, Kind: kind, AMR: amr} }
	key := all("security-key", Possession, "hwk", "pop")
	key.Hardware, key.PhishingResistant = true, true
	passkey := all("passkey", Possession, "hwk", "pop", "user")
	card := all("smart-card", Possession, "sc", "pin")
	for _, m := range []*Method{&passkey, &card} {
		m.Hardware, m.PhishingResistant, m.VerifiesUser = true, true, true
	}
	return []Method{
		all("password", Knowledge, "pwd"), all("pin", Knowledge, "pin"), all("pattern", Knowledge, "kba"),
		all("app-code", Possession, "otp"), all("push", Possession, "mca"), all("text-code", Possession, "sms"),
		all("call-code", Possession, "tel"), all("email-code", Possession, "otp"), all("recovery-code", Possession, "otp"),
		all("certificate", Possession, "swk", "pop"), key, passkey, card,
		all("fingerprint", Inherence, "fpt"), all("face", Inherence, "face"), all("voice", Inherence, "vbm"),
	}
}

// MaxMethods is how many methods a rulebook can have, the built-in ones included.
const MaxMethods = 64

// Methods is the table of the methods that a rulebook knows.
type Methods struct {
	list     []*Method
	byName   map[string]*Method
	kinds    [len(Kinds)]Set
	verifies Set // those that verify the user
	strong   Set // hardware and phishing-resistant
}

// NewMethods builds the table; a later method replaces an earlier one of the same name.
func NewMethods(methods []Method) (*Methods, error) {
	t := &Methods{byName: make(map[string]*Method, len(methods))}
	for _, m := range methods {
		if old, ok := t.byName[m.Name]; ok {
			id := old.ID
			*old = m
			old.ID = id
			continue
		}
		m.ID = len(t.list)
		if m.ID >= MaxMethods {
			return nil, fmt.Errorf("a rulebook has at most %d methods, the built-in ones included", MaxMethods)
		}
		t.list = append(t.list, &m)
		t.byName[m.Name] = &m
	}
	for _, m := range t.list {
		t.kinds[m.Kind].Add(m.ID)
		if m.VerifiesUser {
			t.verifies.Add(m.ID)
		}
		if m.Hardware && m.PhishingResistant {
			t.strong.Add(m.ID)
		}
	}
	return t, nil
}

// Lookup finds a method by its name.
func (t *Methods) Lookup(name string) (*Method, bool) {
	m, ok := t.byName[name]
	return m, ok
}

// All lists the methods; a method's ID is its index.
func (t *Methods) All() []*Method { return t.list }

// Names lists the names of the methods.
func (t *Methods) Names() []string {
	names := make([]string, len(t.list))
	for i, m := range t.list {
		names[i] = m.Name
	}
	return names
}

// Reach reports whether the methods in s together reach the assurance level, 1 to 3, in the
// reading of NIST SP 800-63B that the language has.
func (t *Methods) Reach(level int, s Set) bool {
	switch level {
	case 1:
		return !s.Empty()
	case 2:
		return s&t.verifies != 0 || t.kindsIn(s) > 1
	}
	strong := s & t.strong
	if strong&t.verifies != 0 {
		return true
	}
	for k := range t.kinds {
		if strong&t.kinds[k] != 0 && t.kindsIn(s) > 1 {
			return true // beside a strong one of this kind stands one of another kind
		}
	}
	return false
}

func (t *Methods) kindsIn(s Set) (n int) {
	for k := range t.kinds {
		if s&t.kinds[k] != 0 {
			n++
		}
	}
	return n
}

// Level is the highest assurance level that the methods in s together reach, or 0.
func (t *Methods) Level(s Set) int {
	for level := 3; level > 0; level-- {
		if t.Reach(level, s) {
			return level
		}
	}
	return 0
}

// Set is a set of methods, by ID.
type Set uint64

// Add adds a method.
func (s *Set) Add(id int) { *s |= 1 << id }

// Has reports whether the method is in the set.
func (s Set) Has(id int) bool { return s&(1<<id) != 0 }

// Empty reports whether nothing is in the set.
func (s Set) Empty() bool { return s == 0 }

// Within reports whether all of s is in t.
func (s Set) Within(t Set) bool { return s&^t == 0 }

// Len counts the methods in the set.
func (s Set) Len() int { return bits.OnesCount64(uint64(s)) }

// Each calls f with each method in the set, in order.
func (s Set) Each(f func(id int)) {
	for ; s != 0; s &= s - 1 {
		f(bits.TrailingZeros64(uint64(s)))
	}
}
