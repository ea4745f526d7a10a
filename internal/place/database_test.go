package place_test

import (
	"bytes"
	"net"
	"net/netip"
	"testing"

	"github.com/maxmind/mmdbwriter"
	"github.com/maxmind/mmdbwriter/mmdbtype"
	"github.com/stretchr/testify/require"

	"briskwarden.example/briskwarden/internal/place"
)

// database writes a MaxMind DB of records by prefix.
func database(t *testing.T, records map[string]mmdbtype.Map) []byte {
	t.Helper()
	w, err := mmdbwriter.New(mmdbwriter.Options{DatabaseType: "Test-City", RecordSize: 24, IncludeReservedNetworks: true})
	require.NoError(t, err)
	for prefix, record := range records {
		_, network, err := net.ParseCIDR(prefix)
		require.NoError(t, err)
		require.NoError(t, w.Insert(network, record))
	}
	var b bytes.Buffer
	_, err = w.WriteTo(&b)
	require.NoError(t, err)
	return b.Bytes()
}

func city(code string, lat, long float64, radius uint16) mmdbtype.Map {
	return mmdbtype.Map{"country": mmdbtype.Map{"iso_code": mmdbtype.String(code)},
		"location": mmdbtype.Map{"latitude": mmdbtype.Float64(lat), "longitude": mmdbtype.Float64(long), "accuracy_radius": mmdbtype.Uint16(radius)}}
}

func TestDatabase(t *testing.T) {
	data := database(t, map[string]mmdbtype.Map{
		"192.0.2.0/24":    city("NO", 59.9, 10.7, 20),
		"198.51.100.0/25": city("XX", 90, 10, 5),
		"203.0.113.0/24":  {"country": mmdbtype.Map{"iso_code": mmdbtype.String("PT")}},
		"2001:db8::/32":   city("DK", -0.5, 180, 0),
		"2001:db9::/32":   city("DK", -90, -180, 3),
		"192.0.5.0/24":    city("NO", 59.9, 10.7, 20), // shares the record of another
	})
	db, err := place.ReadDatabase(bytes.NewReader(data), "geo.mmdb")
	require.NoError(t, err)
	for addr, want := range map[string]place.Location{
		"192.0.2.7":    {Country: "NO", Positioned: true, Latitude: 59.9, Longitude: 10.7, AccuracyKM: 20},
		"198.51.100.1": {Positioned: true, Latitude: 90, Longitude: 10, AccuracyKM: 5}, // in no country
		"203.0.113.9":  {Country: "PT"},
		"2001:db8::1":  {Country: "DK", Positioned: true, Latitude: -0.5, Longitude: 180},
		"2001:db9::1":  {Country: "DK", Positioned: true, Latitude: -90, Longitude: -180, AccuracyKM: 3},
		"192.0.5.1":    {Country: "NO", Positioned: true, Latitude: 59.9, Longitude: 10.7, AccuracyKM: 20},
	} {
		at, known := db.Locate(netip.MustParseAddr(addr))
		require.True(t, known, addr)
		require.Equal(t, want, at, addr)
	}
	_, known := db.Locate(netip.MustParseAddr("198.51.100.200"))
	require.False(t, known)
	require.Equal(t, 1, db.Strange())
	require.Equal(t, 6, db.Len())
	trace, _ := db.Trace(netip.MustParseAddr("198.51.100.1"))
	require.Equal(t, "198.51.100.0/25 (geo.mmdb)", trace.String())
	_, err = place.ReadDatabase(bytes.NewReader(database(t, map[string]mmdbtype.Map{"192.0.2.0/24": city("NO", 59, 181, 1)})), "geo.mmdb")
	require.EqualError(t, err, "192.0.2.0/24: latitude 59, longitude 181 is nowhere on Earth")

	for name, broken := range map[string][]byte{"empty": nil, "text": []byte("192.0.2.0/24,NO\n"), "truncated": data[:len(data)/2],
		"no tree": data[len(data)-200:]} {
		_, err := place.ReadDatabase(bytes.NewReader(broken), "geo.mmdb")
		require.Error(t, err, name)
	}
}

// TestDamagedDatabasesDoNotPanic flips bytes: reading fails, or looking up finds something or nothing.
func TestDamagedDatabasesDoNotPanic(t *testing.T) {
	data := database(t, map[string]mmdbtype.Map{"192.0.2.0/24": city("NO", 59.9, 10.7, 20), "2001:db8::/32": city("DK", 55, 12, 1)})
	for i := 0; i < len(data); i += 3 {
		damaged := bytes.Clone(data)
		damaged[i] ^= 0xff
		db, err := place.ReadDatabase(bytes.NewReader(damaged), "geo.mmdb")
		if err != nil {
			continue
		}
		for _, addr := range []string{"192.0.2.7", "2001:db8::1", "203.0.113.1"} {
			at, _ := db.Locate(netip.MustParseAddr(addr))
			require.LessOrEqual(t, len(at.Country), 2)
		}
	}
}
