package replay

// Logs and their lines.

import (
	"bufio"
	"bytes"
	"cmp"
	"fmt"
	"io"
	"io/fs"
	"slices"
	"time"

	"briskwarden.example/briskwarden/internal/fastlog"
	"briskwarden.example/briskwarden/internal/lines"
	"briskwarden.example/briskwarden/signon"
)

// Log is a sign-on log to be read.
type Log struct {
	Name string
	In   io.Reader
}

// OpenLogs opens logs in a file system, unpacked by how their names end. Done closes them, after an error too.
func OpenLogs(fsys fs.FS, names []string) (logs []Log, done func(), err error) {
	var files []fs.File
	done = func() {
		for _, f := range files {
			f.Close()
		}
	}
	for _, name := range names {
		f, err := fsys.Open(name)
		if err != nil {
			return nil, done, err
		}
		files = append(files, f)
		info, err := f.Stat()
		if err != nil {
			return nil, done, err
		}
		in, err := lines.Unpacked(name, f, info.Size())
		if err != nil {
			return nil, done, fmt.Errorf("%s %w", name, err)
		}
		logs = append(logs, Log{name, in})
	}
	return logs, done, nil
}

// Line is a line of a sign-on log.
type Line struct {
	File   string
	Number int
	signon.Logged
}

// Teaches reports whether a history learns from the line: it was granted, or carries no outcome.
func (l *Line) Teaches() bool { return !l.Recorded || l.Outcome == signon.Grant }

// Place is where the line stands, as file:line.
func (l *Line) Place() string { return fmt.Sprintf("%s:%d", l.File, l.Number) }

// came is how the sign-on came out: as it was recorded, or else as it is decided now.
func (l *Line) came(decided signon.Outcome) signon.Outcome {
	if l.Recorded {
		return l.Outcome
	}
	return decided
}

// BadLine is a line that cannot be read.
type BadLine struct {
	File   string `json:"file"`
	Number int    `json:"line"`
	Why    string `json:"why"`
}

// Each calls f with every sign-on of a log, and bad with every line that cannot be read. An
// error is one of reading on, or of f.
func Each(in io.Reader, file string, f func(*Line) error, bad func(BadLine)) error {
	return fastlog.Each(in, func(n int, l *signon.Logged, wrong error) error {
		if wrong != nil {
			bad(BadLine{file, n, wrong.Error()})
			return nil
		}
		return f(&Line{File: file, Number: n, Logged: *l})
	})
}

// ahead is how much of a log is looked at to find its first sign-on.
const ahead = 64 << 10

// ordered puts logs in the order of their first sign-ons, whatever order they are named in.
func ordered(logs []Log) []Log {
	type dated struct {
		Log
		first time.Time
	}
	list := make([]dated, len(logs))
	for i, l := range logs {
		in := bufio.NewReaderSize(l.In, ahead) // less than a block, which is then read past it
		list[i] = dated{Log{l.Name, in}, firstTime(in)}
	}
	slices.SortStableFunc(list, func(a, b dated) int { return cmp.Or(a.first.Compare(b.first), cmp.Compare(a.Name, b.Name)) })
	out := make([]Log, len(list))
	for i, d := range list {
		out[i] = d.Log
	}
	return out
}

// firstTime is the time of the first line near the beginning that can be read.
func firstTime(in *bufio.Reader) time.Time {
	begin, _ := in.Peek(ahead)
	for line := range bytes.Lines(bytes.TrimPrefix(begin, []byte("\ufeff"))) {
		if l, err := signon.DecodeLogged(line); err == nil && !l.Time.IsZero() {
			return l.Time
		}
	}
	return time.Time{}
}
