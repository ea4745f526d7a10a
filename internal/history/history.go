// Package history has what is new or unusual about a sign-on, seen against those before it.
package history

import (
	"time"

	"briskwarden.example/briskwarden/internal/known"
)

// Facts are what a history tells of one sign-on.
type Facts struct {
	NewCountry  known.Truth
	NewDevice   known.Truth
	OddHour     known.Truth
	TravelSpeed float64 // km/h
	TravelKnown bool
}

// Query is a sign-on as a history is asked about it.
type Query struct {
	User    string
	At      time.Time
	Country string // empty is unknown
	Device  string // empty is unknown
}

// Source tells what was before.
type Source interface {
	Before(Query) Facts
}
