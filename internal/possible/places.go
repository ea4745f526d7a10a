package possible

// Where sign-ons come from.

import (
	"fmt"
	"net/netip"
	"slices"

	"briskwarden.example/briskwarden/internal/fact"
	"briskwarden.example/briskwarden/signon"
)

// plain are addresses that a person knows at sight to be examples (RFC 5737, RFC 3849). They are tried first.
var plain = []netip.Addr{netip.MustParseAddr("203.0.113.1"), netip.MustParseAddr("198.51.100.1"), netip.MustParseAddr("192.0.2.1"),
	netip.MustParseAddr("2001:db8::1"), netip.MustParseAddr("203.0.113.200"), netip.MustParseAddr("198.51.100.200"),
	netip.MustParseAddr("192.0.2.200"), netip.MustParseAddr("2001:db8:ffff::1")}

// findPlaces finds an address of each combination of networks and whereabouts that there is.
func (w *World) findPlaces() {
	a := w.axis(placeAxis)
	a.add(true, func(*signon.SignOn) {})
	seen := map[string]bool{}
	consider := func(addr netip.Addr) {
		key := ""
		for _, s := range w.sides {
			at, _ := s.rb.Atlas.Locate(addr.Unmap())
			key += fmt.Sprint(s.rb.Networks.Table.Networks(addr.Unmap()), at.Country, at.Positioned)
		}
		if !seen[key] {
			seen[key] = true
			a.add(false, func(so *signon.SignOn) { so.IP = addr })
		}
	}
	for _, addr := range plain {
		consider(addr)
	}
	starts := []netip.Addr{netip.IPv4Unspecified(), netip.IPv6Unspecified()}
	add := func(p netip.Prefix) {
		starts = append(starts, p.Addr())
		if after := lastOf(p).Next(); after.IsValid() {
			starts = append(starts, after)
		}
	}
	for _, s := range w.sides {
		for p := range s.rb.Networks.Table.Prefixes() {
			add(p)
		}
		for _, source := range s.rb.Atlas {
			for p := range source.Prefixes() {
				add(p)
			}
		}
	}
	slices.SortFunc(starts, netip.Addr.Compare)
	starts = slices.Compact(starts)
	for i, start := range starts {
		// The address after the first is the plainer one, where nothing begins there.
		if next := start.Next(); next.IsValid() && next.BitLen() == start.BitLen() && (i+1 == len(starts) || next.Less(starts[i+1])) {
			start = next
		}
		consider(start)
	}
}

// lastOf is the last address of a prefix.
func lastOf(p netip.Prefix) netip.Addr {
	bytes := p.Addr().AsSlice()
	for bit := p.Bits(); bit < len(bytes)*8; bit++ {
		bytes[bit/8] |= 0x80 >> (bit % 8)
	}
	last, _ := netip.AddrFromSlice(bytes)
	return last
}

// countries is the axis of the country that a sign-on states, where no source tells it.
func (w *World) countries() *axis {
	if a := w.byName[countryAxis]; a != nil {
		return a
	}
	a := w.axis(countryAxis)
	a.add(true, func(*signon.SignOn) {})
	seen := map[string]bool{}
	for _, code := range signon.Countries() {
		key := ""
		w.each(func(l *leaf) {
			if l.Fact.Slot == fact.Country {
				key += fmt.Sprint(slices.Contains(l.Words, code))
			}
		})
		if !seen[key] {
			seen[key] = true
			a.add(false, func(so *signon.SignOn) { so.Country = code })
		}
	}
	return a
}

// inCountry tells whether the country is told of a cell of the place, or of the stated country.
func (w *World) inCountry(cell int) string {
	a := w.byName[placeAxis]
	if !w.geo {
		a = w.countries()
	}
	so := signon.SignOn{}
	a.cells[cell].put(&so)
	known := so.Country != ""
	for _, s := range w.sides {
		at, _ := s.rb.Atlas.Locate(so.IP.Unmap())
		known = known || so.IP.IsValid() && at.Country != ""
	}
	return toldIf(known)
}

// positioned tells whether the position is told of a cell of the place.
func (w *World) positioned(cell int) string {
	so := signon.SignOn{}
	w.byName[placeAxis].cells[cell].put(&so)
	known := false
	for _, s := range w.sides {
		if so.IP.IsValid() {
			at, _ := s.rb.Atlas.Locate(so.IP.Unmap())
			known = known || at.Positioned
		}
	}
	return toldIf(known)
}

func toldIf(is bool) string {
	if is {
		return told
	}
	return "untold"
}
