// Package place has addresses: the networks that they lie in and where they are.
package place

import (
	"encoding/binary"
	"errors"
	"fmt"
	mathbits "math/bits"
	"net/netip"
	"strings"

	"go4.org/netipx"
)

// ErrNotAddress is wrapped by errors about a text that does not even look like an address, prefix or range.
var ErrNotAddress = errors.New("is no address, prefix or range")

// ParseItem reads an address, a prefix or a range such as 198.51.100.10-198.51.100.40,
// as the prefixes that together cover it. IPv4-mapped IPv6 comes out as IPv4.
func ParseItem(text string) ([]netip.Prefix, error) {
	if from, to, isRange := strings.Cut(text, "-"); isRange {
		return parseRange(text, from, to)
	}
	if strings.Contains(text, "/") {
		p, err := parsePrefix(text)
		return []netip.Prefix{p}, err
	}
	a, err := parseAddr(text)
	if err != nil {
		return nil, err
	}
	return []netip.Prefix{netip.PrefixFrom(a, a.BitLen())}, nil
}

func parseAddr(text string) (netip.Addr, error) {
	a, err := netip.ParseAddr(text)
	switch {
	case err != nil:
		return a, fmt.Errorf("%q %w", text, ErrNotAddress)
	case a.Zone() != "":
		return a, fmt.Errorf("%q carries a zone: leave out what stands after the %%", text)
	}
	return a.Unmap(), nil
}

func parsePrefix(text string) (netip.Prefix, error) {
	p, err := netip.ParsePrefix(text)
	if err != nil {
		if length, ok := maskLength(text); ok {
			return p, fmt.Errorf("%q is no prefix: write its length, %s", text, length)
		}
		if a, bits, _ := strings.Cut(text, "/"); bits != "" {
			if addr, bad := parseAddr(a); bad == nil {
				return p, fmt.Errorf("%q is no prefix: the length of %s goes from 0 to %d", text, family(addr), addr.BitLen())
			}
		}
		return p, fmt.Errorf("%q %w", text, ErrNotAddress)
	}
	if p != p.Masked() {
		return p, fmt.Errorf("%q has bits set beyond its length: the prefix is %s, the address alone %s", text, p.Masked(), p.Addr())
	}
	if p.Addr().Is4In6() && p.Bits() >= 96 {
		p = netip.PrefixFrom(p.Addr().Unmap(), p.Bits()-96)
	}
	return p, nil
}

// maskLength turns a prefix of IPv4 with a mask, such as 192.0.2.0/255.255.255.128, into one with a length.
func maskLength(text string) (string, bool) {
	a, mask, _ := strings.Cut(text, "/")
	m, err := netip.ParseAddr(mask)
	if err != nil || !m.Is4() {
		return "", false
	}
	b := m.As4()
	bits := binary.BigEndian.Uint32(b[:])
	n := mathbits.LeadingZeros32(^bits)
	if bits != ^uint32(0)<<(32-n) {
		return "", false
	}
	return fmt.Sprintf("%s/%d", a, n), true
}

func family(a netip.Addr) string {
	if a.Is4() {
		return "an IPv4 prefix"
	}
	return "an IPv6 prefix"
}

func parseRange(text, from, to string) ([]netip.Prefix, error) {
	a, err := parseAddr(from)
	if err != nil {
		return nil, err
	}
	b, err := parseAddr(to)
	switch {
	case err != nil:
		return nil, err
	case a.Is4() != b.Is4():
		return nil, fmt.Errorf("the range %s goes from IPv4 to IPv6: write two", text)
	case b.Less(a):
		return nil, fmt.Errorf("the range %s runs backwards: write %s-%s", text, b, a)
	}
	return netipx.IPRangeFrom(a, b).Prefixes(), nil
}
