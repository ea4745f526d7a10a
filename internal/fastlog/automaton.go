package fastlog

// The automaton of the texts between values, and how it learns.

import (
	"bytes"
	"encoding/binary"
	"errors"
	"io"
	"slices"
	"strings"

	"github.com/go-json-experiment/json/jsontext"
)

// shapes is a finite automaton that knows the shapes of lines: what stands between their values,
// and which value is which. A plain string between quotation marks can be exchanged for any other,
// so whatever the automaton takes is as the library would read it, but for what the values mean.
type shapes struct {
	states  []state        // by number; a line begins in the first
	numbers map[string]int // of states, by what is open there and which names stood in it
	learned int            // bytes of lines
}

// state is where a line stands after a value, or before the first.
type state struct{ edges []edge } // the longest text first

// edge leads from the end of a value to the beginning of the next.
type edge struct {
	text   []byte          // what stands between them
	head   uint64          // its first word,
	mask   uint64          // what counts of that,
	tail   uint64          // and its last word, if it has more than one
	begins []func(*Reader) // the containers within it of which it counts that they are there
	field  *field          // of the next value; nil is the end of the line
	to     int             // the state after that
}

func newEdge(s step, to int) edge {
	g := fingerprintOf(s.text)
	e := edge{text: s.text, head: g.head, mask: ^uint64(0), tail: g.tail, begins: s.begins, field: s.field, to: to}
	if g.length < word {
		e.mask >>= 8 * (word - g.length)
	}
	return e
}

// next is the edge from a state that a text begins with; nil is none. Most edges are of one or two words.
func (a *shapes) next(state int, data []byte) *edge {
	if state >= len(a.states) {
		return nil
	}
	edges, head := a.states[state].edges, firstWord(data)
	for i := range edges {
		if e := &edges[i]; head&e.mask == e.head && e.goesOn(data) {
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

// learn learns the shape of a line that the library could read.
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
	from := a.number("")
	for _, s := range steps {
		to := a.number(s.state)
		edges := a.states[from].edges
		if !slices.ContainsFunc(edges, func(e edge) bool { return bytes.Equal(e.text, s.text) }) {
			if len(edges) == mostEdges {
				return
			}
			edges = append(edges, newEdge(s, to))
			slices.SortStableFunc(edges, func(a, b edge) int { return len(b.text) - len(a.text) }) // a comma may begin others
			a.states[from].edges = edges
		}
		from = to
	}
}

// number is that of a state, which is begun where there is none of the name; the first has none.
func (a *shapes) number(name string) int {
	n, known := a.numbers[name]
	if !known {
		if a.numbers == nil {
			a.numbers = map[string]int{}
		}
		n = len(a.states)
		a.numbers[name] = n
		a.states = append(a.states, state{})
	}
	return n
}

// step is an edge that a line takes.
type step struct {
	text   []byte
	begins []func(*Reader)
	field  *field
	state  string // that it leads to: the open arrays, and the open objects with the names in them; "" at the end
}

// walk takes a line apart into steps.
type walk struct {
	tokens *jsontext.Decoder
	data   []byte
	from   int // where the step at hand begins
	begins []func(*Reader)
	open   []opened
	steps  []step
}

// opened is an object or array that is open.
type opened struct {
	names string // of an object, each in quotation marks, after a brace; a bracket for an array
	at    string // the path of the value at hand
}

// stepsOf takes a line apart. It fails where values are not plain, or not read quickly.
func stepsOf(data []byte) ([]step, bool) {
	w := walk{tokens: jsontext.NewDecoder(bytes.NewReader(data)), data: data}
	for {
		t, err := w.tokens.ReadToken()
		switch {
		case errors.Is(err, io.EOF):
			return append(w.steps, step{text: bytes.Clone(data[w.from:]), begins: w.begins}), true
		case err != nil || !w.token(t):
			return nil, false
		}
	}
}

func (w *walk) token(t jsontext.Token) bool {
	switch kind := t.Kind(); kind {
	case '{', '[':
		return w.begin(kind)
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

func (w *walk) begin(kind jsontext.Kind) bool {
	path := w.path()
	f := fieldAt(path)
	if f != nil && f.kind != container || len(w.open) == mostNestings {
		return false
	}
	if f != nil && f.begin != nil {
		w.begins = append(w.begins, f.begin)
	}
	c := opened{names: kind.String()}
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
	f := fieldAt(path)
	switch {
	case f == nil && quoted:
		f = &anyText
	case f == nil:
		f = &anyScalar
	case t.Kind() == 'n' && f.kind != scalar && !strings.HasSuffix(path, "*"), f.kind == constant:
		return true // part of the text between values
	case f.kind == container || f.kind == library || quoted != (f.kind == text):
		return false
	}
	value, end := t.String(), int(w.tokens.InputOffset())
	start := end - len(value)
	if quoted { // its quotation marks stand between the values
		start, end = start-1, end-1
		if w.data[start-1] != '"' || textLength(w.data[start:]) != len(value) {
			return false
		}
	}
	names := ""
	for _, o := range w.open {
		names += o.names
	}
	w.steps = append(w.steps, step{bytes.Clone(w.data[w.from:start]), w.begins, f, names})
	w.from, w.begins = end, nil
	return true
}
