package service

// How requests are taken up and answered.

import (
	"bytes"
	"context"
	"fmt"
	"log/slog"
	"mime"
	"net/http"
	"runtime/debug"
	"slices"
	"strings"
	"time"

	"github.com/go-json-experiment/json/jsontext"

	"briskwarden.example/briskwarden"
	"briskwarden.example/briskwarden/internal/bridge"
	"briskwarden.example/briskwarden/internal/engine"
	"briskwarden.example/briskwarden/internal/plainjson"
	"briskwarden.example/briskwarden/internal/rulebook"
)

// The limits of requests.
const (
	mostBody     = 1 << 20 // bytes
	mostInFlight = 1024
	mostTime     = 30 * time.Second // for reading a request, and for answering it
)

// refusal is an answer that says why it is none.
type refusal struct {
	status  int
	message string
	retry   bool   // it may go well later
	kind    string // scimType of provisioning; may be empty
}

func refuse(status int, format string, args ...any) *refusal {
	return &refusal{status: status, message: fmt.Sprintf(format, args...)}
}

// asked is a request whose caller is known.
type asked struct {
	*http.Request
	caller *caller
	rules  *briskwarden.Rulebook // the one rulebook by which it is answered, held once all of it had been read
	engine *engine.Engine        // of it
	body   []byte
}

// answer is what is answered, in JSON; a status of zero is 200.
type answer struct {
	status int
	value  any
	page   []byte // in place of the value: HTML
	retry  bool
	header map[string]string
}

// endpoint is what the service does at a path.
type endpoint struct {
	method   string
	path     string
	right    rulebook.Right // that the caller needs
	hasBody  bool
	media    string // of the body; empty: JSON
	scim     bool   // it speaks SCIM, in bodies and errors
	tokenIn  string // the header with the caller's token; empty: Authorization
	answered func(ctx context.Context, r *asked) (answer, *refusal)
}

// newRoutes has what the service does, path by path.
func (s *Service) newRoutes() *http.ServeMux {
	mux := http.NewServeMux()
	methods := map[string][]string{}
	for _, e := range s.endpoints() {
		mux.HandleFunc(e.method+" "+e.path, func(w http.ResponseWriter, r *http.Request) { s.serve(w, r, &e) })
		methods[e.path] = append(methods[e.path], e.method)
	}
	for path, allowed := range methods {
		slices.Sort(allowed)
		mux.HandleFunc(path, func(w http.ResponseWriter, r *http.Request) {
			w.Header().Set("Allow", strings.Join(allowed, ", "))
			s.write(w, answer{}, refuse(http.StatusMethodNotAllowed, "%s is not answered here: %s is", r.Method, strings.Join(allowed, ", ")))
		})
	}
	mux.HandleFunc("/", func(w http.ResponseWriter, r *http.Request) {
		s.write(w, answer{}, refuse(http.StatusNotFound, "nothing is answered here"))
	})
	return mux
}

// ServeHTTP answers a request.
func (s *Service) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	defer s.inFlight.Add(-1)
	defer func() {
		if wrong := recover(); wrong != nil && wrong != http.ErrAbortHandler {
			s.Log.Error("a request could not be answered: this is a fault of the service", slog.Any("panic", wrong), slog.String("at", string(debug.Stack())))
			s.write(w, answer{}, refuse(http.StatusInternalServerError, "the service failed"))
		}
	}()
	if id := r.Header.Values("X-Request-ID"); len(id) == 1 && len(id[0]) <= 256 {
		w.Header().Set("X-Request-ID", id[0])
	}
	if s.inFlight.Add(1) > mostInFlight {
		s.write(w, answer{}, busy)
		return
	}
	s.routes.ServeHTTP(w, r)
}

