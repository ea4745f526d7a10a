package cli

// Sign-on logs that are named on the command line: every command opens them here.

import (
	"bytes"
	"errors"
	"io"
	"os"

	"briskwarden.example/briskwarden/internal/lines"
	"briskwarden.example/briskwarden/replay"
	"briskwarden.example/briskwarden/signon"
)

// withLogs opens logs for some work, which may show how many sign-ons it took, on a terminal. A log that is named twice, is cut off,
// or has lines and none that can be read is an error; a last line that is cut off is told, and left out.
func (s *session) withLogs(names []string, work func(logs []replay.Log, progress func(signOns int)) error) error {
	var total int64
	var logs []replay.Log
	var read []*readLog
	watch := &meter{}
	for _, name := range names {
		l, err := s.openLog(name, watch)
		if err != nil {
			return usage("%s: %w", name, err)
		}
		defer l.Close()
		for _, other := range read {
			if l.is(other) {
				return usage("%s: is named twice, and each of its sign-ons would count as two", name)
			}
		}
		total += l.size
		read = append(read, l)
		logs = append(logs, replay.Log{Name: name, In: l})
	}
	if err := work(logs, s.progress(total, watch)); err != nil {
		return usage("%w", err)
	}
	for _, l := range read {
		if err := l.unread(); err != nil {
			return usage("no line of %s can be read as a sign-on: %w", l.name, err)
		}
		if l.cutLine() {
			s.err.Printf("brisk: the last line of %s is cut off, and left out\n", l.name)
		}
	}
	return nil
}

// readLog is an open log, plain or packed, and what was seen of its lines.
type readLog struct {
	io.Reader
	io.Closer
	name string
	info os.FileInfo // nil for standard input
	size int64

	rest  []byte // of the last line, as far as it is kept
	lines int
	good  bool  // some line can be read
	first error // why the first cannot
	ended bool
}

// openLog opens a log; "-" is standard input, whose size is not known.
func (s *session) openLog(name string, m *meter) (*readLog, error) {
	if name == "-" {
		return &readLog{Reader: s.in, Closer: io.NopCloser(nil), name: "standard input"}, nil
	}
	f, err := os.Open(name)
	if err != nil {
		return nil, errors.Unwrap(err)
	}
	l := &readLog{Closer: f, name: name}
	if l.info, err = f.Stat(); err == nil && l.info.IsDir() {
		err = errors.New("is a folder")
	}
	if err == nil {
		l.size = l.info.Size()
		l.Reader, err = lines.Unpacked(name, metered{f, m}, l.size)
	}
	if err != nil {
		f.Close()
		return nil, err
	}
	return l, nil
}

func (l *readLog) is(other *readLog) bool {
	if l.info == nil || other.info == nil {
		return l.info == other.info
	}
	return os.SameFile(l.info, other.info)
}

// Read reads on, and looks at lines until one can be read as a sign-on; of those after it, only the last is kept.
func (l *readLog) Read(p []byte) (int, error) {
	n, err := l.Reader.Read(p)
	l.ended = l.ended || errors.Is(err, io.EOF)
	data := p[:n]
	for !l.good {
		end := bytes.IndexByte(data, '\n')
		if end < 0 {
			break
		}
		l.look(append(l.rest, data[:end]...))
		l.rest, data = l.rest[:0], data[end+1:]
	}
	if last := bytes.LastIndexByte(data, '\n'); last >= 0 {
		l.rest, data = l.rest[:0], data[last+1:]
	}
	if len(l.rest) <= lines.Longest {
		l.rest = append(l.rest, data...)
	}
	return n, err
}

// look tries a line.
func (l *readLog) look(line []byte) {
	if line = bytes.TrimSpace(bytes.TrimPrefix(line, []byte("\ufeff"))); len(line) == 0 {
		return
	}
	l.lines++
	_, err := signon.DecodeLogged(line)
	l.good = l.good || err == nil
	if l.lines == 1 {
		l.first = err
	}
}

// unread is why nothing of the log can be read; nil where something can, or there is nothing.
func (l *readLog) unread() error {
	if !l.ended || l.good {
		return nil
	}
	l.look(l.rest)
	if l.good {
		return nil
	}
	return l.first
}

// cutLine reports whether the log ends within a line.
func (l *readLog) cutLine() bool {
	line := bytes.TrimSpace(l.rest)
	if !l.ended || len(line) == 0 {
		return false
	}
	_, err := signon.DecodeLogged(line)
	return err != nil
}
