package main

// How the demo's people sign on, day by day.

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"briskwarden.example/briskwarden/internal/rulebook"
	"briskwarden.example/briskwarden/signon"
)

// The four weeks of the log.
const days = 28

var firstDay = time.Date(2026, 10, 26, 0, 0, 0, 0, time.UTC)

// moment is a time of a day of the log on the wall clock.
func (w *world) moment(day int, hours float64) time.Time {
	d := firstDay.AddDate(0, 0, day)
	return time.Date(d.Year(), d.Month(), d.Day(), 0, 0, int(hours*3600), 0, w.zone)
}

// routine is what people do on ordinary days.
func (w *world) routine() (visits []visit) {
	for day := range days {
		for i, p := range w.people() {
			visits = append(visits, w.dayOf(p, i, day)...)
		}
	}
	return visits
}

func (w *world) people() (list []*rulebook.Person) {
	for _, p := range w.rb.People {
		list = append(list, p)
	}
	slices.SortFunc(list, func(a, b *rulebook.Person) int { return strings.Compare(a.ID, b.ID) })
	return list
}

// in reports whether the person is in a group.
func (w *world) in(p *rulebook.Person, group string) bool {
	id, ok := w.rb.Groups.Lookup(group)
	return ok && p.In(id)
}

// trade is how those of a group spend a day ashore.
type trade struct {
	group      string
	apps       []string
	begin, end float64 // hours of the day
	saturdays  bool
	net        string // of its office
	net6       string // where the office also has IPv6
	devices    string
	shared     int // how many devices are shared; 0 is one's own
}

var trades = []trade{
	{"norvik-office", []string{"noticeboard", "berth-planner", "crew-roster", "berth-planner"}, 7.2, 16.3, false, "192.0.2.", "2001:db8:40::", "norvik-lap", 0},
	{"sundhamn-office", []string{"noticeboard", "berth-planner", "crew-roster"}, 7.4, 16.1, false, "192.0.2.6", "2001:db8:41::", "sundhamn-lap", 0},
	{"eastholm-office", []string{"noticeboard", "berth-planner", "crew-roster"}, 7.6, 16.6, false, "192.0.2.13", "2001:db8:42::", "eastholm-lap", 0},
	{"ticket-desk", []string{"ticketing", "ticketing", "noticeboard"}, 7.1, 17.2, true, "192.0.2.3", "", "desk", 4},
	{"finance", []string{"payroll", "ledger", "noticeboard"}, 7.8, 16.8, false, "192.0.2.2", "", "fin-lap", 0},
	{"harbour-it", []string{"harbour-admin", "noticeboard", "ledger"}, 7.9, 17.5, false, "192.0.2.5", "", "it-lap", 0},
}

func (w *world) dayOf(p *rulebook.Person, number, day int) []visit {
	at := w.moment(day, 0)
	switch {
	case p.BreakGlass || p.Joined.After(at) || strings.HasPrefix(p.ID, "old.") || inYard(p.ID, day):
		return nil
	case p.Type == "service":
		return w.machine(p, day)
	case p.Type == "guest":
		return w.contractor(p, number, day)
	case w.in(p, "crews"):
		return w.afloat(p, number, day)
	}
	for _, t := range trades {
		if w.in(p, t.group) {
			return w.ashore(p, &t, number, day)
		}
	}
	return nil
}

// ashore is a day in an office or at a desk: more early in the morning and after lunch.
func (w *world) ashore(p *rulebook.Person, t *trade, number, day int) (visits []visit) {
	weekday := w.moment(day, 12).Weekday()
	if weekday == time.Sunday || weekday == time.Saturday && (!t.saturdays || w.rand.IntN(3) > 0) || w.rand.IntN(12) == 0 {
		return nil // a day off
	}
	at := place{ip: fmt.Sprintf("%s%d", t.net, 1+number%9), device: w.fleet(t, p, number, day)}
	if t.net6 != "" && w.rand.IntN(4) == 0 {
		at.ip = fmt.Sprintf("%s%x", t.net6, 0x10+number)
	}
	for i := range 2 + w.rand.IntN(2) {
		hour := t.begin + w.rand.Float64()*0.6
		if i > 0 {
			hour = t.begin + 1 + w.rand.Float64()*(t.end-t.begin-1)
		}
		visits = append(visits, visit{at: w.moment(day, hour), user: p.ID, app: t.apps[w.rand.IntN(len(t.apps))], from: at,
			client: signon.Browser, presents: w.presents(p)})
	}
	return visits
}

// fleet is the device of the inventory that the person uses.
func (w *world) fleet(t *trade, p *rulebook.Person, number, day int) *signon.Device {
	if t.shared > 0 {
		return &signon.Device{ID: fmt.Sprintf("%s-%02d", t.devices, 1+number%t.shared)}
	}
	for i := 1; i <= 9; i++ {
		id := fmt.Sprintf("%s-%02d", t.devices, i)
		if r := w.rb.Devices.Device(id); r != nil && r.Owner == p.ID {
			return &signon.Device{ID: id, Reported: w.lastReport(id, day)}
		}
	}
	return &signon.Device{ID: t.devices + "-spare"}
}

