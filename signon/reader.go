package signon

import (
	"bytes"
	"encoding/binary"
	"math/bits"
	"net/netip"
	"sync"
	"time"
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
	recent [1 << slotBits]string // strings that came by lately, so that equal ones share their memory
	hours  [1 << slotBits]hour   // that came by lately, as are
	addrs  [1 << slotBits]addrText
}

var readers = sync.Pool{New: func() any { return new(Reader) }}

// Decode reads one request, as the function [Decode] does.
func (r *Reader) Decode(data []byte) (SignOn, error) {
	read, err := r.request(data, &r.own, nil)
	switch {
	case err != nil:
		return SignOn{}, err
	case read != nil:
		return read.signOn(), nil
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
	data = bytes.TrimRight(data, blanks)
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
	n, all := 0, uint64(0)
	for ; n+8 <= len(data); n += 8 {
		x := binary.LittleEndian.Uint64(data[n:])
		all |= x
		slash, quote := x^'\\'*ones, x^'"'*ones
		// The lowest top bit that is set is of the first byte that is none of a plain string.
		if odd := ((x-' '*ones)&^x | (slash-ones)&^slash | (quote-ones)&^quote) & tops; odd != 0 {
			return ended(data, n+bits.TrailingZeros64(odd)/8, all&tops != 0)
		}
	}
	for ; n < len(data); n++ {
		c := data[n]
		all |= uint64(c)
		if c < ' ' || c == '\\' || c == '"' {
			return ended(data, n, all&tops != 0)
		}
	}
	return -1
}

// ended is n where a string ends there, as it should.
func ended(data []byte, n int, wide bool) int {
	if data[n] != '"' || wide && !utf8.Valid(data[:n]) {
		return -1
	}
	return n
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

// shared is a string of these characters, the same one for a while.
func (r *Reader) shared(b []byte) string {
	const longest = 64
	if len(b) > longest {
		return string(b)
	}
	known := &r.recent[slotOf(b)]
	if *known != string(b) {
		*known = string(b)
	}
	return *known
}

const slotBits = 10

// slotOf spreads texts over slots, by their beginnings and ends.
func slotOf(b []byte) uint {
	h, n := uint64(len(b)), len(b)
	switch {
	case n >= 8:
		h += binary.LittleEndian.Uint64(b) ^ binary.BigEndian.Uint64(b[n-8:])
	case n >= 4:
		h += uint64(binary.LittleEndian.Uint32(b))<<32 | uint64(binary.LittleEndian.Uint32(b[n-4:]))
	case n > 0:
		h += uint64(b[0])<<32 | uint64(b[n/2])<<16 | uint64(b[n-1])
	}
	return uint(h * 0x9e3779b97f4a7c15 >> (64 - slotBits))
}

// addr reads an address.
func (r *Reader) addr(a *netip.Addr, b []byte) bool {
	known := &r.addrs[slotOf(b)]
	if known.text != string(b) {
		read, err := ParseAddr(string(b))
		if err != nil {
			return false
		}
		*known = addrText{string(b), read}
	}
	*a = known.addr
	return true
}

// addrText is an address as it is written, and as it is.
type addrText struct {
	text string
	addr netip.Addr
}

// hour is an hour as it is written, with its offset from UTC, and its first instant.
type hour struct {
	text   [len("2006-01-02T15:")]byte
	offset string
	start  time.Time
}

// instant reads an RFC 3339 instant of these millennia. Those of the same hour are reckoned from its start.
func (r *Reader) instant(t *time.Time, b []byte) bool {
	if len(b) < len("2006-01-02T15:04:05Z") || b[16] != ':' || b[0] != '1' && b[0] != '2' {
		return false
	}
	minutes, seconds := sixties(b[14], b[15]), sixties(b[17], b[18])
	if minutes < 0 || seconds < 0 {
		return false
	}
	h := &r.hours[slotOf(b[6:14])^slotOf(b[19:])]
	if string(h.text[:]) != string(b[:14]) || h.offset != string(b[19:]) {
		start, err := ParseTime(string(b[:14]) + "00:00" + string(b[19:]))
		if err != nil {
			return false
		}
		*h = hour{[14]byte(b), string(b[19:]), start}
	}
	*t = h.start.Add(time.Duration(minutes*60+seconds) * time.Second)
	return true
}

// sixties reads a number from 00 to 59; a negative one is none.
func sixties(tens, ones byte) int {
	if tens < '0' || tens > '5' || ones < '0' || ones > '9' {
		return -1
	}
	return int(tens-'0')*10 + int(ones-'0')
}
