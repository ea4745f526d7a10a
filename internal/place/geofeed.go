package place

// Geofeeds (RFC 8805).

import (
	"encoding/csv"
	"fmt"
	"io"
	"iter"
	"net/netip"
	"strings"

	"github.com/gaissmai/bart"

	"briskwarden.example/briskwarden/internal/lines"
	"briskwarden.example/briskwarden/signon"
)

// Geofeed is a feed of RFC 8805: prefixes and the countries that they are in.
type Geofeed struct {
	file  string
	table bart.Table[feedLine]
}

// feedLine is what counts of a line of a feed.
type feedLine struct {
	country [2]byte // zero is nowhere
	line    int32
}

// Len counts the prefixes.
func (g *Geofeed) Len() int { return g.table.Size() }

// Locate finds the most specific prefix that holds the address.
func (g *Geofeed) Locate(a netip.Addr) (Location, bool) {
	l, known := g.table.Lookup(a)
	return Location{Country: l.code()}, known
}

func (l feedLine) code() string {
	if l.country[0] == 0 {
		return ""
	}
	return string(l.country[:])
}

// Trace finds the line that says where the address is.
func (g *Geofeed) Trace(a netip.Addr) (Trace, bool) {
	p, l, known := g.table.LookupPrefixLPM(netip.PrefixFrom(a, a.BitLen()))
	return Trace{p, g.file, int(l.line)}, known
}

// Prefixes are all prefixes of the feed.
func (g *Geofeed) Prefixes() iter.Seq[netip.Prefix] {
	return func(yield func(netip.Prefix) bool) {
		for p := range g.table.All() {
			if !yield(p) {
				return
			}
		}
	}
}

// ReadGeofeed reads a feed of RFC 8805, of which only the prefix and the country count. What
// is wrong with single lines is returned beside what could be read.
func ReadGeofeed(in io.Reader, file string) (feed *Geofeed, wrong []*lines.Error) {
	feed = &Geofeed{file: file}
	return feed, eachItem(in, feed.add)
}

func (g *Geofeed) add(n int, line string) error {
	r := csv.NewReader(strings.NewReader(line))
	r.FieldsPerRecord = -1
	fields, err := r.Read()
	if err != nil {
		return fmt.Errorf("is no line of comma-separated values: %w", err)
	}
	text := strings.Trim(fields[0], lines.Blanks)
	if strings.Contains(text, "-") {
		return fmt.Errorf("%q is no prefix: a geofeed has no ranges", text)
	}
	prefixes, err := ParseItem(text)
	if err != nil {
		return err
	}
	at := feedLine{line: int32(n)}
	if len(fields) > 1 {
		code := strings.ToUpper(strings.Trim(fields[1], lines.Blanks))
		if code != "" && !signon.IsCountry(code) {
			return fmt.Errorf("there is no country %q: ISO 3166-1 alpha-2, such as NO", fields[1])
		}
		copy(at.country[:], code)
	}
	if before, again := g.table.Get(prefixes[0]); again {
		if before.country != at.country {
			return fmt.Errorf("%s stands twice, in %s here and in %s on line %d", prefixes[0], named(at.code()), named(before.code()), before.line)
		}
		return nil
	}
	g.table.Insert(prefixes[0], at)
	return nil
}

func named(country string) string {
	if country == "" {
		return "no country"
	}
	return country
}
