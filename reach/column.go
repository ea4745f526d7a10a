package reach

// Circumstances by the name of a network, a schedule or a country.

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"briskwarden.example/briskwarden"
	"briskwarden.example/briskwarden/internal/bridge"
	"briskwarden.example/briskwarden/internal/known"
	"briskwarden.example/briskwarden/internal/spell"
)

// Clauses turns the name of a network, a schedule, a country or a set of countries into the clauses
// of a sign-on from there, or then, as seen from an instant. Clauses stay as they are.
func Clauses(rules *briskwarden.Rulebook, column string, now time.Time) (string, error) {
	rb := bridge.Engine(rules).Rulebook()
	if column == "" || strings.ContainsAny(column, " \t") {
		return column, nil
	}
	if id := slices.Index(rb.Networks.Names, column); id >= 0 {
		a, ok := rb.Networks.Table.Sample(id)
		if !ok {
			return "", fmt.Errorf("the network %s lists no address", column)
		}
		return "ip " + a.String(), nil
	}
	for _, sch := range rb.Schedules {
		if sch.Name != column {
			continue
		}
		const step, most = 15 * time.Minute, 14 * 24 * 4
		for i := range most {
			if t := now.Add(time.Duration(i) * step); sch.In(t) == known.True {
				return "at " + t.Format(time.RFC3339), nil
			}
		}
		return "", fmt.Errorf("the schedule %s is not open in the next two weeks", column)
	}
	if codes := rb.CountryCodes(column); len(codes) > 0 {
		return "country " + codes[0], nil
	}
	if _, err := netip.ParseAddr(column); err == nil {
		return "", fmt.Errorf("%s is an address: write \"ip %s\"", column, column)
	}
	return "", fmt.Errorf("%q is neither clauses nor the name of a network, schedule or country%s", column, hint(column, Names(rules)))
}

// hint suggests the nearest known name at the end of a sentence.
func hint(name string, known []string) string {
	if text := spell.Hint(name, known); text != "" {
		return "; " + text
	}
	return ""
}

// Names are those of networks and schedules, for [Clauses].
func Names(rules *briskwarden.Rulebook) []string {
	rb := bridge.Engine(rules).Rulebook()
	names := slices.Clone(rb.Networks.Names)
	for _, sch := range rb.Schedules {
		names = append(names, sch.Name)
	}
	return names
}
