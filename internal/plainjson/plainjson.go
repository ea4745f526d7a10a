// Package plainjson writes JSON that a terminal shows as it is.
package plainjson

import (
	"bytes"
	"fmt"
	"io"
	"unicode/utf16"
	"unicode/utf8"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"

	"briskwarden.example/briskwarden/internal/spell"
)

// Marshal writes a value as JSON, its maps sorted. What cannot be seen stands there escaped, and
// U+FFFD in place of bytes that are no UTF-8.
func Marshal(v any, options ...json.Options) ([]byte, error) {
	text, err := json.Marshal(v, append(options, json.Deterministic(true), jsontext.AllowInvalidUTF8(true))...)
	if err != nil {
		return nil, err
	}
	return Plain(text), nil
}

// Plain is JSON with what cannot be seen escaped.
func Plain(text []byte) []byte {
	first := 0 // that is no ASCII
	for first < len(text) && text[first] < 0x7f {
		first++
	}
	if bytes.IndexFunc(text[first:], unseen) < 0 {
		return text
	}
	var b []byte
	for len(text) > 0 {
		r, n := utf8.DecodeRune(text)
		switch {
		case !unseen(r):
			b = append(b, text[:n]...)
		case r > 0xffff:
			high, low := utf16.EncodeRune(r)
			b = fmt.Appendf(b, `\u%04x\u%04x`, high, low)
		default:
			b = fmt.Appendf(b, `\u%04x`, r)
		}
		text = text[n:]
	}
	return b
}

// Writer writes JSON on to another, with what cannot be seen escaped. Every Write is of whole values.
type Writer struct{ To io.Writer }

// Write writes some values.
func (w Writer) Write(text []byte) (int, error) {
	if _, err := w.To.Write(Plain(text)); err != nil {
		return 0, err
	}
	return len(text), nil
}

// unseen is about characters within strings: all others are ASCII.
func unseen(r rune) bool { return r >= 0x7f && spell.Unseen(r) }
