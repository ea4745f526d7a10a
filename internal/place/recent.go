package place

import (
	"encoding/binary"
	"net/netip"
	"sync/atomic"
)

// Recent remembers where a source, which does not change, said that the addresses asked for
// last are. It is safe for concurrent use.
type Recent struct {
	Source
	slots [1 << recentBits]atomic.Pointer[located]
}

const recentBits = 10

type located struct {
	addr  netip.Addr
	at    Location
	known bool
}

// Locate tells where an address is.
func (r *Recent) Locate(addr netip.Addr) (Location, bool) {
	slot := &r.slots[slotOf(addr)]
	l := slot.Load()
	if l == nil || l.addr != addr {
		at, known := r.Source.Locate(addr)
		l = &located{addr, at, known}
		slot.Store(l)
	}
	return l.at, l.known
}

// slotOf spreads addresses over slots.
func slotOf(addr netip.Addr) uint64 {
	b := addr.As16()
	h := binary.BigEndian.Uint64(b[:8])*31 + binary.BigEndian.Uint64(b[8:])
	return h * 0x9e3779b97f4a7c15 >> (64 - recentBits)
}
