package signon

import (
	"encoding/binary"
	"math/bits"
	"net/netip"
	"time"
)

// recent are values that came by lately, as they were read. They share their memory, and need
// not be read again.
type recent struct {
	texts [1 << recentBits]remembered[struct{}]
	addrs [1 << recentBits]remembered[netip.Addr]
	hours [1 << recentBits]hour
}

const recentBits = 10

// remembered is a text that came by, and what it means.
type remembered[T any] struct {
	gist  gist
	text  string
	means T
}

// is reports whether the text is this one.
func (k *remembered[T]) is(b []byte, g gist) bool {
	return k.gist == g && (g.length <= 2*word || k.text[word:] == string(b[word:]))
}

// gist is a text as far as its first and last words tell it: all of it, if that is at most two.
type gist struct {
	head, tail uint64
	length     int
}

const word = 8 // bytes

func gistOf(b []byte) gist {
	n := len(b)
	if n < word {
		return gist{head: firstWord(b), length: n}
	}
	return gist{binary.LittleEndian.Uint64(b), binary.LittleEndian.Uint64(b[n-word : n]), n}
}

// firstWord is the first word of a text, with zeros behind one that is shorter.
func firstWord(b []byte) uint64 {
	switch {
	case len(b) >= word:
		return binary.LittleEndian.Uint64(b)
	case cap(b) >= word: // what stands behind it is masked
		return binary.LittleEndian.Uint64(b[:word]) & (1<<(8*len(b)) - 1)
	}
	var padded [word]byte
	copy(padded[:], b)
	return binary.LittleEndian.Uint64(padded[:])
}

// slot spreads texts over the values that are remembered.
func (g gist) slot() uint64 {
	return (g.head ^ bits.ReverseBytes64(g.tail)) * 0x9e3779b97f4a7c15 >> (64 - recentBits)
}

// shared is a string of these characters, the same one for a while.
func (r *recent) shared(b []byte) string {
	const longest = 64
	if len(b) > longest {
		return string(b)
	}
	g := gistOf(b)
	k := &r.texts[g.slot()]
	if !k.is(b, g) {
		k.gist, k.text = g, string(b)
	}
	return k.text
}

// addr reads an address.
func (r *recent) addr(a *netip.Addr, b []byte) bool {
	g := gistOf(b)
	k := &r.addrs[g.slot()]
	if !k.is(b, g) || g.length == 0 {
		text := string(b)
		addr, err := ParseAddr(text)
		if err != nil {
			return false
		}
		*k = remembered[netip.Addr]{g, text, addr}
	}
	*a = k.means
	return true
}

// hour is an hour as it is written, with its offset from UTC, and its first instant.
type hour struct {
	written gist   // such as 2006-01-02T15:
	offset  uint64 // such as Z, as a word
	start   time.Time
}

// instant reads an RFC 3339 instant of these millennia. Those of the same hour are reckoned from its start.
func (r *recent) instant(t *time.Time, b []byte) bool {
	const hours, minutes, seconds = len("2006-01-02T15:"), len("2006-01-02T15:04:"), len("2006-01-02T15:04:05")
	if len(b) <= seconds || b[minutes-1] != ':' || b[0] != '1' && b[0] != '2' {
		return false
	}
	m, s := sixties(b[hours], b[hours+1]), sixties(b[minutes], b[minutes+1])
	if m < 0 || s < 0 {
		return false
	}
	offset := b[seconds:]
	if len(offset) > word { // it begins with parts of a second
		read, err := ParseTime(string(b))
		*t = read
		return err == nil
	}
	written, ahead := gistOf(b[:hours]), firstWord(offset)
	h := &r.hours[gist{head: written.tail, tail: ahead}.slot()]
	if h.written != written || h.offset != ahead {
		start, err := ParseTime(string(b[:hours]) + "00:00" + string(offset))
		if err != nil {
			return false
		}
		*h = hour{written, ahead, start}
	}
	*t = h.start.Add(time.Duration(m*60+s) * time.Second)
	return true
}

// sixties reads a number from 00 to 59; a negative one is none.
func sixties(tens, ones byte) int {
	if tens < '0' || tens > '5' || ones < '0' || ones > '9' {
		return -1
	}
	return int(tens-'0')*10 + int(ones-'0')
}
