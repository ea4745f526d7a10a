// Package history has what was before a sign-on, and so what is new or unusual about it.
package history

import (
	"time"

	"briskwarden.example/briskwarden/internal/known"
	"briskwarden.example/briskwarden/internal/place"
)

// Window is how far back a sign-on is compared with those before it.
const Window = 90 * 24 * time.Hour

// Facts are what a history tells of one sign-on, and what it tells it by.
type Facts struct {
	NewCountry  known.Truth
	NewDevice   known.Truth
	OddHour     known.Truth
	TravelSpeed float64 // km/h
	TravelKnown bool

	Learned      int       // how many sign-ons of the user lie in the window
	AroundNow    int       // how many of them within an hour of this one's time of day; at least, unless the query counts
	CountrySeen  time.Time // last, if it is not new
	DeviceSeen   time.Time // last, if it is not new
	TravelKM     float64   // from the last sign-on with a position, less both accuracy radii
	TravelSince  time.Time // when that was; zero where there is none
	TravelledFor time.Duration

	Forgotten bool // some of the sign-ons in the window are remembered in part alone: Learned and AroundNow are what is sure
	Strayed   bool // where the user was last is no longer remembered, so that TravelSpeed is not known
}

// Query is a sign-on as a history is asked about it.
type Query struct {
	User    string
	At      time.Time
	Country string // empty is unknown
	Device  string // empty is unknown
	Place   place.Location
	Counts  bool // whether AroundNow counts all, and not only enough of them to tell an odd hour
}

// SignOn is a sign-on that a history learns.
type SignOn struct {
	Query
	ID string // the same one teaches once; may be empty
}

// Source tells what was before.
type Source interface {
	Before(*Query) Facts
}
