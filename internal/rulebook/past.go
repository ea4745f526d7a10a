package rulebook

// The logs that a rulebook's history begins with.

import (
	"io"
	"strings"

	"briskwarden.example/briskwarden/internal/history"
	"briskwarden.example/briskwarden/language/ast"
)

// history reads the logs of past sign-ons.
func (r *resolver) history(logs []ast.Name) {
	if len(logs) == 0 {
		return
	}
	r.rb.Past = history.NewPast(r.rb.Zone)
	r.rb.Logged = &LoggedWords{OS: map[string]bool{}, Form: map[string]bool{}}
	for _, f := range logs {
		r.each(f, func(file string, in io.Reader) error {
			loaded := r.loading(file)
			r.rb.PastLogs = append(r.rb.PastLogs, file)
			twice := 0
			passed, err := history.ReadLog(in, r.rb.Atlas, func(s history.SignOn) {
				if r.rb.Past.Learn(&s) {
					loaded.add(1, "past sign-on")
				} else {
					twice++
				}
			}, r.rb.Logged.add)
			loaded.aside(passed, "not granted")
			loaded.aside(twice, "known already")
			return err
		})
	}
}

// LoggedWords are the words that past sign-ons state of devices.
type LoggedWords struct{ OS, Form map[string]bool }

// mostWords is how many of each are kept.
const mostWords = 1000

func (w *LoggedWords) add(d history.Device) {
	for _, x := range []struct {
		words map[string]bool
		word  string
	}{{w.OS, d.OS}, {w.Form, d.Form}} {
		if x.word != "" && !x.words[x.word] && len(x.words) < mostWords {
			x.words[strings.Clone(x.word)] = true
		}
	}
}
