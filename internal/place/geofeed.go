package place

import (
	"encoding/csv"
	"fmt"
	"io"
	"net/netip"
	"strings"

	"github.com/gaissmai/bart"

	"briskwarden.example/briskwarden/signon"
)

// Location is where an address is.
type Location struct {
	Country    string // ISO 3166-1 alpha-2; empty is unknown
	Positioned bool   // whether the three below are known
	Latitude   float64
	Longitude  float64
	AccuracyKM float64 // the radius, in kilometres, within which the address is
}

// Source tells where addresses are. Known is false for an address that it says nothing of;
// one that it says is nowhere is known, with an empty country.
type Source interface {
	Locate(netip.Addr) (at Location, known bool)
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

// Geofeed is a feed of RFC 8805: prefixes and the countries that they are in.
type Geofeed struct {
	table bart.Table[Location]
	size  int
}

// Len counts the prefixes.
func (g *Geofeed) Len() int { return g.size }

// Locate finds the most specific prefix that holds the address.
func (g *Geofeed) Locate(a netip.Addr) (Location, bool) { return g.table.Lookup(a) }

// ReadGeofeed reads a feed of RFC 8805, of which only the prefix and the country count. What
// is wrong with single lines is returned beside what could be read.
func ReadGeofeed(in io.Reader) (feed *Geofeed, wrong []*LineError) {
	feed = &Geofeed{}
	err := eachLine(in, func(n int, text string) {
		if err := feed.add(text); err != nil {
			wrong = append(wrong, &LineError{n, err.Error()})
		}
	})
	return feed, withLast(wrong, err)
}

func (g *Geofeed) add(line string) error {
	r := csv.NewReader(strings.NewReader(line))
	r.FieldsPerRecord, r.TrimLeadingSpace = -1, true
	fields, err := r.Read()
	if err != nil {
		return fmt.Errorf("is no line of comma-separated values: %w", err)
	}
	text := strings.TrimSpace(fields[0])
	if strings.Contains(text, "-") {
		return fmt.Errorf("%q is no prefix: a geofeed has no ranges", text)
	}
	prefixes, err := ParseItem(text)
	if err != nil {
		return err
	}
	at := Location{}
	if len(fields) > 1 {
		at.Country = strings.ToUpper(strings.TrimSpace(fields[1]))
	}
	if at.Country != "" && !signon.IsCountry(at.Country) {
		return fmt.Errorf("there is no country %q: ISO 3166-1 alpha-2, such as NO", fields[1])
	}
	if before, again := g.table.Get(prefixes[0]); again {
		if before != at {
			return fmt.Errorf("%s stands twice, in %s and in %s", prefixes[0], named(before.Country), named(at.Country))
		}
		return nil
	}
	g.table.Insert(prefixes[0], at)
	g.size++
	return nil
}

func named(country string) string {
	if country == "" {
		return "no country"
	}
	return country
}
