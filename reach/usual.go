package reach

// The circumstances that somebody asks about who says none.

import (
	"maps"
	"net/netip"
	"slices"
	"strings"
	"time"

	"briskwarden.example/briskwarden"
	"briskwarden.example/briskwarden/internal/bridge"
	"briskwarden.example/briskwarden/internal/rulebook"
	"briskwarden.example/briskwarden/signon"
)

// Usual are the circumstances in which a person signs on who comes from each trusted network, from elsewhere at home, and from abroad, on
// a device of one's own and on a managed one; and one of which nothing is known. Home is where the trusted networks are; without a source
// that tells where addresses are, there is one elsewhere.
func Usual(rules *briskwarden.Rulebook, user string, now time.Time) (list []Circumstance) {
	rb := bridge.Engine(rules).Rulebook()
	from := func(name string, a netip.Addr) {
		for _, d := range []struct {
			name   string
			device *signon.Device
		}{{onOwn, &signon.Device{Form: "laptop", Managed: signon.No}}, {onManaged, managedDevice(rb, user)}} {
			list = append(list, Circumstance{name + d.name, signon.SignOn{Time: now, IP: a, Client: "browser", Device: d.device}})
		}
	}
	home := ""
	for id, name := range rb.Networks.Names {
		if a, ok := rb.Networks.Table.Sample(id); ok && rb.Networks.Trusted.Has(id) {
			from(name, a)
			if at, known := rb.Atlas.Locate(a); known && home == "" {
				home = at.Country
			}
		}
	}
	if len(rb.Atlas) == 0 {
		if a, ok := unnamed(rb, slices.Values(documentation)); ok {
			from("elsewhere", a)
		}
	}
	for _, where := range []struct {
		name string
		is   func(country string) bool
	}{{"elsewhere in " + home, func(c string) bool { return c != "" && c == home }}, {"abroad", func(c string) bool { return c != "" && c != home }}} {
		if a, ok := unnamed(rb, func(yield func(netip.Addr) bool) { located(rb, where.is, yield) }); ok {
			from(where.name, a)
		}
	}
	return append(list, Circumstance{"nothing known", signon.SignOn{Time: now}})
}

// How columns end, by the device.
const (
	onOwn     = ", own device"
	onManaged = ", managed device"
)

// managedDevice is a managed device of the person's, or one as it should be.
func managedDevice(rb *rulebook.Rulebook, user string) *signon.Device {
	for _, id := range slices.Sorted(maps.Keys(rb.Devices)) {
		if d := rb.Devices[id]; d.Owner == user && d.Managed == signon.Yes {
			return &signon.Device{ID: id}
		}
	}
	return &signon.Device{Form: "laptop", Managed: signon.Yes, Compliant: signon.Yes, Encrypted: signon.Yes, ScreenLock: signon.Yes, Jailbroken: signon.No}
}

// documentation are addresses that nobody has (RFC 5737, RFC 3849).
var documentation = []netip.Addr{netip.MustParseAddr("203.0.113.1"), netip.MustParseAddr("198.51.100.1"), netip.MustParseAddr("192.0.2.1"), netip.MustParseAddr("2001:db8::1")}

// unnamed is the first address that lies in no named network.
func unnamed(rb *rulebook.Rulebook, addresses func(func(netip.Addr) bool)) (found netip.Addr, ok bool) {
	for a := range addresses {
		named := false
		for range rb.Networks.Table.Networks(a).All() {
			named = true
			break
		}
		if !named {
			return a, true
		}
	}
	return netip.Addr{}, false
}

// mostPrefixes is how many prefixes of a source are looked at.
const mostPrefixes = 100_000

// located are addresses of which a source tells a country.
func located(rb *rulebook.Rulebook, is func(country string) bool, yield func(netip.Addr) bool) {
	for _, source := range rb.Atlas {
		n := 0
		for p := range source.Prefixes() {
			if n++; n > mostPrefixes {
				break
			}
			for _, a := range []netip.Addr{within(p, p.Addr()), within(p, secondHalf(p))} {
				if at, known := rb.Atlas.Locate(a); known && is(at.Country) && !yield(a) {
					return
				}
			}
		}
	}
}

// within is the address after one, if it lies in the prefix.
func within(p netip.Prefix, a netip.Addr) netip.Addr {
	if next := a.Next(); p.Contains(next) {
		return next
	}
	return a
}

// secondHalf is where the second half of a prefix begins: a network may have a name in the first.
func secondHalf(p netip.Prefix) netip.Addr {
	if p.IsSingleIP() {
		return p.Addr()
	}
	bytes := p.Addr().AsSlice()
	bytes[p.Bits()/8] |= 0x80 >> (p.Bits() % 8)
	a, _ := netip.AddrFromSlice(bytes) // of as many bytes as before
	return a
}

// Together are usual circumstances in which a user fares alike.
type Together struct {
	Name  string
	Fares []Fare // by app
}

// Together tells how a user fares in the [Usual] circumstances, those together in which every app comes to the same.
func (of *OfUser) Together() (groups []Together) {
	alike := func(i, j int) bool {
		return !slices.ContainsFunc(of.Apps, func(r Row) bool { return !same(r.Fares[i], r.Fares[j]) })
	}
	var columns [][]int
	for i := range of.Columns {
		g := slices.IndexFunc(columns, func(g []int) bool { return alike(g[0], i) })
		if g < 0 {
			columns = append(columns, nil)
			g = len(columns) - 1
		}
		columns[g] = append(columns[g], i)
	}
	for _, g := range columns {
		t := Together{Name: of.places(g)}
		for _, r := range of.Apps {
			t.Fares = append(t.Fares, r.Fares[g[0]])
		}
		groups = append(groups, t)
	}
	return groups
}

// places names some columns: first the places where the device does not matter.
func (of *OfUser) places(columns []int) string {
	var any, own, managed []string
	for _, i := range columns {
		place, isManaged := strings.CutSuffix(of.Columns[i], onManaged)
		_, isOwn := strings.CutSuffix(of.Columns[i], onOwn)
		both := isManaged && slices.ContainsFunc(columns, func(j int) bool { return of.Columns[j] == place+onOwn })
		switch {
		case both, !isManaged && !isOwn:
			any = append(any, place)
		case isManaged:
			managed = append(managed, place)
		case !slices.ContainsFunc(columns, func(j int) bool { return of.Columns[j] == strings.TrimSuffix(of.Columns[i], onOwn)+onManaged }):
			own = append(own, strings.TrimSuffix(of.Columns[i], onOwn))
		}
	}
	var parts []string
	for _, x := range []struct {
		places []string
		on     string
	}{{any, ""}, {own, " on one's own device"}, {managed, " on a managed device"}} {
		if len(x.places) > 0 {
			parts = append(parts, strings.Join(x.places, ", ")+x.on)
		}
	}
	return strings.Join(parts, "; ")
}