// lastReport is when the device last reported: at dawn, but for the one that stopped.
func (w *world) lastReport(id string, day int) time.Time {
	if id == "fin-lap-04" {
		day = min(day, 24)
	}
	return w.moment(day, 5.5)
}

// presents is what the person begins with.
func (w *world) presents(p *rulebook.Person) []string {
	passkey, _ := w.rb.Methods.Lookup("passkey")
	if p.Methods.Has(passkey.ID) && w.rand.IntN(5) < 2 {
		return []string{"passkey", "password"}
	}
	return []string{"password"}
}

// afloat is a day of the crews: a week aboard, a week at home.
func (w *world) afloat(p *rulebook.Person, number, day int) (visits []visit) {
	if (day/7+number)%2 == 1 {
		if w.rand.IntN(4) > 0 {
			return nil
		}
		return []visit{{at: w.moment(day, 9+w.rand.Float64()*12), user: p.ID, app: []string{"crew-roster", "noticeboard"}[w.rand.IntN(2)],
			from: home(number), client: signon.Browser, presents: w.presents(p)}}
	}
	tablet, apps := "deck-tab-%02d", []string{"crew-roster", "radio-log", "berth-planner", "noticeboard"}
	count := 7
	switch {
	case w.in(p, "engine-crew"):
		tablet, apps, count = "engine-tab-%02d", []string{"engine-log", "engine-log", "crew-roster", "noticeboard"}, 4
	case w.in(p, "galley-crew"):
		tablet, apps, count = "galley-tab-%02d", []string{"crew-roster", "noticeboard"}, 2
	}
	device := &signon.Device{ID: fmt.Sprintf(tablet, 1+number%count)}
	aboard := place{fmt.Sprintf("198.51.100.%d", 64+number%30), device}
	start := []float64{5.6, 13.5, 21.5}[(number+day/7)%3] // the watch; the last runs past midnight
	for i := range 2 + w.rand.IntN(3) {
		from := aboard
		if i == 0 && w.rand.IntN(3) == 0 {
			from.ip = fmt.Sprintf("198.51.100.%d", 1+number%40) // a terminal on the quay
		}
		visits = append(visits, visit{at: w.moment(day, start+w.rand.Float64()*7), user: p.ID, app: apps[w.rand.IntN(len(apps))], from: from,
			client: signon.Native, presents: w.presents(p)})
	}
	return visits
}

// home is an own phone at home.
func home(number int) place {
	d := &signon.Device{OS: "android", Version: "14", Form: "mobile", Encrypted: signon.Yes, ScreenLock: signon.Yes, Jailbroken: signon.No}
	if number%3 == 0 {
		d.OS, d.Version = "ios", "17.4"
	}
	d.ID = fmt.Sprintf("phone-%02d", number)
	return place{fmt.Sprintf("203.0.113.%d", 2+number%28), d}
}

// contractor looks at the engine log once or twice a week, from where the ferry firm sails to.
func (w *world) contractor(p *rulebook.Person, number, day int) []visit {
	if weekday := w.moment(day, 12).Weekday(); weekday == time.Sunday || weekday == time.Saturday || w.rand.IntN(4) > 0 {
		return nil
	}
	ip := []string{"203.0.113.65", "203.0.113.35"}[number%2]
	device := &signon.Device{ID: fmt.Sprintf("gearwright-%d", number%7), OS: "windows", Form: "laptop"}
	return []visit{{at: w.moment(day, 8+w.rand.Float64()*8), user: p.ID, app: "engine-log", from: place{ip, device}, client: signon.Browser,
		presents: []string{"password"}}}
}

// machine is a scanner on its quay, or the tide gauge.
func (w *world) machine(p *rulebook.Person, day int) (visits []visit) {
	if p.ID == "svc-tide-gauge" {
		for hour := 0; hour < 24; hour += 8 {
			visits = append(visits, visit{at: w.moment(day, float64(hour)+0.05), user: p.ID, app: "noticeboard", from: place{ip: "198.51.100.30"},
				client: signon.Unattended, presents: []string{"certificate"}})
		}
		return visits
	}
	box := map[string]string{"svc-scanner-norvik": "198.51.100.201", "svc-scanner-sundhamn": "198.51.100.205", "svc-scanner-eastholm": "198.51.100.209"}[p.ID]
	for hour := 5.5; hour < 23; hour += 3 {
		visits = append(visits, visit{at: w.moment(day, hour+w.rand.Float64()*0.4), user: p.ID, app: "berth-planner", from: place{ip: box},
			client: signon.Unattended, presents: []string{"password"}})
	}
	return visits
}
