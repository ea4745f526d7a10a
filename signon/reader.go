package signon

import (
	"bytes"
	"encoding/binary"
	"math/bits"
	"slices"
	"sync"
	"unicode/utf8"

	"github.com/go-json-experiment/json/jsontext"
)

// Reader reads requests one after the other. Those of a shape that it has met before, as most
// lines of a log are, it reads several times as fast as one that is new, with the same result.
// Its zero value is ready for use, by one goroutine at a time.
type Reader struct {
	shapes shapes

	to        *Logged // the request at hand
	space     *Space  // of it; may be nil
	presented []string
	given     []Evidence

	own    Logged
	recent recent
}

var readers = sync.Pool{New: func() any { return new(Reader) }}

// Decode reads one request, as the function [Decode] does.
func (r *Reader) Decode(data []byte) (SignOn, error) {
	read, err := r.request(data, &r.own, nil)
	switch {
	case err != nil:
		return SignOn{}, err
	case read != nil:
		return read.signOn()
	}
	return r.own.SignOn, nil
}

// DecodeLogged reads one line of a sign-on log, as the function [DecodeLogged] does.
func (r *Reader) DecodeLogged(data []byte) (Logged, error) {
	err := r.DecodeLoggedInto(data, &r.own, nil)
	return r.own, err
}

// DecodeLoggedInto reads one line of a sign-on log into l, which is good until the space is
// freed. Without a space it is good for ever.
func (r *Reader) DecodeLoggedInto(data []byte, l *Logged, space *Space) error {
	read, err := r.request(data, l, space)
	if read != nil {
		*l, err = read.logged()
	}
	return err
}

// request reads a request into l; one that cannot be read quickly it gives as the JSON library
// reads it, and learns its shape.
func (r *Reader) request(data []byte, l *Logged, space *Space) (*request, error) {
	data = bytes.TrimPrefix(data, byteOrderMark)
	if r.quickly(data, l, space) {
		return nil, nil
	}
	*l = Logged{}
	read, err := readRequest(data)
	if err != nil {
		return nil, err
	}
	r.shapes.learn(data)
	return &read, nil
}

// blanks are the white space of JSON.
const blanks = " \t\r\n"

// quickly reads a request whose shape is known and whose values are plain.
func (r *Reader) quickly(data []byte, l *Logged, space *Space) bool {
	data = slices.Clip(bytes.TrimRight(data, blanks)) // nothing behind it is looked at
	*l = Logged{}
	r.to, r.space, r.given, r.presented = l, space, r.given[:0], r.presented[:0]
	for s := &r.shapes.start; ; {
		e := s.next(data)
		if e == nil {
			return false
		}
		data = data[len(e.text):]
		if e.opens != 0 {
			r.open(e.opens)
		}
		if e.to == nil {
			return len(data) == 0 && r.close()
		}
		var n int
		if e.slot.scalar() {
			n = scalar(data)
		} else {
			n = chars(data)
		}
		if n < 0 || !r.set(e.slot, data[:n]) {
			return false
		}
		data, s = data[n:], e.to
	}
}

// chars is the length of a plain string up to its closing quotation mark: of UTF-8 without
// control characters and backslashes. It is negative if it is not plain.
func chars(data []byte) int {
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
	return charsFrom(data, n)
}

// charsFrom is as chars, where what stands before n is known to be plain.
func charsFrom(data []byte, n int) int {
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

// scalar is the length of true, false, null, a number or what else the library takes for a whole
// value, up to what ends it; it is negative if there is none.
func scalar(data []byte) int {
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
