package place

// MaxMind DB files.

import (
	"fmt"
	"io"
	"iter"
	"net/netip"

	"github.com/oschwald/maxminddb-golang/v2"

	"briskwarden.example/briskwarden/signon"
)

// Database is a file of the MaxMind DB format, held in memory.
type Database struct {
	file    string
	reader  *maxminddb.Reader
	records map[uintptr]Location // by offset: many prefixes share one
	size    int
	strange int // how many records name a country that is none
}

// Strange counts the records of a country that is none in ISO 3166-1: theirs is unknown.
func (d *Database) Strange() int { return d.strange }

// Len counts the prefixes.
func (d *Database) Len() int { return d.size }

// maxDatabase is the size in bytes of the largest database that is held in memory.
const maxDatabase = 2 << 30

// ReadDatabase reads a whole MaxMind DB, and each of its records once.
func ReadDatabase(in io.Reader, file string) (*Database, error) {
	data, err := io.ReadAll(io.LimitReader(in, maxDatabase+1))
	switch {
	case err != nil:
		return nil, err
	case len(data) > maxDatabase:
		return nil, fmt.Errorf("a database is at most %d GiB large", maxDatabase>>30)
	}
	reader, err := maxminddb.OpenBytes(data)
	if err != nil {
		return nil, fmt.Errorf("is no MaxMind DB: %w", err)
	}
	d := &Database{file: file, reader: reader, records: map[uintptr]Location{}}
	for result := range reader.Networks() {
		if err := d.add(result); err != nil {
			return nil, err
		}
	}
	return d, nil
}

// add decodes the record of a prefix, unless another prefix shares it.
func (d *Database) add(result maxminddb.Result) error {
	d.size++
	if _, known := d.records[result.Offset()]; known && result.Err() == nil {
		return nil
	}
	var record record
	if err := result.Decode(&record); err != nil {
		return fmt.Errorf("the MaxMind DB is damaged: %w", err)
	}
	at := Location{}
	if lat, long := record.Location.Latitude, record.Location.Longitude; lat != nil && long != nil {
		if !onEarth(*lat, *long) {
			return fmt.Errorf("%s: latitude %g, longitude %g is nowhere on Earth", result.Prefix(), *lat, *long)
		}
		at.Positioned, at.Latitude, at.Longitude, at.AccuracyKM = true, *lat, *long, float64(record.Location.Accuracy)
	}
	switch code := record.Country.Code; {
	case signon.IsCountry(code):
		at.Country = code
	case code != "":
		d.strange++
	}
	d.records[result.Offset()] = at
	return nil
}

// record is what counts of the record of a prefix.
type record struct {
	Country struct {
		Code string `maxminddb:"iso_code"`
	} `maxminddb:"country"`
	Location struct {
		Latitude  *float64 `maxminddb:"latitude"`
		Longitude *float64 `maxminddb:"longitude"`
		Accuracy  uint64   `maxminddb:"accuracy_radius"`
	} `maxminddb:"location"`
}

// Trace finds the prefix that says where the address is.
func (d *Database) Trace(a netip.Addr) (Trace, bool) {
	result := d.reader.Lookup(a)
	return Trace{Prefix: result.Prefix(), File: d.file}, result.Found()
}

// Prefixes are all prefixes of the database.
func (d *Database) Prefixes() iter.Seq[netip.Prefix] {
	return func(yield func(netip.Prefix) bool) {
		for result := range d.reader.Networks() {
			if !yield(result.Prefix()) {
				return
			}
		}
	}
}

// Locate finds the most specific prefix that holds the address. A country that is none is unknown.
func (d *Database) Locate(a netip.Addr) (at Location, known bool) {
	result := d.reader.Lookup(a)
	return d.records[result.Offset()], result.Found()
}

func onEarth(latitude, longitude float64) bool {
	return latitude >= -90 && latitude <= 90 && longitude >= -180 && longitude <= 180
}
