package directory

// LDIF (RFC 2849): physical lines become whole lines, whole lines become records.

import (
	"bytes"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"strings"
	"unicode/utf8"

	"briskwarden.example/briskwarden/internal/lines"
	"briskwarden.example/briskwarden/internal/spell"
)

// ReadLDIF reads the entries of persons and groups (RFC 2849, object classes of RFC 4519 and
// RFC 2307). Lines are unfolded before anything else, values from a URL are errors, and
// nothing is ever fetched.
func ReadLDIF(in io.Reader, sink Sink) error {
	r := &ldifReader{entries: entryReader{sink: sink}}
	if err := lines.EachOfAny(in, r.physical); err != nil {
		return err
	}
	return r.endRecord()
}

// mostRecord is the size in bytes of the largest record.
const mostRecord = 64 << 20

// ldifReader puts lines and records together. A record is gone when it is handed on.
type ldifReader struct {
	entries entryReader
	line    []byte // the whole line that is not ended yet
	at      int    // where it begins; 0 is no such line
	comment bool   // it is one
	record  entry
	begun   bool
	size    int  // of the record, in bytes
	opened  bool // the version or a record was there
}

// physical takes a line of the file.
func (r *ldifReader) physical(n int, text []byte) error {
	if r.size += len(text); r.size > mostRecord {
		return fmt.Errorf("the record is larger than %d MiB", mostRecord>>20)
	}
	if len(text) > 0 && text[0] == ' ' {
		if r.at == 0 {
			return errors.New("the line goes on with one that is not there: a line that begins with a space belongs to the one before it")
		}
		if !r.comment {
			r.line = append(r.line, text[1:]...)
		}
		return nil
	}
	if len(text) == 0 {
		return r.endRecord()
	}
	if err := r.endLine(); err != nil {
		return err
	}
	r.line, r.at, r.comment = append(r.line[:0], text...), n, text[0] == '#'
	return nil
}

// endLine takes the whole line that has come to its end, if any.
func (r *ldifReader) endLine() error {
	at := r.at
	if r.at = 0; at == 0 || r.comment {
		return nil
	}
	return lines.At(at, r.whole(at))
}

func (r *ldifReader) whole(at int) error {
	name, value, err := attributeValue(r.line)
	switch {
	case err != nil:
		return err
	case name == "version" && !r.begun && !r.opened:
		r.opened = true
		if value != "1" {
			return fmt.Errorf("version %q of LDIF is not known: there is only 1", value)
		}
		return nil
	case name == "changetype":
		return errors.New("the record is a change (\"changetype\"), not an entry: export the entries themselves")
	case !r.begun && name != "dn":
		return fmt.Errorf("the record cannot be read: missing 'dn:' before %s", name)
	case !r.begun:
		r.begun, r.opened = true, true
		r.record = entry{dn: value, line: at, values: map[string][]string{}}
		return nil
	case name == "dn":
		return errors.New("a second dn: stands in the same record: an empty line ends a record")
	}
	return r.record.add(name, value)
}

// endRecord hands on the record that has come to its end, if any.
func (r *ldifReader) endRecord() error {
	if err := r.endLine(); err != nil {
		return err
	}
	r.size = 0
	if !r.begun {
		return nil
	}
	r.begun = false
	return lines.At(r.record.line, r.entries.entry(&r.record))
}

// attributeValue reads a whole line: the name of an attribute in small letters, with its
// options, and the value, which is empty where none is stated.
func attributeValue(line []byte) (name, value string, err error) {
	before, after, found := bytes.Cut(line, []byte(":"))
	if !found || len(before) == 0 || bytes.ContainsFunc(before, notInName) {
		return "", "", fmt.Errorf("the record cannot be read: a line is \"name: value\", and this is %q", spell.Clip(string(line)))
	}
	name = strings.ToLower(string(before))
	switch {
	case bytes.HasPrefix(after, []byte("<")):
		return "", "", errors.New("a value from a URL (\":<\") is never fetched: put the value itself into the file")
	case bytes.HasPrefix(after, []byte(":")):
		plain, err := base64.StdEncoding.Strict().DecodeString(string(bytes.Trim(after[1:], " ")))
		if err != nil {
			return "", "", fmt.Errorf("%s: the value after \"::\" is no base64 (RFC 4648)", name)
		}
		return name, string(plain), nil
	case bytes.ContainsAny(after, "\x00\r"):
		return "", "", fmt.Errorf("%s: a control character stands in the value: write it in base64, after \"::\"", name)
	case !utf8.Valid(after):
		return "", "", fmt.Errorf("%s: %w", name, lines.ErrNotUTF8)
	}
	return name, string(bytes.TrimLeft(after, " ")), nil
}

// notInName tells what the description of an attribute (RFC 4512, section 2.5) does not have;
// servers write ranges of values with "=".
var notInName = exceptAlphanumeric("-.;=*_")
