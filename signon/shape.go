package signon

import (
	"bytes"
	"encoding/binary"
	"errors"
	"io"
	"slices"
	"strings"

	"github.com/go-json-experiment/json/jsontext"
)

// shapes is a finite automaton that knows the shapes of requests: what stands between their
// values, and which value is which. It learns them from requests that the JSON library could
// read. A plain string between quotation marks can be exchanged for any other, so whatever
// the automaton takes is as the library would read it, but for what the values mean.
type shapes struct {
	start   state
	states  map[string]*state // by what is open there, and which names stood in it
	learned int               // bytes of requests
}

// state is where a request stands after a value, or before the first.
type state struct{ edges []edge } // the longest text first

// edge leads from the end of a value to the beginning of the next.
type edge struct {
	text  []byte  // what stands between them
	head  uint64  // its first word,
	mask  uint64  // what counts of that,
	tail  uint64  // and its last word, if it has more than one
	opens opening // within it
	slot  slot    // of the next value
	to    *state  // after that; nil is the end of the request, without a next value
}

// opening is a set of containers that begin.
type opening uint8

const (
	opensDevice opening = 1 << iota
	opensPresented
	opensEvidence
)

func newEdge(p step, to *state) edge {
	g := gistOf(p.text)
	e := edge{text: p.text, head: g.head, mask: ^uint64(0), tail: g.tail, opens: p.opens, slot: p.slot, to: to}
	if g.length < word {
		e.mask >>= 8 * (word - g.length)
	}
	return e
}

// next is the edge that a text begins with; nil is none. Most edges are of one or two words.
func (s *state) next(data []byte) *edge {
	head := firstWord(data)
	for i := range s.edges {
		if e := &s.edges[i]; head&e.mask == e.head && e.goesOn(data) {
			return e
		}
	}
	return nil
}

// goesOn reports whether data that has the edge's head has all of its text.
func (e *edge) goesOn(data []byte) bool {
	n := len(e.text)
	if n <= word || n > len(data) {
		return n <= len(data)
	}
	if binary.LittleEndian.Uint64(data[n-word:]) != e.tail {
		return false
	}
	for i := word; i < n-word; i += word {
		if binary.LittleEndian.Uint64(data[i:]) != binary.LittleEndian.Uint64(e.text[i:]) {
			return false
		}
	}
	return true
}

// The most that is learned. What is beyond is left to the library.
const (
	mostLearned  = 1 << 20 // bytes of requests
	mostOfOne    = 8 << 10 // bytes of one request
	mostEdges    = 16      // of a state
	mostNestings = 8
)

// learn learns the shape of a request that the library could read.
func (a *shapes) learn(data []byte) {
	data = bytes.TrimRight(data, blanks)
	if len(data) > mostOfOne || a.learned > mostLearned {
		return
	}
	a.learned += len(data)
	steps, ok := stepsOf(data)
	if !ok {
		return
	}
	s := &a.start
	for _, p := range steps {
		to := a.state(p.state)
		if !slices.ContainsFunc(s.edges, func(e edge) bool { return bytes.Equal(e.text, p.text) }) {
			if len(s.edges) == mostEdges {
				return
			}
			s.edges = append(s.edges, newEdge(p, to))
			slices.SortStableFunc(s.edges, func(a, b edge) int { return len(b.text) - len(a.text) }) // a comma may begin others
		}
		s = to
	}
}

// state finds a state by its name, and begins it where there is none; the end has none.
func (a *shapes) state(name string) *state {
	if name == "" {
		return nil
	}
	if a.states == nil {
		a.states = map[string]*state{}
	}
	if a.states[name] == nil {
		a.states[name] = &state{}
	}
	return a.states[name]
}

// step is an edge that a request takes.
type step struct {
	text  []byte
	opens opening
	slot  slot
	state string // that it leads to: the open arrays, and the open objects with the names in them; "" is the end
}

// walk takes a request apart into steps.
type walk struct {
	tokens *jsontext.Decoder
	data   []byte
	from   int // where the step at hand begins
	opens  opening
	open   []container
	steps  []step
}

// container is an object or array that is open.
type container struct {
	names string // of an object, each in quotation marks, after a brace; a bracket for an array
	at    string // the path of the value at hand
}

// stepsOf takes a request apart. It fails where values are not plain, or not read quickly.
func stepsOf(data []byte) ([]step, bool) {
	w := walk{tokens: jsontext.NewDecoder(bytes.NewReader(data)), data: data}
	for {
		t, err := w.tokens.ReadToken()
		switch {
		case errors.Is(err, io.EOF):
			return append(w.steps, step{text: bytes.Clone(data[w.from:]), opens: w.opens}), true
		case err != nil || !w.token(t):
			return nil, false
		}
	}
}

func (w *walk) token(t jsontext.Token) bool {
	switch kind := t.Kind(); kind {
	case '{', '[':
		return w.opened(kind)
	case '}', ']':
		w.open = w.open[:len(w.open)-1]
		return true
	case '"':
		if in, n := w.tokens.StackIndex(w.tokens.StackDepth()); in == '{' && n%2 == 1 {
			return w.named(t.String())
		}
	}
	return w.value(t)
}

// path is where the value at hand stands, such as context/device/id or context/presented/*.
func (w *walk) path() string {
	if len(w.open) == 0 {
		return ""
	}
	return w.open[len(w.open)-1].at
}

func (w *walk) opened(kind jsontext.Kind) bool {
	path := w.path()
	if slot, known := slotAt(path); known && slot != slotContainer || len(w.open) == mostNestings {
		return false
	}
	w.opens |= openings[path]
	c := container{names: kind.String()}
	if kind == '[' {
		c.at = path + "/*"
	}
	w.open = append(w.open, c)
	return true
}

func (w *walk) named(name string) bool {
	c := &w.open[len(w.open)-1]
	c.names += `"` + name + `"`
	c.at = name
	if len(w.open) > 1 {
		c.at = w.open[len(w.open)-2].at + "/" + name
	}
	return !strings.ContainsAny(name, `/"`)
}

func (w *walk) value(t jsontext.Token) bool {
	path, quoted := w.path(), t.Kind() == '"'
	slot, known := slotAt(path)
	switch {
	case !known && quoted:
		slot = slotIgnored
	case !known:
		slot = slotIgnoredScalar
	case t.Kind() == 'n' && !slot.scalar() && !strings.HasSuffix(path, "*"), slot == slotType:
		return true // part of the text between values
	case slot == slotContainer || slot == slotLibrary || quoted == slot.scalar():
		return false
	}
	text, end := t.String(), int(w.tokens.InputOffset())
	start := end - len(text)
	if quoted { // its quotation marks stand between the values
		start, end = start-1, end-1
		if w.data[start-1] != '"' || chars(w.data[start:]) != len(text) {
			return false
		}
	}
	names := ""
	for _, c := range w.open {
		names += c.names
	}
	w.steps = append(w.steps, step{bytes.Clone(w.data[w.from:start]), w.opens, slot, names})
	w.from, w.opens = end, 0
	return true
}
