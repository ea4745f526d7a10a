package place

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"net/netip"
	"strings"
)

// LineError is something wrong with one line of a file.
type LineError struct {
	Line int
	Msg  string
}

// Error gives "line N: message".
func (e *LineError) Error() string { return fmt.Sprintf("line %d: %s", e.Line, e.Msg) }

// maxLine is the size in bytes of the longest line of a list.
const maxLine = 1 << 20

// eachLine calls f with each line that says something, without its comment.
func eachLine(in io.Reader, f func(number int, text string)) error {
	lines := bufio.NewScanner(in)
	lines.Buffer(make([]byte, 0, 4096), maxLine)
	n, pending := 0, ""
	say := func() {
		text, _, _ := strings.Cut(pending, "#")
		if n == 1 {
			text = strings.TrimPrefix(text, "\ufeff")
		}
		if text = strings.TrimSpace(text); text != "" {
			f(n, text)
		}
	}
	for lines.Scan() { // a line is said when the next has come, for an error may have cut the last
		say()
		n++
		pending = lines.Text()
	}
	if lines.Err() == nil {
		say()
	}
	if err := lines.Err(); errors.Is(err, bufio.ErrTooLong) {
		return &LineError{n + 1, "the line is longer than 1 MiB"}
	} else if err != nil {
		return &LineError{n + 1, "cannot be read on: " + err.Error()}
	}
	return nil
}

// ReadList reads one address, prefix or range a line; a comment begins with #. What is
// wrong with single lines is returned beside what could be read.
func ReadList(in io.Reader) (prefixes []netip.Prefix, wrong []*LineError) {
	err := eachLine(in, func(n int, text string) {
		p, err := ParseItem(text)
		if err != nil {
			wrong = append(wrong, &LineError{n, err.Error()})
			return
		}
		prefixes = append(prefixes, p...)
	})
	return prefixes, withLast(wrong, err)
}

func withLast(wrong []*LineError, err error) []*LineError {
	var last *LineError
	if errors.As(err, &last) {
		wrong = append(wrong, last)
	}
	return wrong
}
