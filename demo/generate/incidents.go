package main

// What goes wrong in the demo's weeks.

import (
	"time"

	"briskwarden.example/briskwarden/signon"
)

// Mira and Sten spend these days in a yard abroad.
const yardFrom, yardTo = 14, 19

func inYard(user string, day int) bool {
	return (user == "mira.holt" || user == "sten.rygg") && day >= yardFrom-1 && day <= yardTo
}

// incidents are what went wrong in the four weeks.
func (w *world) incidents() (visits []visit) {
	at := func(day int, hours float64, user, app, ip string, device *signon.Device, presents ...string) {
		visits = append(visits, visit{at: w.moment(day, hours), user: user, app: app, from: place{ip, device}, client: signon.Browser, presents: presents})
	}
	stranger := &signon.Device{OS: "windows", Form: "laptop"}
	// Elias's password is known to somebody who hides behind a relay, and tries at night.
	for i, hours := range []float64{3.1, 3.12, 3.2, 3.4} {
		at(23, hours, "elias.kvale", []string{"noticeboard", "payroll", "crew-roster", "ledger"}[i], "203.0.113.201", stranger, "password")
	}
	at(24, 2.9, "elias.kvale", "crew-roster", "203.0.113.77", stranger, "password")
	// Torben releases a payment at his desk, and an hour later seems to be in Portugal.
	at(17, 9.1, "torben.engan", "ledger", "192.0.2.22", &signon.Device{ID: "fin-lap-02", Reported: w.moment(17, 5.5)}, "password", "app-code")
	at(17, 10.2, "torben.engan", "payroll", "203.0.113.50", stranger, "password")
	// Two of the deck crew are abroad with a ferry in the yard.
	for day := yardFrom; day < yardTo; day++ {
		at(day, 8.5, "mira.holt", "crew-roster", "203.0.113.49", &signon.Device{ID: "deck-tab-03"}, "password")
		at(day, 19.2, "sten.rygg", "crew-roster", "203.0.113.66", home(40).device, "password")
	}
	// Hedda cannot sleep, and looks at the tills.
	at(20, 3.7, "hedda.roth", "ticketing", "203.0.113.9", home(41).device, "password")
	// The payroll clerk tries from a phone without disk encryption.
	open := &signon.Device{ID: "ylva-phone", OS: "ios", Version: "17.4", Form: "mobile", Encrypted: signon.No, ScreenLock: signon.Yes, Jailbroken: signon.No}
	at(22, 12.1, "ylva.fjell", "payroll", "203.0.113.12", open, "passkey", "password")
	at(22, 12.15, "ylva.fjell", "payroll", "203.0.113.12", open, "passkey", "password")
	// An old mail program knocks every morning.
	for day := range days {
		if wd := w.moment(day, 7).Weekday(); wd != time.Sunday && wd != time.Saturday {
			visits = append(visits, visit{at: w.moment(day, 6.5), user: "vilde.solvang", app: "noticeboard", from: place{ip: "192.0.2.38"},
				client: signon.Legacy, presents: []string{"password"}, givesUp: true})
		}
	}
	// Somebody takes an envelope out of the safe, to see that it works.
	at(15, 14.0, "envelope.blue", "harbour-admin", "192.0.2.51", nil, "security-key")
	return visits
}
