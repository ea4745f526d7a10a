package signon

// Countries (ISO 3166-1).

import (
	"sync"

	"golang.org/x/text/language"
)

// IsCountry reports whether code is an officially assigned ISO 3166-1 alpha-2 code, in capitals.
func IsCountry(code string) bool {
	return len(code) == 2 && code[0]-'A' < letters && code[1]-'A' < letters && countries()[code[0]-'A'][code[1]-'A']
}

const letters = 26

// Countries lists the officially assigned ISO 3166-1 alpha-2 codes, in order.
func Countries() []string {
	list := make([]string, 0, 249)
	eachPair(func(code string) {
		if IsCountry(code) {
			list = append(list, code)
		}
	})
	return list
}

// unassigned are codes that the tables of the language library have with a number, though
// they are withdrawn, or left to their users.
var unassigned = map[string]bool{"AN": true, "CS": true, "NT": true, "SU": true, "XK": true, "YU": true}

// countries tells by the two letters of a code whether it is a country's.
var countries = sync.OnceValue(func() *[letters][letters]bool {
	var known [letters][letters]bool
	eachPair(func(code string) {
		r, err := language.ParseRegion(code)
		if err == nil && r.IsCountry() && r.String() == code && r.Canonicalize() == r && r.M49() != 0 && !unassigned[code] {
			known[code[0]-'A'][code[1]-'A'] = true
		}
	})
	return &known
})

func eachPair(f func(string)) {
	for a := 'A'; a <= 'Z'; a++ {
		for b := 'A'; b <= 'Z'; b++ {
			f(string(a) + string(b))
		}
	}
}
