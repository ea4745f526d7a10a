// Package lines reads text files line by line, and comma-separated ones row by row: UTF-8,
// with or without a byte order mark, with lines that end in LF or CRLF.
package lines

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io"
	"strings"
	"unicode"
	"unicode/utf8"
)

// Longest is the size in bytes of the longest line or row that is read.
const Longest = 16 << 20

// Error is something wrong at one line of a file.
type Error struct {
	Line int
	Err  error
}

// Error gives "line N: message".
func (e *Error) Error() string { return fmt.Sprintf("line %d: %v", e.Line, e.Err) }

// Unwrap gives what is wrong.
func (e *Error) Unwrap() error { return e.Err }

// At is an error at a line; one that has its line already keeps it.
func At(line int, err error) error {
	var placed *Error
	if err == nil || errors.As(err, &placed) {
		return err
	}
	return &Error{line, err}
}

// What a file can be that it should not.
var (
	errTooLong = fmt.Errorf("is longer than %d MiB", Longest>>20)
	ErrNotUTF8 = errors.New("is not UTF-8: save the file as UTF-8")
	ErrUTF16   = errors.New("the file is UTF-16: save it as UTF-8")
)

// Each calls f with every line, numbered from 1 and without its end. The line is f's until it
// returns. An error, of f or of reading, is an [*Error]. A line that reading broke off is not given.
func Each(in io.Reader, f func(number int, line []byte) error) error {
	return EachOfAny(in, func(n int, line []byte) error {
		if !utf8.Valid(line) {
			return ErrNotUTF8
		}
		return f(n, line)
	})
}

// EachOfAny is [Each] for lines that need not be UTF-8.
func EachOfAny(in io.Reader, f func(number int, line []byte) error) error {
	r := bufio.NewReaderSize(in, 64<<10)
	var long []byte
	for n := 1; ; n++ {
		line, err := next(r, &long)
		switch {
		case err == io.EOF && len(line) == 0:
			return nil
		case errors.Is(err, errTooLong):
			return At(n, err)
		case err != nil && err != io.EOF:
			return At(n, fmt.Errorf("cannot be read on: %w", err))
		}
		if n == 1 {
			if line, err = Unmarked(line); err != nil {
				return At(n, err)
			}
		}
		if err := f(n, line); err != nil {
			return At(n, err)
		}
	}
}

// next reads one line; long is space for one that is longer than the reader's.
func next(r *bufio.Reader, long *[]byte) ([]byte, error) {
	line, err := r.ReadSlice('\n')
	if errors.Is(err, bufio.ErrBufferFull) {
		*long = append((*long)[:0], line...)
		for errors.Is(err, bufio.ErrBufferFull) {
			if len(*long) > Longest {
				return nil, errTooLong
			}
			line, err = r.ReadSlice('\n')
			*long = append(*long, line...)
		}
		line = *long
	}
	ended := len(line)
	line = bytes.TrimSuffix(bytes.TrimSuffix(line, []byte("\n")), []byte("\r"))
	if err == io.EOF && ended > 0 {
		err = nil // the last line may lack its end
	}
	return line, err
}

// Blanks are the characters that may stand around what a line says, as JSON has them. Other
// spaces, such as a form feed or U+00A0, are part of what it says.
const Blanks = " \t\r\n"

// Trimmed is a line without the blanks around what it says.
func Trimmed(line []byte) []byte { return bytes.Trim(line, Blanks) }

// Padded reports whether a name begins or ends with what a reader does not see: a space of any
// kind, a control or a format character. No name in a file may.
func Padded(name string) bool {
	unseen := func(r rune) bool { return unicode.IsSpace(r) || !unicode.IsGraphic(r) }
	first, _ := utf8.DecodeRuneInString(name)
	last, _ := utf8.DecodeLastRuneInString(name)
	return name != "" && (unseen(first) || unseen(last))
}

const byteOrderMark = "\ufeff"

// Unmarked takes the byte order mark off the first bytes of a file; UTF-16 is an error.
func Unmarked(line []byte) ([]byte, error) {
	if bytes.HasPrefix(line, []byte("\xff\xfe")) || bytes.HasPrefix(line, []byte("\xfe\xff")) {
		return nil, ErrUTF16
	}
	return bytes.TrimPrefix(line, []byte(byteOrderMark)), nil
}

// Says reports whether a text has a character that can be seen.
func Says(text string) bool {
	const blank = "\u115f\u1160\u3164\uffa0\u2800" // letters and a symbol without a shape
	return strings.ContainsFunc(text, func(r rune) bool {
		return unicode.In(r, unicode.L, unicode.N, unicode.P, unicode.S) && !strings.ContainsRune(blank, r)
	})
}
