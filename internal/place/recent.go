package place

import (
	"encoding/binary"
	"net/netip"
	"sync/atomic"
)

// Recent is a source that remembers what another, which does not change, told of the
// addresses asked for last. It is safe for concurrent use.
type Recent struct {
	Source
	told recent[located]
}

type located struct {
	at    Location
	known bool
}

// Locate tells where an address is.
func (r *Recent) Locate(addr netip.Addr) (Location, bool) {
	l := r.told.of(addr, func(addr netip.Addr) (l located) {
		l.at, l.known = r.Source.Locate(addr)
		return l
	})
	return l.at, l.known
}

// recent remembers what was found of some addresses.
type recent[T any] struct {
	slots [1 << recentBits]atomic.Pointer[found[T]]
}

const recentBits = 10

type found[T any] struct {
	addr netip.Addr
	is   T
}

// of is what is remembered of an address, or else found.
func (r *recent[T]) of(addr netip.Addr, find func(netip.Addr) T) *T {
	slot := &r.slots[slotOf(addr)]
	f := slot.Load()
	if f == nil || f.addr != addr {
		f = &found[T]{addr, find(addr)}
		slot.Store(f)
	}
	return &f.is
}

// slotOf spreads addresses over slots.
func slotOf(addr netip.Addr) uint64 {
	b := addr.As16()
	h := binary.BigEndian.Uint64(b[:8])*31 + binary.BigEndian.Uint64(b[8:])
	return h * 0x9e3779b97f4a7c15 >> (64 - recentBits)
}
