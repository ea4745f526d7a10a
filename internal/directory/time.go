package directory

// Times of LDAP.

import (
	"fmt"
	"strings"
	"time"

	"briskwarden.example/briskwarden/internal/spell"
)

// generalizedTime reads a Generalized Time (RFC 4517, section 3.3.13), such as 20240201090000Z,
// 2024020109+01 or 202402010900.5-0330: minutes and seconds may be missing, a fraction is of
// the smallest unit that is there, and a zone is always there.
func generalizedTime(text string) (time.Time, error) {
	fail := fmt.Errorf("%q is no time: write 20240201090000Z", spell.Clip(text))
	zone := strings.IndexAny(text, "Z+-")
	if zone < 0 {
		return time.Time{}, fail
	}
	clock, fraction, hasFraction := strings.Cut(strings.Replace(text[:zone], ",", ".", 1), ".")
	form, unit := "", time.Duration(0)
	switch len(clock) {
	case len("2006010215"):
		form, unit = "2006010215", time.Hour
	case len("200601021504"):
		form, unit = "200601021504", time.Minute
	case len("20060102150405"):
		form, unit = "20060102150405", time.Second
		clock = strings.TrimSuffix(clock, "60") + map[bool]string{true: "59"}[strings.HasSuffix(clock, "60")] // a leap second
	}
	offset := text[zone:]
	if len(offset) == len("+01") {
		offset += "00"
	}
	t, err := time.Parse(form+"Z0700", clock+offset)
	if err != nil || form == "" || hasFraction && fraction == "" || strings.Trim(fraction, "0123456789") != "" || t.Year() < 1 || t.UTC().Year() < 1 {
		return time.Time{}, fail
	}
	if hasFraction {
		part, err := time.ParseDuration("0." + fraction + "s")
		if err != nil {
			return time.Time{}, fail
		}
		t = t.Add(part * time.Duration(unit/time.Second))
	}
	return t.UTC(), nil
}
