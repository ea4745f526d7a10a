package place_test

import (
	"math/rand/v2"
	"net/netip"
	"testing"
	"time"

	"github.com/gaissmai/bart"

	"briskwarden.example/briskwarden/internal/place"
)

// BenchmarkLookupBesideBart looks addresses up among 1,000,000 prefixes of 20 networks, in
// turns with the same prefixes in a bare bart table.
func BenchmarkLookupBesideBart(b *testing.B) {
	r := rand.New(rand.NewPCG(8, 9))
	networks := make([][]place.List, 20)
	bare := &bart.Table[uint32]{}
	for i := range 1_000_000 {
		a := netip.AddrFrom4([4]byte{byte(r.IntN(224)), byte(r.IntN(256)), byte(r.IntN(256)), 0})
		if i%4 == 0 {
			a = netip.AddrFrom16([16]byte{0x20, 0x01, 0x0d, 0xb8, byte(r.IntN(256)), byte(r.IntN(256)), byte(r.IntN(256))})
		}
		p := netip.PrefixFrom(a, 20+r.IntN(30-20)).Masked()
		id := i % len(networks)
		if networks[id] == nil {
			networks[id] = []place.List{{File: "list.txt"}}
		}
		networks[id][0].Entries = append(networks[id][0].Entries, place.Entry{Prefix: p, Line: int32(i)})
		bare.Insert(p, uint32(i))
	}
	start := time.Now()
	table := place.NewTable(networks)
	built := time.Since(start)
	addresses := make([]netip.Addr, 4096)
	for i := range addresses {
		list := networks[r.IntN(len(networks))][0].Entries
		addresses[i] = list[r.IntN(len(list))].Prefix.Addr().Next()
	}
	var ours, theirs time.Duration
	hits := 0
	for b.Loop() {
		start := time.Now()
		for _, a := range addresses {
			if table.Networks(a) != nil {
				hits++
			}
		}
		ours += time.Since(start)
		start = time.Now()
		for _, a := range addresses {
			if _, ok := bare.Lookup(a); ok {
				hits--
			}
		}
		theirs += time.Since(start)
	}
	if hits != 0 {
		b.Fatalf("the two disagree by %d", hits)
	}
	b.ReportMetric(ours.Seconds()/theirs.Seconds(), "×bart")
	b.ReportMetric(built.Seconds(), "s-to-build")
}
