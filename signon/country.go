package signon

import (
	"sync"

	"golang.org/x/text/language"
)

// IsCountry reports whether code is an officially assigned ISO 3166-1 alpha-2 code, in capitals.
func IsCountry(code string) bool { return countries()[code] }

// Countries lists the officially assigned ISO 3166-1 alpha-2 codes, in order.
func Countries() []string {
	list := make([]string, 0, len(countries()))
	eachPair(func(code string) {
		if countries()[code] {
			list = append(list, code)
		}
	})
	return list
}

// unassigned are codes that the tables of the language library have with a number, though
// they are withdrawn, or left to their users.
var unassigned = map[string]bool{"AN": true, "CS": true, "NT": true, "SU": true, "XK": true, "YU": true}

var countries = sync.OnceValue(func() map[string]bool {
	known := make(map[string]bool, 249)
	eachPair(func(code string) {
		r, err := language.ParseRegion(code)
		if err == nil && r.IsCountry() && r.String() == code && r.Canonicalize() == r && r.M49() != 0 && !unassigned[code] {
			known[code] = true
		}
	})
	return known
})

func eachPair(f func(string)) {
	for a := 'A'; a <= 'Z'; a++ {
		for b := 'A'; b <= 'Z'; b++ {
			f(string(a) + string(b))
		}
	}
}
