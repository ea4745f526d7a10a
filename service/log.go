package service

// The sign-on log of the service, which replay, history and risk read.

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"github.com/go-json-experiment/json"

	"briskwarden.example/briskwarden/signon"
)

// Log writes decisions as lines of sign-on logs, a file for each day (in UTC) and node. It is safe for concurrent use.
type Log struct {
	dir, node string

	mu   sync.Mutex
	day  string
	file *os.File
}

// OpenLog writes to files in a folder, which is made where there is none. The name of the node is part of their names;
// what was cut off in the middle of a line is mended when a file is opened again.
func OpenLog(dir, node string) (*Log, error) {
	if node == "" || strings.ContainsAny(node, `/\`+"\x00") || strings.HasPrefix(node, ".") {
		return nil, fmt.Errorf("%q cannot be part of a file's name", node)
	}
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, err
	}
	l := &Log{dir: dir, node: node}
	return l, l.turn(time.Now())
}

// turn opens the file of a day. The lock is held, or nobody else has the log yet.
func (l *Log) turn(now time.Time) error {
	day := now.UTC().Format("2006-01-02")
	if l.file != nil && l.day == day {
		return nil
	}
	file, err := os.OpenFile(filepath.Join(l.dir, day+"."+l.node+".jsonl"), os.O_RDWR|os.O_CREATE, 0o600)
	if err != nil {
		return err
	}
	if err := mend(file); err != nil {
		file.Close()
		return err
	}
	if l.file != nil {
		l.file.Close()
	}
	l.file, l.day = file, day
	return nil
}

// mend takes a line off that was cut short, and stands at the end.
func mend(file *os.File) error {
	end, err := file.Seek(0, io.SeekEnd)
	if err != nil {
		return err
	}
	part := make([]byte, 64<<10)
	for at := end; at > 0; {
		n := min(at, int64(len(part)))
		at -= n
		if _, err := file.ReadAt(part[:n], at); err != nil {
			return err
		}
		if i := bytes.LastIndexByte(part[:n], '\n'); i >= 0 {
			return cut(file, at+int64(i)+1, end)
		}
	}
	return cut(file, 0, end)
}

// cut takes off what stands behind a place, and stands there.
func cut(file *os.File, at, end int64) error {
	if at < end {
		if err := file.Truncate(at); err != nil {
			return err
		}
	}
	_, err := file.Seek(at, io.SeekStart)
	return err
}

// name is that of the file that is written; empty: none is.
func (l *Log) name() string {
	if l == nil {
		return ""
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.file.Name()
}

// write adds a line.
func (l *Log) write(s *signon.Logged) error {
	line, err := json.Marshal(s)
	if err != nil {
		return err
	}
	line = append(line, '\n')
	l.mu.Lock()
	defer l.mu.Unlock()
	if err := l.turn(time.Now()); err != nil {
		return err
	}
	if n, err := l.file.Write(line); err != nil {
		if n > 0 { // a full disk took a part of it
			err = errors.Join(err, mend(l.file))
		}
		return err
	}
	return nil
}

// Close closes the file.
func (l *Log) Close() error {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.file.Close()
}
