package place_test

import (
	"net/netip"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"briskwarden.example/briskwarden/internal/place"
)

func TestKilometres(t *testing.T) {
	for _, c := range []struct{ lat1, long1, lat2, long2, want float64 }{
		{0, 0, 0, 90, 10007.6}, {0, 0, 90, 0, 10007.6}, {90, 17, -90, 99, 20015.1}, {0, 0, 0, 180, 20015.1}, {60, 5, 60, 5, 0},
		{59.9139, 10.7522, 38.7223, -9.1393, 2740}, {-33.9, 18.4, 35.7, 139.7, 14729}, {60, 0, 60, 20, 1111.4}, {60, 170, 60, -170, 1111.4},
	} {
		require.InDelta(t, c.want, place.Kilometres(c.lat1, c.long1, c.lat2, c.long2), 6, "%v", c)
		require.InDelta(t, c.want, place.Kilometres(c.lat2, c.long2, c.lat1, c.long1), 6, "%v", c)
	}
}

func TestGeofeeds(t *testing.T) {
	long := "# " + strings.Repeat("x", 1<<20)
	feed, wrong := place.ReadGeofeed(strings.NewReader("192.0.2.0/24\n198.51.100.0/24,no,,Bergen,\n198.51.100.0/24,NO\n198.51.100.128/25,\n203.0.113.0/24,DK\n"+
		"203.0.113.0/24,\n::ffff:192.0.2.128/121,SE\n"+long+"\n2001:db8::/32,PT\n"), "feed.csv")
	require.Len(t, wrong, 1)
	require.ErrorContains(t, wrong[0], "203.0.113.0/24 stands twice, in no country here and in DK on line 5")
	require.Equal(t, 6, feed.Len())
	for addr, want := range map[string]string{"192.0.2.7": "", "198.51.100.1": "NO", "198.51.100.129": "", "203.0.113.1": "DK", "192.0.2.129": "SE", "2001:db8::1": "PT"} {
		at, known := feed.Locate(netip.MustParseAddr(addr))
		require.True(t, known, addr)
		require.Equal(t, want, at.Country, addr)
	}
}

// TestSamples are near the beginning of the widest prefix of a network, of the family that comes first.
func TestSamples(t *testing.T) {
	list := func(items ...string) []place.List {
		l := place.List{File: "x"}
		for i, text := range items {
			prefixes, err := place.ParseItem(text)
			require.NoError(t, err)
			l.Add(i+1, prefixes)
		}
		return []place.List{l}
	}
	table := place.NewTable([][]place.List{list("10.2.0.0/24", "10.1.0.0/16", "10.3.0.0/16", "2001::/16"), list("192.0.2.7"), list("10.1.0.0/24"), list()})
	for network, want := range []string{"10.1.0.1", "192.0.2.7", "10.1.0.1", ""} {
		a, ok := table.Sample(network)
		require.Equal(t, want != "", ok)
		if ok {
			require.Equal(t, want, a.String())
		}
	}
}
