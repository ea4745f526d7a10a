package memory

// Sessions and apps that meet behind a gateway, where no request says what was presented with it.

import (
	"time"

	"briskwarden.example/briskwarden/signon"
)

// How fresh a proof must be to count as presented when session and app meet, and how far clocks may be apart.
const (
	freshFor = time.Minute
	skew     = time.Minute
)

// gateway is what a sign-on to a gateway has in place of what is presented with it.
type gateway struct {
	meeting      // with the app
	sure    bool // whose proof it is
}

// Meet has proofs of the session count as presented with this sign-on, if they were fresh when it and the app met: first,
// or after they had been idle, or after the session was not let in. Given is when the proofs were, and they are among the
// sign-on's evidence. Sure says that they are by the methods that they are said to be by; others are not remembered.
func (r *Recall) Meet(given time.Time, sure bool) {
	g := &gateway{r.session.meeting(r.App), sure}
	r.gateway = g
	if r.Session.ID == "" || !r.At.Before(g.Until) {
		g.Until, g.Proof = time.Time{}, time.Time{}
		if age := r.At.Sub(given); age <= freshFor && age >= -skew {
			g.Proof = given // which tells the proof from others, too
		}
	}
	if g.Proof.IsZero() || !g.Proof.Equal(given) {
		return
	}
	for i := range r.Evidence { // what is void is not among it
		if e := &r.Evidence[i]; e.Time.Equal(given) && e.Session == r.Session.ID {
			r.Presented = append(r.Presented, e.Method)
		}
	}
}

// Stands says for how long a session and app that meet now have met, from the sign-on on.
func (r *Recall) Stands(idle time.Duration) { r.gateway.Until = r.At.Add(idle) }

// Given is evidence of methods that were given at a time in a session, for no app and on no device in particular.
func Given(methods []string, at time.Time, session string) (list []signon.Evidence) {
	for _, m := range methods {
		list = append(list, signon.Evidence{Method: m, Time: at, Session: session})
	}
	return list
}
