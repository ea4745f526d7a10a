package desk

// Ending a session: at the desk at once, at the service and so at the gateways, and at the clients that are told, until they know.

import (
	"context"
	"log/slog"
	"time"
)

// How long the desk waits for an answer, how long until it asks the service again, and for how long it does so.
const (
	answerTime = 2 * time.Second
	endAgain   = 5 * time.Second
	endFor     = 24 * time.Hour
)

// end ends the session of a browser; the channel is closed once the service knows of it, and nil where nobody was signed on.
// The lock is held.
func (d *Desk) end(b *browser) (known chan struct{}) {
	user, session := b.user, b.session
	b.user, b.session, b.shown = "", "", nil
	if user == "" {
		return nil
	}
	for code, g := range d.codes {
		if g.session == session {
			delete(d.codes, code)
		}
	}
	for code, g := range d.siteCodes {
		if g.claims["sid"] == session {
			delete(d.siteCodes, code)
		}
	}
	d.ended[session] = d.Now()
	for old, at := range d.ended {
		if d.Now().Sub(at) > tokensFor {
			delete(d.ended, old)
		}
	}
	told := d.signedIn[session]
	delete(d.signedIn, session)
	known = make(chan struct{})
	go d.endAtService(user, session, known)
	for _, c := range told {
		go d.tellClient(c, user, session)
	}
	return known
}

// endAtService ends a session at the service, and tries again while the service is away.
func (d *Desk) endAtService(user, session string, known chan struct{}) {
	for begun := time.Now(); time.Since(begun) < endFor; time.Sleep(endAgain) {
		ctx, cancel := context.WithTimeout(context.Background(), answerTime)
		err := d.Decisions.EndSession(ctx, user, session)
		cancel()
		if err == nil {
			close(known)
			return
		}
		d.Log.Error("a session could not be ended at the decision service", slog.Any("error", err))
	}
}

func (d *Desk) tellClient(c *Client, user, session string) {
	ctx, cancel := context.WithTimeout(context.Background(), answerTime)
	defer cancel()
	if err := d.tellSignOut(ctx, c, user, session); err != nil {
		d.Log.Warn("a client was not told that somebody signed out", slog.String("client", c.ID), slog.Any("error", err))
	}
}

// endWhere ends those sessions that a person has in other browsers.
func (d *Desk) endWhere(own *browser, is func(*browser) bool) {
	d.mu.Lock()
	defer d.mu.Unlock()
	user := own.user
	for _, b := range d.browsers {
		if b == own || b.user != user || !is(b) {
			continue
		}
		session := b.session
		go func() { // once it has done what it does
			b.busy.Lock()
			defer b.busy.Unlock()
			d.mu.Lock()
			defer d.mu.Unlock()
			if b.session == session {
				d.end(b)
			}
		}()
	}
}

// isOver reports whether a session was ended here.
func (d *Desk) isOver(session string) bool {
	d.mu.Lock()
	defer d.mu.Unlock()
	_, over := d.ended[session]
	return over
}
