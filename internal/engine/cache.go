package engine

// What is known of the addresses asked about last.

import (
	"encoding/binary"
	"net/netip"
)

// addressCache remembers what is known of the addresses asked about last, where that does not change.
type addressCache[T any] struct {
	buckets [1 << cacheBits]struct {
		addr netip.Addr
		is   T
	}
}

const cacheBits = 8

// of is what is known of an address, found where it is not remembered.
func (r *addressCache[T]) of(addr netip.Addr, find func(netip.Addr) T) T {
	b := addr.As16()
	hash := binary.BigEndian.Uint64(b[:8])*31 + binary.BigEndian.Uint64(b[8:])
	bucket := &r.buckets[hash*0x9e3779b97f4a7c15>>(64-cacheBits)]
	if bucket.addr != addr {
		bucket.addr, bucket.is = addr, find(addr)
	}
	return bucket.is
}
