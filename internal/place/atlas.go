package place

// Several sources of places, one after the other.

import (
	"fmt"
	"iter"
	"net/netip"
)

// Location is where an address is.
type Location struct {
	Country    string // ISO 3166-1 alpha-2; empty is unknown
	Positioned bool   // whether the three below are known
	Latitude   float64
	Longitude  float64
	AccuracyKM float64 // the radius, in kilometres, within which the address is
}

// Trace says where a file tells something of an address.
type Trace struct {
	Prefix netip.Prefix
	File   string
	Line   int // 0 in a file that has no lines
}

// String gives "prefix (file:line)".
func (t Trace) String() string {
	if t.Line == 0 {
		return fmt.Sprintf("%s (%s)", t.Prefix, t.File)
	}
	return fmt.Sprintf("%s (%s:%d)", t.Prefix, t.File, t.Line)
}

// Source tells where addresses are. Known is false for an address that it says nothing of;
// one that it says is nowhere is known, with an empty country.
type Source interface {
	Locate(netip.Addr) (at Location, known bool)
	Trace(netip.Addr) (Trace, bool)
	// Prefixes are all prefixes of which it says something.
	Prefixes() iter.Seq[netip.Prefix]
}

// Atlas asks sources in their order: the first that knows an address wins.
type Atlas []Source

// Locate tells where an address is.
func (a Atlas) Locate(addr netip.Addr) (Location, bool) {
	for _, s := range a {
		if at, known := s.Locate(addr); known {
			return at, true
		}
	}
	return Location{}, false
}

// Trace tells what says where an address is.
func (a Atlas) Trace(addr netip.Addr) (Trace, bool) {
	for _, s := range a {
		if t, known := s.Trace(addr); known {
			return t, true
		}
	}
	return Trace{}, false
}
