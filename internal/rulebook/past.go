package rulebook

import (
	"io"

	"briskwarden.example/briskwarden/internal/history"
	"briskwarden.example/briskwarden/language/ast"
)

// history reads the logs of past sign-ons.
func (r *resolver) history(logs []ast.Name) {
	if len(logs) == 0 {
		return
	}
	r.rb.Past = history.NewPast(r.rb.Zone)
	for _, f := range logs {
		r.each(f, func(file string, in io.Reader) error {
			loaded := r.loading(file)
			twice := 0
			passed, err := history.ReadLog(in, r.rb.Atlas, func(s history.SignOn) {
				if r.rb.Past.Learn(&s) {
					loaded.add(1, "past sign-on")
				} else {
					twice++
				}
			})
			loaded.aside(passed, "not granted")
			loaded.aside(twice, "known already")
			return err
		})
	}
}
