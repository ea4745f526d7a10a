package service

// What one caller, and one person, may take of what all share.

import (
	"errors"
	"io"
	"net/http"
	"sync"
	"time"
)

// The bounds of requests and of their bodies while they are read.
const (
	mostOfCaller   = 512 // requests in flight of one caller
	mostReading    = 64 << 20
	mostReadingOne = 16 << 20 // of one caller
	bodyTime       = 10 * time.Second
)

// quotas count what callers take.
type quotas struct {
	mu      sync.Mutex
	reading int64
	callers map[string]*taken
}

type taken struct {
	requests int
	reading  int64
}

// of counts what a caller takes. The lock is held.
func (q *quotas) of(caller string) *taken {
	if q.callers == nil {
		q.callers = map[string]*taken{}
	}
	t := q.callers[caller]
	if t == nil {
		t = &taken{}
		q.callers[caller] = t
	}
	return t
}

// enter takes a place for a request of a caller; false is that it has too many.
func (q *quotas) enter(caller string) (leave func(), ok bool) {
	q.mu.Lock()
	defer q.mu.Unlock()
	t := q.of(caller)
	if t.requests >= mostOfCaller {
		return nil, false
	}
	t.requests++
	return func() {
		q.mu.Lock()
		defer q.mu.Unlock()
		if t.requests--; t.requests == 0 && t.reading == 0 {
			delete(q.callers, caller)
		}
	}, true
}

// take takes room for a part of a body that was read; false is that there is none. It is given back by a negative size.
func (q *quotas) take(caller string, size int64) bool {
	q.mu.Lock()
	defer q.mu.Unlock()
	t := q.of(caller)
	if size > 0 && (q.reading+size > mostReading || t.reading+size > mostReadingOne) {
		return false
	}
	q.reading += size
	t.reading += size
	return true
}

// counted is a body whose parts count for its caller as they are read.
type counted struct {
	io.ReadCloser
	quotas *quotas
	caller string
	taken  int64
	full   bool
}

func (c *counted) Read(p []byte) (int, error) {
	n, err := c.ReadCloser.Read(p)
	if n > 0 && !c.quotas.take(c.caller, int64(n)) {
		c.full = true
		return 0, errFull
	}
	c.taken += int64(n)
	return n, err
}

var errFull = errors.New("too many bodies are being read")

// readBounded reads the body of a caller's request, in the room and the time that it may take.
func (s *Service) readBounded(w http.ResponseWriter, r *http.Request, caller string, types []string) ([]byte, *refusal) {
	body := &counted{ReadCloser: r.Body, quotas: &s.quotas, caller: caller}
	read := *r // the server looks at the body of its own when it answers
	read.Body = body
	defer func() { s.quotas.take(caller, -body.taken) }()
	c := http.NewResponseController(w)
	if c.SetReadDeadline(time.Now().Add(bodyTime)) == nil { // which not every connection can
		defer func() { _ = c.SetReadDeadline(time.Time{}) }()
	}
	data, no := readBody(w, &read, types)
	if body.full {
		return nil, busy
	}
	return data, no
}

// busy is the answer where there is no room just now.
var busy = &refusal{status: http.StatusServiceUnavailable, message: "too many requests at once", retry: true}

// The bounds of reasons that are kept of one person: no more than a person reads.
const (
	reasonsAtOnce = 20
	reasonEach    = 3 * time.Second
)
