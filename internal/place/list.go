package place

// Lists of addresses.

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"net/netip"

	"briskwarden.example/briskwarden/internal/lines"
)

// Entry is a prefix of a network, and the line on which it stands.
type Entry struct {
	Prefix netip.Prefix
	Line   int32
}

// List are the prefixes of a network that stand in one file.
type List struct {
	File    string
	Entries []Entry
}

// Add adds the prefixes of an item.
func (l *List) Add(line int, prefixes []netip.Prefix) {
	for _, p := range prefixes {
		l.Entries = append(l.Entries, Entry{p, int32(line)})
	}
}

// ReadList reads one address, prefix or range a line; a comment begins with #. What is
// wrong with single lines is returned beside what could be read.
func ReadList(in io.Reader, file string) (list List, wrong []*lines.Error) {
	list.File = file
	wrong = eachItem(in, func(n int, text string) error {
		p, err := ParseItem(text)
		if err == nil {
			list.Add(n, p)
		}
		return err
	})
	return list, wrong
}

// longest is the size in bytes of the longest line that can say something of an address.
const longest = 4096

var errTooLong = fmt.Errorf("the line is longer than %d bytes", longest)

// eachItem calls f with each line that says something, without its comment, and collects
// what is wrong with them.
func eachItem(in io.Reader, f func(n int, text string) error) (wrong []*lines.Error) {
	err := lines.Each(in, func(n int, line []byte) error {
		line, _, _ = bytes.Cut(line, []byte("#"))
		if line = lines.Trimmed(line); len(line) == 0 {
			return nil
		}
		if len(line) > longest {
			wrong = append(wrong, &lines.Error{Line: n, Err: errTooLong})
			return nil
		}
		if err := f(n, string(line)); err != nil {
			wrong = append(wrong, &lines.Error{Line: n, Err: err})
		}
		return nil
	})
	var last *lines.Error
	if errors.As(err, &last) {
		wrong = append(wrong, last)
	}
	return wrong
}
