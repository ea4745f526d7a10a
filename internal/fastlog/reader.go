package fastlog

// Reading one line.

import (
	"bytes"
	"encoding/binary"
	"math/bits"
	"slices"
	"unicode/utf8"

	"github.com/go-json-experiment/json/jsontext"

	"briskwarden.example/briskwarden/signon"
)

// Reader reads lines one after the other. Its zero value is ready for use, by one goroutine at a time.
type Reader struct {
	shapes shapes
	cache  cache

	to        *signon.Logged // the line at hand
	arena     *Arena         // of it; may be nil
	presented []string
	evidence  []signon.Evidence
}

var byteOrderMark = []byte("\ufeff")

// Read reads one line into l, which is good until the arena is freed; without an arena it is good
// for ever. It neither keeps nor changes the line. A field that cannot be read is a [*signon.FieldError].
func (r *Reader) Read(line []byte, l *signon.Logged, arena *Arena) (err error) {
	line = bytes.TrimPrefix(line, byteOrderMark)
	if r.quickly(line, l, arena) {
		return nil
	}
	return r.slowly(line, l, signon.DecodeLogged)
}

// ReadEvaluation reads a request as [signon.DecodeEvaluation] does; it is good for ever. A reader reads either these or
// lines of logs.
func (r *Reader) ReadEvaluation(request []byte, l *signon.Logged) error {
	request = bytes.TrimPrefix(request, byteOrderMark)
	if r.quickly(request, l, nil) && l.User != "" && l.Action != "" && l.App != "" {
		return nil
	}
	return r.slowly(request, l, signon.DecodeEvaluation)
}

// slowly has the library read a line, and learns its shape.
func (r *Reader) slowly(line []byte, l *signon.Logged, decode func([]byte) (signon.Logged, error)) (err error) {
	if *l, err = decode(line); err == nil && l.Address == "" { // of which shapes say nothing
		r.shapes.learn(line)
	}
	return err
}

// blanks are the white space of JSON.
const blanks = " \t\r\n"

// quickly reads a line whose shape is known and whose values are plain.
func (r *Reader) quickly(data []byte, l *signon.Logged, arena *Arena) bool {
	data = slices.Clip(bytes.TrimRight(data, blanks)) // nothing behind it is looked at
	*l = signon.Logged{}
	r.to, r.arena, r.evidence, r.presented = l, arena, r.evidence[:0], r.presented[:0]
	for state := 0; ; {
		e := r.shapes.next(state, data)
		if e == nil {
			return false
		}
		data = data[len(e.text):]
		for _, begin := range e.begins {
			begin(r)
		}
		if e.field == nil {
			return len(data) == 0 && r.finish()
		}
		var n int
		if e.field.kind == scalar {
			n = scalarLength(data)
		} else {
			n = textLength(data)
		}
		if n < 0 || !e.field.set(r, data[:n]) {
			return false
		}
		data, state = data[n:], e.to
	}
}

// textLength is the length of a plain string up to its closing quotation mark: of UTF-8 without
// control characters and backslashes. It is negative if it is not plain.
func textLength(data []byte) int {
	const ones, tops = 0x0101010101010101, 0x8080808080808080
	n := 0
	for ; n <= len(data)-word; n += word {
		x := binary.LittleEndian.Uint64(data[n : n+word])
		slash, quote := x^'\\'*ones, x^'"'*ones
		// The lowest top bit that is set is of the first byte that ends a string of ASCII.
		if odd := ((x - ' '*ones) | (slash-ones)&^slash | (quote-ones)&^quote | x) & tops; odd != 0 {
			n += bits.TrailingZeros64(odd) / 8
			if data[n] == '"' {
				return n
			}
			break
		}
	}
	return textLengthFrom(data, n)
}

// textLengthFrom is as textLength, where what stands before n is known to be plain.
func textLengthFrom(data []byte, n int) int {
	for from := n; n < len(data); n++ {
		switch c := data[n]; {
		case c == '"' && utf8.Valid(data[from:n]):
			return n
		case c == '"' || c == '\\' || c < ' ':
			return -1
		}
	}
	return -1
}

// scalarLength is the length of true, false, null, a number or what else the library takes for a whole
// value, up to what ends it; it is negative if there is none.
func scalarLength(data []byte) int {
	for n, c := range data {
		if c == ',' || c == '}' || c == ']' || c == ' ' {
			if word := data[:n]; string(word) == "true" || string(word) == "false" || string(word) == "null" || jsontext.Value(word).IsValid() {
				return n
			}
			break
		}
	}
	return -1
}
