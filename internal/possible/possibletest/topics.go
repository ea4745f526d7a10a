package possibletest

// What small rulebooks ask about.

import (
	"math/rand/v2"
	"net/netip"
	"strings"
	"time"

	"briskwarden.example/briskwarden/signon"
)

// statement is something that a sign-on states.
type statement func(*signon.SignOn)

// topic is something that small rulebooks ask about: what they declare, the conditions that ask, and all
// that sign-ons can state of it, as a list of choices. What is stated twice of the same is left out.
type topic struct {
	settings string // of the rulebook block
	declares string
	brings   string // it declares that alone where it is taken
	files    map[string]string
	asks     []string
	choices  [][]statement
}

func nothing(*signon.SignOn) {}

// Start is the first instant of all sign-ons, a Friday; they end four days later.
var Start = time.Date(2026, 11, 27, 0, 0, 0, 0, time.UTC)

func ip(text string) statement {
	return func(so *signon.SignOn) { so.IP = netip.MustParseAddr(text) }
}

func id(id string) statement {
	return func(so *signon.SignOn) { so.Device = &signon.Device{ID: id} }
}

// on edits the device, if there is one.
func on(edit func(*signon.Device)) statement {
	return func(so *signon.SignOn) {
		if so.Device != nil {
			edit(so.Device)
		}
	}
}

func flag(of func(*signon.Device) *signon.YesNo) []statement {
	return []statement{nothing, on(func(d *signon.Device) { *of(d) = signon.Yes }), on(func(d *signon.Device) { *of(d) = signon.No })}
}

func country(code string) statement { return func(so *signon.SignOn) { so.Country = code } }

func suppose(name string, v any) statement {
	return func(so *signon.SignOn) {
		if so.Suppose == nil {
			so.Suppose = map[string]any{}
		}
		so.Suppose[name] = v
	}
}

var addresses = []statement{nothing, ip("192.0.2.1"), ip("192.0.2.70"), ip("192.0.2.200"), ip("2001:db8::1"), ip("198.51.100.1"), ip("2001:db8:1::1")}

// topics are those of sign-ons; of each rulebook a few are taken.
func topics(r *rand.Rand) []topic {
	networks := topic{
		declares: "network quay trusted { 192.0.2.0/25 }\nnetwork pier { 192.0.2.64/26, 2001:db8::/48 }\nnetwork relays anonymous { 198.51.100.0/24 }\n",
		asks: []string{"network in quay", "network in pier", "network not in quay, pier", "network.trusted", "network.anonymous is no", "network is unknown",
			"network in 192.0.2.128/25"},
		choices: [][]statement{addresses},
	}
	located := topic{settings: "geo \"geo.csv\"\n", files: map[string]string{"geo.csv": "192.0.2.0/26,NO\n192.0.2.64/26,SE\n198.51.100.0/24,DE\n2001:db8::/48,\n"},
		asks: []string{"country in NO, SE", "country is NO", "country is known", "not country in DE"}, choices: [][]statement{addresses}}
	abroad := topic{asks: []string{"country in NO, SE", "country is NO", "country is unknown"}, choices: [][]statement{{nothing, country("NO"), country("SE"), country("DE")}}}
	client := func(c signon.Client) statement { return func(so *signon.SignOn) { so.Client = c } }
	clients := topic{asks: []string{"client is legacy", "client in browser, native", "client is known"},
		choices: [][]statement{{nothing, client("browser"), client("native"), client("legacy"), client("unattended")}}}
	score := func(x float64) statement { return func(so *signon.SignOn) { so.Risk = &x } }
	scored := topic{asks: []string{"reported.risk >= 40", "reported.risk < 60", "reported.risk is known"},
		choices: [][]statement{{nothing, score(-1), score(40), score(50), score(60), score(70)}}}
	mode := func(v any) statement { return func(so *signon.SignOn) { so.Properties = map[string]any{"mode": v} } }
	modes := topic{declares: "attribute user.mode word from request\n", asks: []string{"user.mode is ashore", "user.mode in ashore, aboard", "user.mode is unknown"},
		choices: [][]statement{{nothing, mode("ashore"), mode("aboard"), mode("adrift")}}}
	day := func(d time.Time) statement {
		return func(so *signon.SignOn) { so.Properties = map[string]any{"leave": d.Format(time.DateOnly)} }
	}
	leave := topic{declares: "attribute user.leave date from request\n", asks: []string{"time before user.leave", "time after user.leave", "user.leave is known"},
		choices: [][]statement{{nothing, day(Start.AddDate(0, 0, -9)), day(Start.AddDate(0, 0, 9)), day(Start), day(Start.AddDate(0, 0, 1)), day(Start.AddDate(0, 0, 2)), day(Start.AddDate(0, 0, 3))}}}
	before := topic{settings: "history \"past.jsonl\"\n", files: map[string]string{"past.jsonl": "\n"},
		asks: []string{"odd.hour", "odd.hour is unknown", "new.country", "new.device is no", "travel.speed > 900"},
		choices: [][]statement{{suppose("odd.hour", nil), suppose("odd.hour", true), suppose("odd.hour", false)},
			{suppose("new.country", nil), suppose("new.country", true), suppose("new.country", false)},
			{suppose("new.device", nil), suppose("new.device", true), suppose("new.device", false)}}}
	people := topic{declares: "attribute user.deck word\nattribute user.end date\n",
		asks: []string{"group in crew", "user.id is ada", "user.type in guest, service", "user.risk at least medium", "user has passkey", "user has aal2",
			"user.deck is upper", "user.deck is unknown", "user.joined within 3d", "user.joined not within 1d", "time after user.end", "time before user.end"}}
	times := topic{declares: "schedule shift { mon-fri 06:00-20:00 sat 22:00-02:00 except 2026-11-30 }\n",
		asks: []string{"time in shift", "time not in shift", "time before 2026-11-29", "time after 2026-11-28T12:00"}}
	signalled := topic{brings: "signals desk { from \"https://desk.example\" keys \"keys.json\" audience \"brisk\" accept credential-compromise, risk-level-change }\n",
		files: map[string]string{"keys.json": `{"keys":[{"kty":"OKP","crv":"Ed25519","x":"rhNOBpbPtoOxkxCs6_8D7DvZoIMRhphKZQ6jlRZE5SE"}]}`},
		asks:  []string{"user.compromised", "user.compromised is known", "user.risk at least medium", "user.risk is low"},
		choices: [][]statement{{suppose("user.compromised", nil), suppose("user.compromised", true), suppose("user.compromised", false)},
			{nothing, suppose("user.risk", "low"), suppose("user.risk", "medium"), suppose("user.risk", "high")}}}
	return append([]topic{networks, located, abroad, clients, scored, modes, leave, before, people, times, signalled}, devices(r))
}

