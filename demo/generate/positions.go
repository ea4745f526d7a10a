package main

// Where the demo's addresses are.

import (
	"bytes"
	"net"

	"github.com/maxmind/mmdbwriter"
	"github.com/maxmind/mmdbwriter/mmdbtype"
)

// positions says where addresses are; the places are made up, though on the right coasts.
var positions = []struct {
	prefix, country string
	lat, long       float64
	radius          uint16 // km
}{
	{"192.0.2.0/26", "NO", 62.10, 5.60, 10},      // Norvik
	{"192.0.2.64/26", "NO", 61.20, 5.10, 10},     // Sundhamn
	{"192.0.2.128/26", "NO", 60.30, 5.30, 10},    // Eastholm
	{"198.51.100.0/26", "NO", 61.20, 5.30, 120},  // terminals, somewhere on the coast
	{"198.51.100.64/27", "NO", 61.20, 5.30, 150}, // ferries
	{"203.0.113.0/27", "NO", 61.00, 5.90, 150},   // homes
	{"203.0.113.32/28", "DK", 56.20, 10.20, 80},
	{"203.0.113.48/28", "PT", 38.70, -9.10, 50},
	{"203.0.113.64/29", "DE", 53.50, 10.00, 60},
	{"2001:db8:40::/48", "NO", 62.10, 5.60, 10},
	{"2001:db8:41::/48", "NO", 61.20, 5.10, 10},
	{"2001:db8:42::/48", "NO", 60.30, 5.30, 10},
}

// database writes the positions in the MaxMind DB format.
func database() ([]byte, error) {
	w, err := mmdbwriter.New(mmdbwriter.Options{
		DatabaseType: "Skerry-Positions", Description: map[string]string{"en": "Made-up positions of documentation addresses"},
		RecordSize: 24, BuildEpoch: 1_764_000_000, IncludeReservedNetworks: true,
	})
	if err != nil {
		return nil, err
	}
	for _, p := range positions {
		_, network, err := net.ParseCIDR(p.prefix)
		if err != nil {
			return nil, err
		}
		err = w.Insert(network, mmdbtype.Map{
			"country": mmdbtype.Map{"iso_code": mmdbtype.String(p.country)},
			"location": mmdbtype.Map{"latitude": mmdbtype.Float64(p.lat), "longitude": mmdbtype.Float64(p.long),
				"accuracy_radius": mmdbtype.Uint16(p.radius)},
		})
		if err != nil {
			return nil, err
		}
	}
	var b bytes.Buffer
	_, err = w.WriteTo(&b)
	return b.Bytes(), err
}
