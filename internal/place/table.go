package place

// Which networks an address lies in.
//
// All prefixes of all networks are in one table of longest matches. With each prefix stands the set of all networks that hold it,
// not of those alone that name it: wider prefixes go in first, and a narrower one begins with the set of the one that it lies in.
// So a single look-up answers for all networks at once. Equal sets are kept once.

import (
	"encoding/binary"
	"iter"
	"net/netip"
	"slices"

	"github.com/gaissmai/bart"

	"briskwarden.example/briskwarden/internal/set"
)

// Table finds the networks that an address lies in. It is immutable once built.
type Table struct {
	table    bart.Table[cell]
	sets     []set.Set
	origins  []origin
	files    []string
	families []families // by network
}

// cell is what the table keeps of a prefix: the networks that it lies in, and the chain of
// origins of those that name this very prefix.
type cell struct{ set, origin uint32 }

// origin says where a prefix of a network stands.
type origin struct {
	network, file uint32
	line          int32
	next          uint32 // of the same prefix; 0 ends the chain
}

// families tells which kinds of addresses a network lists.
type families struct{ v4, v6 bool }

// NewTable builds a table from the lists of each network; the network's id is its index.
func NewTable(networks [][]List) *Table {
	t := &Table{origins: make([]origin, 1), sets: []set.Set{nil}, families: make([]families, len(networks))}
	type entry struct {
		prefix netip.Prefix
		origin origin
	}
	var entries []entry
	for id, lists := range networks {
		for _, l := range lists {
			for _, e := range l.Entries {
				entries = append(entries, entry{e.Prefix, origin{network: uint32(id), file: uint32(len(t.files)), line: e.Line}})
				t.families[id].v4 = t.families[id].v4 || e.Prefix.Addr().Is4()
				t.families[id].v6 = t.families[id].v6 || e.Prefix.Addr().Is6()
			}
			t.files = append(t.files, l.File)
		}
	}
	// Wider prefixes first: each then starts from the networks of the one that holds it.
	slices.SortStableFunc(entries, func(a, b entry) int { return a.prefix.Bits() - b.prefix.Bits() })
	sets := map[string]uint32{"": 0}
	for _, e := range entries {
		held, _ := t.table.LookupPrefix(e.prefix)
		same, again := t.table.Get(e.prefix)
		c := cell{set: t.intern(sets, t.sets[held.set].With(int(e.origin.network)))}
		if again {
			c.origin = same.origin
		}
		e.origin.next = c.origin
		t.origins = append(t.origins, e.origin)
		c.origin = uint32(len(t.origins) - 1)
		t.table.Insert(e.prefix, c)
	}
	return t
}

// intern finds the number of a set.
func (t *Table) intern(numbers map[string]uint32, s set.Set) uint32 {
	key := make([]byte, 0, 64)
	for _, w := range s {
		key = binary.LittleEndian.AppendUint64(key, w)
	}
	n, ok := numbers[string(key)]
	if !ok {
		n = uint32(len(t.sets))
		numbers[string(key)] = n
		t.sets = append(t.sets, s)
	}
	return n
}

// Networks returns the networks that the address lies in; the caller does not change the set.
func (t *Table) Networks(a netip.Addr) set.Set {
	c, _ := t.table.Lookup(a)
	return t.sets[c.set]
}

// Trace says why the address lies in the network: the most specific prefix of it that holds
// the address, and where that stands. It is not ok when none does.
func (t *Table) Trace(a netip.Addr, network int) (tr Trace, ok bool) {
	for p, c, found := t.table.LookupPrefixLPM(netip.PrefixFrom(a, a.BitLen())); found; {
		for i := c.origin; i != 0; i = t.origins[i].next {
			if o := t.origins[i]; int(o.network) == network {
				tr, ok = Trace{p, t.files[o.file], int(o.line)}, true // the first that stands is the last of the chain
			}
		}
		if ok || p.Bits() == 0 {
			break
		}
		wider, _ := p.Addr().Prefix(p.Bits() - 1)
		p, c, found = t.table.LookupPrefixLPM(wider)
	}
	return tr, ok
}

// Lists reports whether a network lists addresses of IPv4, and of IPv6.
func (t *Table) Lists(network int) (v4, v6 bool) {
	return t.families[network].v4, t.families[network].v6
}

// Sample is an address of the network: near the beginning of its widest prefix.
func (t *Table) Sample(network int) (netip.Addr, bool) {
	var best netip.Prefix
	for p, c := range t.table.AllSorted() {
		for i := c.origin; i != 0; i = t.origins[i].next {
			if int(t.origins[i].network) == network && (!best.IsValid() || p.Bits() < best.Bits() && p.Addr().Is4() == best.Addr().Is4()) {
				best = p
			}
		}
	}
	if !best.IsValid() {
		return netip.Addr{}, false
	}
	if next := best.Addr().Next(); best.Contains(next) && !best.IsSingleIP() {
		return next, true
	}
	return best.Addr(), true
}

// Together are the sets of networks that some prefix lies in all of; each set once.
func (t *Table) Together() []set.Set { return t.sets[1:] }

// Prefixes gives each prefix with a network that names it.
func (t *Table) Prefixes() iter.Seq2[netip.Prefix, int] {
	return func(yield func(netip.Prefix, int) bool) {
		for p, c := range t.table.AllSorted() {
			for i := c.origin; i != 0; i = t.origins[i].next {
				if !yield(p, int(t.origins[i].network)) {
					return
				}
			}
		}
	}
}