// devices asks about two fields of devices, beside what they are.
func devices(r *rand.Rand) topic {
	word := func(of func(*signon.Device) *string, values ...string) []statement {
		list := []statement{nothing}
		for _, v := range values {
			list = append(list, on(func(d *signon.Device) { *of(d) = v }))
		}
		return list
	}
	var reported []statement
	reported = append(reported, nothing)
	for _, age := range []time.Duration{0, 24 * time.Hour, 25 * time.Hour, -time.Hour} {
		reported = append(reported, func(so *signon.SignOn) {
			if so.Device != nil {
				so.Device.Reported = so.Time.Add(-age)
			}
		})
	}
	fields := []topic{
		{asks: []string{"device.managed", "device.managed is no", "device.managed is unknown"}, choices: [][]statement{flag(func(d *signon.Device) *signon.YesNo { return &d.Managed })}},
		{asks: []string{"device.encrypted", "device.encrypted is known", "device meets sound"}, choices: [][]statement{flag(func(d *signon.Device) *signon.YesNo { return &d.Encrypted })}},
		{asks: []string{"device.os is ios", "device.os is not ios", "device.os is unknown"}, choices: [][]statement{word(func(d *signon.Device) *string { return &d.OS }, "ios", "tideos")}},
		{asks: []string{"device.version >= 14", "device.version < 16.1", "device.version is 14", "device.version is known"},
			choices: [][]statement{word(func(d *signon.Device) *string { return &d.Version }, "13", "14", "15", "16.1", "17", "new")}},
		{asks: []string{"device.reported within 24h", "device.reported is unknown"}, choices: [][]statement{reported}},
		{asks: []string{"device.edr is keel", "device.edr is known"}, choices: [][]statement{{nothing, on(func(d *signon.Device) { d.Attributes = map[string]any{"edr": "keel"} }),
			on(func(d *signon.Device) { d.Attributes = map[string]any{"edr": "none"} })}}},
	}
	t := topic{declares: "attribute device.edr word from request\nattribute device.site word default quay\n",
		asks: []string{"device.id is d1", "device.owned", "device.site is quay", "device.owned is unknown", "device.site is known"}}
	if r.IntN(2) == 0 {
		t.settings = "devices \"fleet.jsonl\"\n"
		t.files = map[string]string{"fleet.jsonl": `{"id":"d1","os":"ios","version":"17","managed":true,"encrypted":true,"owner":"ada","reported":"2026-11-27T10:00:00Z","edr":"keel"}
{"id":"d2","managed":false,"owner":"ben","site":"dock","jailbroken":true}
{"id":"d3","version":"13"}
`}
	}
	t.choices = [][]statement{{nothing, id(""), id("d1"), id("d2"), id("d3"), id("d9")}}
	for _, i := range r.Perm(len(fields))[:1+r.IntN(2)] {
		t.asks = append(t.asks, fields[i].asks...)
		t.choices = append(t.choices, fields[i].choices...)
		if strings.Contains(fields[i].asks[0], "encrypted") {
			t.choices = append(t.choices, flag(func(d *signon.Device) *signon.YesNo { return &d.Jailbroken }))
		}
	}
	return t
}
