package fastlog

// Values that came by lately.

import (
	"encoding/binary"
	"math/bits"
	"net/netip"
	"time"

	"briskwarden.example/briskwarden/signon"
)

// cache has values that came by lately, as they were read. They share their memory, and need not
// be read again.
type cache struct {
	texts [1 << cacheBits]cached[struct{}]
	addrs [1 << cacheBits]cached[netip.Addr]
	hours [1 << cacheBits]hour
}

const cacheBits = 10

// cached is a text that came by, and what it means.
type cached[T any] struct {
	fingerprint fingerprint
	text        string
	means       T
}

// is reports whether the text is this one.
func (k *cached[T]) is(b []byte, g fingerprint) bool {
	return k.fingerprint == g && (g.length <= 2*word || k.text[word:] == string(b[word:]))
}

// fingerprint is a text as far as its first and last words tell it: all of it, if that is at most two.
type fingerprint struct {
	head, tail uint64
	length     int
}

const word = 8 // bytes

func fingerprintOf(b []byte) fingerprint {
	n := len(b)
	if n < word {
		return fingerprint{head: firstWord(b), length: n}
	}
	return fingerprint{binary.LittleEndian.Uint64(b), binary.LittleEndian.Uint64(b[n-word : n]), n}
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

// bucket spreads texts over the values that are cached.
func (g fingerprint) bucket() uint64 {
	return (g.head ^ bits.ReverseBytes64(g.tail)) * 0x9e3779b97f4a7c15 >> (64 - cacheBits)
}

// shared is a string of these characters, the same one for a while.
func (c *cache) shared(b []byte) string {
	const longest = 64
	if len(b) > longest {
		return string(b)
	}
	g := fingerprintOf(b)
	k := &c.texts[g.bucket()]
	if !k.is(b, g) {
		k.fingerprint, k.text = g, string(b)
	}
	return k.text
}

// addr reads an address.
func (c *cache) addr(a *netip.Addr, b []byte) bool {
	g := fingerprintOf(b)
	k := &c.addrs[g.bucket()]
	if !k.is(b, g) || g.length == 0 {
		text := string(b)
		addr, err := signon.ParseAddr(text)
		if err != nil {
			return false
		}
		*k = cached[netip.Addr]{g, text, addr}
	}
	*a = k.means
	return true
}

// hour is an hour as it is written, with its offset from UTC, and its first instant.
type hour struct {
	written fingerprint // such as 2006-01-02T15:
	offset  uint64      // such as Z, as a word
	start   time.Time
}

// instant reads an RFC 3339 instant of these millennia. Those of the same hour are reckoned from its start.
func (c *cache) instant(t *time.Time, b []byte) bool {
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
		read, err := signon.ParseTime(string(b))
		*t = read
		return err == nil
	}
	written, ahead := fingerprintOf(b[:hours]), firstWord(offset)
	h := &c.hours[fingerprint{head: written.tail, tail: ahead}.bucket()]
	if h.written != written || h.offset != ahead {
		start, err := signon.ParseTime(string(b[:hours]) + "00:00" + string(offset))
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