// serve answers a request to an endpoint: whether the caller may, then whether it can be read.
func (s *Service) serve(w http.ResponseWriter, r *http.Request, e *endpoint) {
	ctx, cancel := context.WithTimeout(r.Context(), mostTime)
	defer cancel()
	a := &asked{Request: r, rules: s.rules.Rulebook()}
	no := s.admit(a, e)
	if no == nil && a.caller != nil {
		leave, ok := s.quotas.enter(a.caller.Name)
		if !ok {
			no = busy
		} else {
			defer leave()
		}
	}
	if no == nil && e.hasBody {
		types := []string{"application/json"}
		if e.scim {
			types = []string{scimMedia, "application/json"}
		}
		if e.media != "" {
			types = []string{e.media}
		}
		a.body, no = s.readBounded(w, r, a.caller.Name, types)
		if now := s.rules.Rulebook(); no == nil && now != a.rules { // it may have taken its time
			a.rules = now
			no = s.admit(a, e)
		}
	}
	var to answer
	if no == nil {
		to, no = e.answered(ctx, a)
	}
	if e.scim {
		w.Header().Set("Content-Type", scimMedia)
		if no != nil {
			to = scimError(no)
		}
		if to.value == nil {
			w.Header().Del("Content-Type")
		}
	}
	for name, value := range to.header {
		w.Header().Set(name, value)
	}
	s.write(w, to, no)
}

// admit finds who asks, by the rulebook of the request, and whether they may.
func (s *Service) admit(a *asked, e *endpoint) (no *refusal) {
	a.engine = bridge.Engine(a.rules)
	if e.right == 0 {
		return nil
	}
	if a.caller, no = s.identify(a.Request, e.tokenIn, a.engine.Rulebook()); no == nil && !a.caller.may(e.right) {
		no = s.forbidden(a.caller)
	}
	if no != nil && e.tokenIn != "" {
		no.status = http.StatusBadRequest
	}
	return no
}

// forbidden says what a caller may.
func (s *Service) forbidden(c *caller) *refusal {
	return refuse(http.StatusForbidden, "the caller %s may %s", c.Name, c.May)
}

func readBody(w http.ResponseWriter, r *http.Request, types []string) ([]byte, *refusal) {
	kind, _, err := mime.ParseMediaType(r.Header.Get("Content-Type"))
	switch {
	case err != nil || !slices.Contains(types, kind):
		return nil, refuse(http.StatusUnsupportedMediaType, "a request is %s", strings.Join(types, " or "))
	case r.ContentLength > mostBody:
		return nil, refuse(http.StatusRequestEntityTooLarge, "a request has at most %d bytes", mostBody)
	}
	var read bytes.Buffer
	read.Grow(int(min(max(r.ContentLength, 0), firstBytes)) + bytes.MinRead)
	_, err = read.ReadFrom(http.MaxBytesReader(w, r.Body, mostBody))
	if err != nil {
		if _, large := err.(*http.MaxBytesError); large {
			return nil, refuse(http.StatusRequestEntityTooLarge, "a request has at most %d bytes", mostBody)
		}
		return nil, refuse(http.StatusBadRequest, "the request could not be read to its end")
	}
	return read.Bytes(), nil
}

// firstBytes is how many bytes of a body are made room for before they have come.
const firstBytes = 64 << 10

// write writes an answer, or why there is none.
func (s *Service) write(w http.ResponseWriter, to answer, no *refusal) {
	h := w.Header()
	h.Set("Cache-Control", "no-store")
	h.Set("X-Content-Type-Options", "nosniff")
	if no != nil {
		if to.value == nil {
			to = answer{value: map[string]string{"error": no.message}}
		}
		to.status, to.retry = no.status, no.retry
		if no.status == http.StatusUnauthorized && h.Get("WWW-Authenticate") == "" {
			h.Set("WWW-Authenticate", "Bearer")
		}
	}
	if to.retry {
		h.Set("Retry-After", "1")
	}
	if to.status == 0 {
		to.status = http.StatusOK
	}
	if to.page != nil {
		h.Set("Content-Type", "text/html; charset=utf-8")
		w.WriteHeader(to.status)
		_, _ = w.Write(to.page)
		return
	}
	if to.value == nil {
		w.WriteHeader(to.status)
		return
	}
	body, err := plainjson.Marshal(to.value, jsontext.EscapeForHTML(true))
	if err != nil {
		s.Log.Error("an answer could not be written", slog.Any("error", err))
		w.WriteHeader(http.StatusInternalServerError)
		return
	}
	if h.Get("Content-Type") == "" {
		h.Set("Content-Type", "application/json")
	}
	w.WriteHeader(to.status)
	_, _ = w.Write(body) // whoever asked has gone, if it fails
}
