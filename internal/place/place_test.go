package place_test

import (
	"math/rand/v2"
	"net/netip"
	"testing"

	"github.com/stretchr/testify/require"

	"briskwarden.example/briskwarden/internal/place"
)

func TestParseItem(t *testing.T) {
	for text, want := range map[string][]string{
		"192.0.2.7":                       {"192.0.2.7/32"},
		"::ffff:192.0.2.7":                {"192.0.2.7/32"},
		"192.0.2.0/25":                    {"192.0.2.0/25"},
		"::ffff:192.0.2.0/121":            {"192.0.2.0/25"},
		"2001:db8::/48":                   {"2001:db8::/48"},
		"0.0.0.0/0":                       {"0.0.0.0/0"},
		"198.51.100.10-198.51.100.13":     {"198.51.100.10/31", "198.51.100.12/31"},
		"198.51.100.10-198.51.100.10":     {"198.51.100.10/32"},
		"2001:db8::1-2001:db8::2":         {"2001:db8::1/128", "2001:db8::2/128"},
		"::ffff:192.0.2.0-192.0.2.1":      {"192.0.2.0/31"},
		"255.255.255.254-255.255.255.255": {"255.255.255.254/31"},
	} {
		prefixes, err := place.ParseItem(text)
		require.NoError(t, err, text)
		var got []string
		for _, p := range prefixes {
			got = append(got, p.String())
		}
		require.Equal(t, want, got, text)
	}
	for text, want := range map[string]string{
		"192.0.2.1/24":              "the prefix is 192.0.2.0/24",
		"192.0.2.0/33":              "from 0 to 32",
		"2001:db8::/129":            "from 0 to 128",
		"192.0.2.9-192.0.2.3":       "runs backwards: write 192.0.2.3-192.0.2.9",
		"192.0.2.1-2001:db8::1":     "from IPv4 to IPv6",
		"fe80::1%eth0":              "carries a zone",
		"300.1.1.1":                 "is no address",
		"192.0.2":                   "is no address",
		"192.0.2.1-":                "is no address",
		"":                          "is no address",
		"office":                    "is no address",
		"192.0.2.0/x":               "",
		"192.0.2.1-192.0.2.9-10":    "is no address",
		"192.0.2.0/24-192.0.3.0/24": "is no address",
	} {
		_, err := place.ParseItem(text)
		require.ErrorContains(t, err, want, text)
	}
}

// TestTableFindsEveryNetwork holds the table against asking every prefix in turn.
func TestTableFindsEveryNetwork(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	networks := make([][]place.List, 70)
	random := func() netip.Addr {
		if r.IntN(2) == 0 {
			return netip.AddrFrom4([4]byte{192, 0, byte(r.IntN(2)), byte(r.IntN(256))})
		}
		return netip.AddrFrom16([16]byte{0x20, 0x01, 0x0d, 0xb8, byte(r.IntN(2)), 14: byte(r.IntN(2)), 15: byte(r.IntN(256))})
	}
	for id := range networks {
		for range r.IntN(6) {
			a := random()
			p, err := a.Prefix(r.IntN(a.BitLen() + 1))
			require.NoError(t, err)
			networks[id] = append(networks[id], place.List{File: p.String(), Entries: []place.Entry{{Prefix: p, Line: 7}}})
		}
	}
	table := place.NewTable(networks)
	for range 5000 {
		a := random()
		in := table.Networks(a)
		for id, lists := range networks {
			want := -1
			for _, l := range lists {
				if p := l.Entries[0].Prefix; p.Contains(a) {
					want = max(want, p.Bits())
				}
			}
			require.Equal(t, want >= 0, in.Has(id), "%s in network %d", a, id)
			trace, ok := table.Trace(a, id)
			require.Equal(t, want >= 0, ok)
			if ok {
				require.Equal(t, want, trace.Prefix.Bits(), "%s is in %s of network %d", a, trace, id)
				require.Equal(t, trace.Prefix.String()+" ("+trace.Prefix.String()+":7)", trace.String())
			}
		}
	}
}

func FuzzParseItem(f *testing.F) {
	for _, s := range []string{"192.0.2.1", "192.0.2.0/24", "192.0.2.1-192.0.2.9", "::ffff:1.2.3.4/100", "::-ffff::"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, text string) {
		prefixes, err := place.ParseItem(text)
		if err != nil {
			return
		}
		require.NotEmpty(t, prefixes)
		for _, p := range prefixes {
			require.True(t, p.IsValid())
			require.Equal(t, p.Masked(), p)
			require.Empty(t, p.Addr().Zone())
		}
	})
}
