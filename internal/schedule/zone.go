package schedule

// The zones of a calendar's times.

import (
	"bytes"
	"cmp"
	"encoding/binary"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"briskwarden.example/briskwarden/internal/spell"
)

// zoneTable finds the zones of a calendar: its own, by TZID, before those of the IANA database.
type zoneTable struct {
	local *time.Location
	own   map[string]*time.Location
}

// location is the zone of a property.
func (z *zoneTable) location(p *property) (*time.Location, error) {
	id := p.params["TZID"]
	switch {
	case len(id) == 0:
		return z.local, nil
	case len(id) > 1:
		return nil, fmt.Errorf("%s has more than one TZID", p.name)
	}
	if own, ok := z.own[id[0]]; ok {
		return own, nil
	}
	zone, err := time.LoadLocation(strings.TrimPrefix(id[0], "/"))
	if err != nil || id[0] == "" || id[0] == "Local" {
		return nil, fmt.Errorf("there is no VTIMEZONE and no time zone %q", id[0])
	}
	return zone, nil
}

// moment reads a date, a time in UTC, a time in the zone of its property, or a floating one.
func (z *zoneTable) moment(p *property, value string) (m moment, err error) {
	if m.zone, err = z.location(p); err != nil {
		return m, err
	}
	if m.wall, err = time.Parse("20060102", value); err == nil {
		m.whole, m.zone = true, z.local
		return m, checkYear(p.name, m.wall)
	}
	if m.wall, err = time.Parse("20060102T150405Z", value); err == nil {
		m.zone = time.UTC
		return m, checkYear(p.name, m.wall)
	}
	if m.wall, err = time.Parse("20060102T150405", value); err == nil {
		return m, checkYear(p.name, m.wall)
	}
	return m, fmt.Errorf("%s:%s is neither a date such as 20261225 nor a time such as 20261225T080000", p.name, value)
}

// firstYear is that of the earliest times that are read.
const firstYear = 1900

func checkYear(property string, t time.Time) error {
	if t.Year() < firstYear {
		return fmt.Errorf("%s: %d lies before %d", property, t.Year(), firstYear)
	}
	return nil
}

// period reads a value of RDATE, which may be a start with an end or a duration.
func (z *zoneTable) period(p *property, value string) (x period, err error) {
	from, to, isPeriod := strings.Cut(value, "/")
	if x.start, err = z.moment(p, from); err != nil || !isPeriod {
		return x, err
	}
	if strings.HasPrefix(to, "P") || strings.HasPrefix(to, "+P") {
		days, rest, err := parseDuration(to)
		end := x.start
		end.wall = end.wall.AddDate(0, 0, days)
		x.end = end.at().Add(rest)
		return x, err
	}
	end, err := z.moment(p, to)
	if x.end = end.at(); err == nil && !x.end.After(x.start.at()) {
		err = fmt.Errorf("%s:%s ends before it starts", p.name, value)
	}
	return x, err
}

// change is a moment at which the offset of a zone changes.
type change struct {
	at     int64
	offset int // seconds east of UTC, from then on
	before int
	summer bool
}

// mostChanges is how many changes a zone may have before the horizon.
const mostChanges = 10_000

// add reads a VTIMEZONE.
func (z *zoneTable) add(v *component, s *search) error {
	id, err := v.only("TZID")
	if err != nil || id == nil || id.value == "" {
		return cmp.Or(err, errors.New("a VTIMEZONE has no TZID"))
	}
	var changes []change
	for _, c := range v.parts {
		if c.name != "STANDARD" && c.name != "DAYLIGHT" {
			continue
		}
		if changes, err = observance(changes, c, s); err != nil {
			return fmt.Errorf("the VTIMEZONE %s: %w", id.value, err)
		}
	}
	switch {
	case len(changes) == 0:
		return fmt.Errorf("the VTIMEZONE %s has neither STANDARD nor DAYLIGHT", id.value)
	case z.own[id.value] != nil:
		return fmt.Errorf("the VTIMEZONE %s stands twice", id.value)
	}
	slices.SortStableFunc(changes, func(a, b change) int { return cmp.Compare(a.at, b.at) })
	data, err := zoneData(changes)
	if err == nil {
		z.own[id.value], err = time.LoadLocationFromTZData(id.value, data)
	}
	if err != nil {
		return fmt.Errorf("the VTIMEZONE %s: %w", id.value, err)
	}
	return nil
}

