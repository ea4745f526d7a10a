package engine_test

import (
	"net/netip"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/require"

	"briskwarden.example/briskwarden/internal/engine"
	"briskwarden.example/briskwarden/internal/history"
	"briskwarden.example/briskwarden/signon"
)

// TestEvidence holds what reasons name against the files that they come from.
func TestEvidence(t *testing.T) {
	files := map[string]string{
		"terminals.txt": "# quays\n\n192.0.2.0/25\n192.0.2.0/26\n203.0.113.7\n",
		"geo.csv":       "192.0.2.0/24,NO\n198.51.100.0/24,\n",
		"fleet.jsonl":   `{"id":"tab","owner":"bob","os":"android","reported":"2026-11-22T05:00:00Z"}` + "\n" + `{"id":"own","managed":true}` + "\n",
		"yard.ics":      "BEGIN:VCALENDAR\nBEGIN:VEVENT\nUID:1\nSUMMARY:Yard day\nDTSTART;VALUE=DATE:20261123\nEND:VEVENT\nEND:VCALENDAR\n",
		"log.jsonl": strings.Repeat(`{"subject":{"id":"ann"},"context":{"time":"2026-11-20T11:30:00Z","ip":"192.0.2.1","device":{"id":"tab"}}}`+"\n", 2) +
			strings.Repeat(`{"subject":{"id":"bob"},"context":{"time":"2026-11-20T20:00:00Z"}}`+"\n", 25),
	}
	const top = `rulebook r { floor none devices "fleet.jsonl" geo "geo.csv" history "log.jsonl" }
network terminals trusted from "terminals.txt"
network six { 2001:db8::/32 }
network both { 2001:db8::/32 198.51.100.0/24 }
schedule day { mon-fri 06:00-20:00  except calendar "yard.ics" }
user ann { } user bob { }
app news { }
baseline fresh { check "Reported" device.reported within 24h }
risk model { add 45 when new.country  add 20 when odd.hour band low to 100 }
`
	device := func(id string) signon.SignOn { return signon.SignOn{Device: &signon.Device{ID: id}} }
	reported := func(ago time.Duration) signon.SignOn {
		return signon.SignOn{Device: &signon.Device{Reported: noon.Add(-ago)}}
	}
	ip := func(a string) signon.SignOn { return signon.SignOn{IP: netip.MustParseAddr(a)} }
	for _, c := range []struct {
		condition string
		s         signon.SignOn
		want      string
	}{
		{"network in six, terminals", ip("192.0.2.7"), "network in terminals: 192.0.2.7 is in 192.0.2.0/26 (terminals.txt:4)"},
		{"network in terminals", ip("::ffff:192.0.2.77"), "network in terminals: 192.0.2.77 is in 192.0.2.0/25 (terminals.txt:3)"},
		{"network in terminals", ip("203.0.113.7"), "network in terminals: 203.0.113.7 (terminals.txt:5)"},
		{"network not in terminals", ip("203.0.113.8"), "203.0.113.8 is not in terminals"},
		{"network not in terminals", ip("2001:db9::1"), "2001:db9::1 is not in terminals: terminals lists only IPv4, and this is IPv6"},
		{"network not in both", ip("2001:db9::1"), "2001:db9::1 is not in both"},
		{"network not in six", ip("192.0.2.7"), "192.0.2.7 is not in six: six lists only IPv6, and this is IPv4"},
		{"network in terminals", signon.SignOn{}, "network is unknown: the sign-on has no address"},
		{"network.trusted", ip("192.0.2.7"), "network.trusted is yes: 192.0.2.7 is in 192.0.2.0/26 (terminals.txt:4)"},
		{"country is NO", ip("192.0.2.7"), "country is NO: 192.0.2.7 is in 192.0.2.0/24 (geo.csv:1)"},
		{"country is NO", ip("198.51.100.1"), "country is unknown: 198.51.100.1 is nowhere, by 198.51.100.0/24 (geo.csv:2)"},
		{"country is NO", ip("203.0.113.9"), "country is unknown: no source knows 203.0.113.9"},
		{"country is NO", signon.SignOn{}, "country is unknown: the sign-on has no address"},
		{"time not in day", signon.SignOn{}, "Mon 2026-11-23 12:00 is not in day: day is closed: Yard day (yard.ics:2)"},
		{"device.owned is no", device("tab"), "device.owned is no: tab is bob's (fleet.jsonl:1)"},
		{"device.owned is no", device("own"), "device.owned is unknown: the inventory names no owner of own (fleet.jsonl:2)"},
		{"device.owned is no", device("lost"), "device.owned is unknown: lost is not in the inventory"},
		{"device.reported within 90d", reported(0), "device.reported is 2026-11-23 12:00, 0 min ago"},
		{"device.reported not within 90d", reported(-time.Minute), "device.reported is 2026-11-23 12:01, in the future"},
		{"device.reported within 90d", reported(2*time.Hour - time.Second), "device.reported is 2026-11-23 10:00, 119 min ago"},
		{"device.reported within 90d", reported(2 * time.Hour), "device.reported is 2026-11-23 10:00, 2 h ago"},
		{"device.reported within 90d", reported(72*time.Hour - time.Second), "device.reported is 2026-11-20 12:00, 71 h ago"},
		{"device.reported within 90d", reported(72 * time.Hour), "device.reported is 2026-11-20 12:00, 3 days ago"},
		{"device.owned is no", device(""), "device.owned is unknown: the device has no id"},
		{"device.owned is no", signon.SignOn{}, "device.owned is unknown: the sign-on names no device"},
		{"device.managed is no", device("lost"), "device.managed is no: lost is not in the inventory"},
		{"device.os is android", device("lost"), "device.os is unknown: lost is not in the inventory"},
		{"not device meets fresh", device("tab"), "device meets fresh: Reported is no (device.reported is 2026-11-22 05:00, 31 h ago)"},
		{"new.country", signon.SignOn{Country: "PT"}, "new.country is yes: PT was not seen in 90 days"},
		{"new.country is no", ip("192.0.2.7"), "new.country is no: NO was last seen 3 days ago"},
		{"new.country", ip("203.0.113.9"), "new.country is unknown: the country is unknown"},
		{"new.device is no", device("tab"), "new.device is no: tab was last seen 3 days ago"},
		{"odd.hour is no", signon.SignOn{}, "odd.hour is no: 2 of 2 in 90 days were within an hour of 12:00, and fewer than 20 tell nothing"},
		{"odd.hour", signon.SignOn{User: "bob"}, "odd.hour is yes: 0 of 25 in 90 days were within an hour of 12:00"},
		{"travel.speed > 900", ip("192.0.2.7"), "travel.speed is unknown: the position of 192.0.2.7 is unknown"},
		{"risk >= 45", signon.SignOn{Country: "PT"}, "risk is 45"},
	} {
		fsys := fstest.MapFS{"rulebook.warden": {Data: []byte(top + "policy p { who everyone to everything case \"x\" when " + c.condition + " => grant otherwise => block }\n")}}
		for name, text := range files {
			fsys[name] = &fstest.MapFile{Data: []byte(text)}
		}
		s := c.s
		if s.App, s.Time = "news", noon; s.User == "" {
			s.User = "ann"
		}
		var d signon.Decision
		require.NoError(t, engineOf(t, fsys, engine.Sources{}).Decide(t.Context(), &s, &d, true))
		require.Equal(t, "x", d.Explanation.Policies[0].Case, "%s: %s", c.condition, d.Explanation.Policies[0].Why)
		require.Equal(t, c.want, d.Explanation.Policies[0].Why, c.condition)
		if strings.HasPrefix(c.condition, "risk") {
			require.Equal(t, []signon.Factor{{Add: 45, When: "new.country", Value: "true", Why: "new.country is yes: PT was not seen in 90 days"}}, d.Explanation.Risk.Factors)
		}
	}
}

