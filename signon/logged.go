package signon

// Lines of sign-on logs: requests, each with the outcome that was recorded for it.

import (
	"fmt"

	"github.com/go-json-experiment/json/jsontext"
)

// DecodeLogged reads one line of a sign-on log: a request, and the outcome that was recorded
// for it in context.outcome.
func DecodeLogged(data []byte) (Logged, error) {
	r, err := readRequest(data)
	if err == nil {
		err = r.check()
	}
	if err != nil {
		return Logged{}, err
	}
	return r.logged()
}

func (r *request) logged() (l Logged, err error) {
	if l.Outcome, l.Recorded, err = r.outcome(); err != nil {
		return Logged{}, err
	}
	if l.SignOn, err = r.signOn(); err == nil {
		err = l.NotSupposed()
	}
	if err != nil {
		return Logged{}, err
	}
	return l, nil
}

// outcome reads the one that was recorded, if there is one.
func (r *request) outcome() (o Outcome, recorded bool, err error) {
	word := r.Context.Outcome
	if len(word) == 0 || word.Kind() == 'n' {
		return o, false, nil
	}
	text, err := jsontext.AppendUnquote(nil, word)
	if err == nil {
		o, err = ParseOutcome(string(text))
	}
	if err != nil {
		return o, false, &FieldError{"context.outcome", fmt.Sprintf("%s is none of grant, review, step-up and block", word)}
	}
	return o, true, nil
}