// observance adds the changes of a STANDARD or DAYLIGHT part.
func observance(changes []change, c *component, s *search) ([]change, error) {
	from, err := offsetProperty(c, "TZOFFSETFROM")
	if err != nil {
		return nil, err
	}
	to, err := offsetProperty(c, "TZOFFSETTO")
	if err != nil {
		return nil, err
	}
	start, err := c.only("DTSTART")
	if err != nil || start == nil {
		return nil, cmp.Or(err, errors.New("a part has no DTSTART"))
	}
	onset, err := time.Parse(clockTime, start.value)
	if err != nil {
		return nil, fmt.Errorf("DTSTART:%s is no time such as 20260329T020000", spell.Clip(start.value))
	}
	add := func(wall time.Time) {
		changes = append(changes, change{wall.Unix() - int64(from), to, from, c.name == "DAYLIGHT"})
	}
	add(onset)
	for _, p := range c.all("RDATE") {
		for value := range strings.SplitSeq(p.value, ",") {
			t, err := time.Parse(clockTime, value)
			if err != nil {
				return nil, fmt.Errorf("RDATE:%s is no time such as 20260329T020000", spell.Clip(value))
			}
			add(t)
		}
	}
	for _, p := range c.all("RRULE") {
		rule, err := parseRule(p.value, false)
		if err != nil {
			return nil, err
		}
		if rule.freq != yearly {
			return nil, fmt.Errorf("RRULE:%s: a zone changes yearly", spell.Clip(p.value))
		}
		for m, err := range rule.from(moment{wall: onset, zone: time.FixedZone("", from)}, s) {
			if err != nil {
				return nil, err
			}
			if add(m.wall); len(changes) > mostChanges {
				return nil, fmt.Errorf("RRULE:%s: more than %d changes", spell.Clip(p.value), mostChanges)
			}
		}
	}
	return changes, nil
}

// clockTime is the form of a time on the wall clock.
const clockTime = "20060102T150405"

func offsetProperty(c *component, name string) (int, error) {
	p, err := c.only(name)
	if err != nil || p == nil {
		return 0, cmp.Or(err, fmt.Errorf("a part has no %s", name))
	}
	offset, err := parseOffset(p.value)
	if err != nil {
		return 0, fmt.Errorf("%s:%s: %w", name, spell.Clip(p.value), err)
	}
	return offset, nil
}

// parseOffset reads an offset such as +0530 or -033000, in seconds.
func parseOffset(text string) (int, error) {
	for _, layout := range []string{"-0700", "-070000"} {
		if t, err := time.Parse(layout, text); err == nil {
			_, offset := t.Zone()
			return offset, nil
		}
	}
	return 0, errors.New("is no offset such as +0100")
}

// zoneData writes changes as time zone information (RFC 9636), version 2.
func zoneData(changes []change) ([]byte, error) {
	types := []change{{offset: changes[0].before}} // what was before the first comes first
	index := func(c change) byte {
		same := func(t change) bool { return t.offset == c.offset && t.summer == c.summer }
		i := slices.IndexFunc(types, same)
		if i < 0 {
			i = len(types)
			types = append(types, change{offset: c.offset, summer: c.summer})
		}
		return byte(i)
	}
	var times, kinds bytes.Buffer
	count := 0
	for _, c := range changes {
		k := index(c)
		if len(types) > 250 {
			return nil, errors.New("it has more than 250 different offsets")
		}
		_ = binary.Write(&times, binary.BigEndian, c.at)
		kinds.WriteByte(k)
		count++
	}
	var b bytes.Buffer
	header := func(times, types, letters int) {
		b.WriteString("TZif2" + strings.Repeat("\x00", 15))
		for _, n := range []int{0, 0, 0, times, types, letters} {
			_ = binary.Write(&b, binary.BigEndian, uint32(n))
		}
	}
	header(0, 1, 1)
	b.Write(make([]byte, 6+1)) // version 1 has one type and nothing else
	header(count, len(types), 4)
	b.Write(times.Bytes())
	b.Write(kinds.Bytes())
	for _, t := range types {
		_ = binary.Write(&b, binary.BigEndian, int32(t.offset))
		summer := byte(0)
		if t.summer {
			summer = 1
		}
		b.Write([]byte{summer, 0})
	}
	b.WriteString("ICS\x00\n\n")
	return b.Bytes(), nil
}
