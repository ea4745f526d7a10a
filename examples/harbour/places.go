package main

// Where somebody is and on which device is made up, too: whoever tries the harbour chooses it, on its first page.

import (
	"embed"
	"html/template"
	"net/http"
	"net/netip"
	"time"

	"briskwarden.example/briskwarden/signon"
)

//go:embed pages
var pages embed.FS

var templates = template.Must(template.ParseFS(pages, "pages/*.html"))

// place is where somebody can be.
type place struct{ ID, Name, Address string }

var places = []place{
	{"norvik", "In the harbour office of Norvik", "192.0.2.14"},
	{"terminal", "At a terminal on the quay", "198.51.100.205"},
	{"home", "At home, in Norway", "203.0.113.20"},
	{"abroad", "Abroad, in Portugal", "203.0.113.49"},
	{"relay", "Behind a relay that hides where one is", "203.0.113.77"},
}

// device is what somebody can be on.
type device struct {
	ID, Name string
	device   *signon.Device
}

var devices = []device{
	{"own", "A laptop of one's own", &signon.Device{OS: "linux", Form: "laptop", Managed: signon.No}},
	{"office", "A managed laptop of the office", &signon.Device{ID: "norvik-lap-01"}},
	{"phone", "A phone whose disk is not encrypted", &signon.Device{OS: "android", Version: "15", Form: "mobile", Encrypted: signon.No, ScreenLock: signon.Yes, Jailbroken: signon.No}},
}

// The cookies that say so.
const (
	placeCookie     = "harbour_place"
	madeUpDevice    = "harbour_device"
	circumstancesIn = 400 * 24 * time.Hour
)

// addressOf is the address of whoever says where she is.
func addressOf(r *http.Request) netip.Addr {
	chosen := places[0]
	if c, err := r.Cookie(placeCookie); err == nil {
		for _, p := range places {
			if p.ID == c.Value {
				chosen = p
			}
		}
	}
	return netip.MustParseAddr(chosen.Address)
}

// circumstances are the made-up ones of a request.
func circumstances(r *http.Request) (netip.Addr, *signon.Device) {
	if c, err := r.Cookie(madeUpDevice); err == nil {
		for _, d := range devices {
			if d.ID == c.Value {
				return addressOf(r), d.device
			}
		}
	}
	return addressOf(r), devices[0].device
}

// home is the harbour's first page: where to go, and where to be.
func (h *harbour) home(w http.ResponseWriter, r *http.Request) {
	chosen := func(name, first string) string {
		if c, err := r.Cookie(name); err == nil {
			return c.Value
		}
		return first
	}
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	_ = templates.ExecuteTemplate(w, "home", map[string]any{"Places": places, "Devices": devices, "Place": chosen(placeCookie, places[0].ID), "Device": chosen(madeUpDevice, devices[0].ID),
		"Sites": h.addresses(), "Behind": h.behind, "Now": h.now().In(oslo).Format("Monday 2 January 2006, 15:04")})
}

var oslo = func() *time.Location {
	zone, err := time.LoadLocation("Europe/Oslo")
	if err != nil {
		return time.UTC
	}
	return zone
}()

// choose takes where somebody is, and on what.
func (h *harbour) choose(w http.ResponseWriter, r *http.Request) {
	for cookie, value := range map[string]string{placeCookie: r.PostFormValue("place"), madeUpDevice: r.PostFormValue("device")} {
		http.SetCookie(w, &http.Cookie{Name: cookie, Value: value, Domain: domain, Path: "/", MaxAge: int(circumstancesIn.Seconds()), HttpOnly: true, SameSite: http.SameSiteLaxMode})
	}
	http.Redirect(w, r, "/", http.StatusSeeOther)
}

// pocket is a made-up phone: it shows the code of anybody's app.
func (h *harbour) pocket(w http.ResponseWriter, r *http.Request) {
	user := r.URL.Query().Get("user")
	code, has := h.vault.Code(user)
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	_ = templates.ExecuteTemplate(w, "pocket", map[string]any{"User": user, "Code": code, "Has": has, "Asked": user != ""})
}