// recorded is a history that answers the same whatever it is asked.
type recorded history.Facts

func (r recorded) Before(*history.Query) history.Facts { return history.Facts(r) }

// TestTravelEvidence tells how fast somebody travelled, or why that is not known.
func TestTravelEvidence(t *testing.T) {
	const rules = `rulebook r { timezone "UTC" floor none }
user ann { } app news { }
policy p { who everyone to app news case "x" when travel.speed > 900 => block otherwise => grant }
`
	for _, c := range []struct {
		past history.Facts
		why  string
	}{
		{history.Facts{Strayed: true}, "travel.speed is unknown: where the user was before is no longer remembered"},
		{history.Facts{}, "travel.speed is unknown: the position of 192.0.2.7 is unknown"},
		{history.Facts{TravelKnown: true, TravelSpeed: history.AtOnce}, "travel.speed is 100000 km/h: at the same instant the user was elsewhere"},
		{history.Facts{TravelKnown: true, TravelSpeed: 1200, TravelKM: 600, TravelledFor: 30 * time.Minute, TravelSince: noon.Add(-30 * time.Minute)},
			"travel.speed is 1200 km/h: 600 km from where the user was 30 min ago"},
	} {
		var d signon.Decision
		so := &signon.SignOn{User: "ann", App: "news", Time: noon, IP: netip.MustParseAddr("192.0.2.7")}
		require.NoError(t, newEngine(t, rules, engine.Sources{History: recorded(c.past)}).Decide(t.Context(), so, &d, true))
		require.Equal(t, c.why, d.Explanation.Policies[0].Why)
	}
}
