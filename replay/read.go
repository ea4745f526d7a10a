package replay

import (
	"bufio"
	"bytes"
	"cmp"
	"errors"
	"fmt"
	"hash/maphash"
	"io"
	"slices"
	"sync"
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

// The size in bytes of the blocks in which logs are read, and how many of them each worker
// has at a time: few, so that they are still in the processor's cache when they are decided.
const (
	blockSize  = 256 << 10
	blocksEach = 4
)

// ahead is how much of a log is looked at to find its first sign-on.
const ahead = 64 << 10

// block is a piece of a log that ends with a line, and then what was decoded of it. It serves
// again once all its turns are over, and the memory of its text as soon as that is decoded.
type block struct {
	file   string
	first  int // the number of its first line
	lines  int
	text   *[]byte
	data   []byte // the part that holds the lines
	turns  []turn
	queue  []queued
	sorted bool          // the turns, by time
	arena  fastlog.Arena // of the turns
	over   int           // turns that are
	bad    []BadLine
}

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

// reading gives the blocks of logs, one log after the other.
type reading struct {
	logs  []Log
	size  int    // of a block, in bytes
	rest  []byte // of the log at hand, after its last whole line
	line  int    // lines given of it
	begun bool
	used  sync.Pool // of blocks
	texts sync.Pool // of their memory
}

// again takes back a block whose turns are over.
func (r *reading) again(b *block) { r.used.Put(b) }

// batch reads the next blocks, at most so many; none is the end.
func (r *reading) batch(most int) (blocks []*block, err error) {
	for len(blocks) < most && len(r.logs) > 0 {
		b, err := r.next()
		if err != nil {
			return nil, fmt.Errorf("%s: %w", r.logs[0].Name, err)
		}
		if b == nil {
			r.logs, r.rest, r.line, r.begun = r.logs[1:], nil, 0, false
			continue
		}
		blocks = append(blocks, b)
	}
	return blocks, nil
}

// next reads a block of the log at hand; nil is its end.
func (r *reading) next() (*block, error) {
	b, _ := r.used.Get().(*block)
	if b == nil {
		b = &block{}
	}
	text, _ := r.texts.Get().(*[]byte)
	if text == nil {
		text = new([]byte)
	}
	b.text = text
	data := *text
	if least := max(r.size, 2*len(r.rest)); len(data) < least {
		data = make([]byte, least)
	}
	n := copy(data, r.rest)
	for {
		m, err := io.ReadFull(r.logs[0].In, data[n:])
		ended := errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF)
		if err != nil && !ended {
			return nil, fmt.Errorf("line %d: cannot be read on: %w", r.line+1, err)
		}
		data = data[:n+m]
		cut := len(data)
		if !ended {
			cut = bytes.LastIndexByte(data, '\n') + 1
		}
		switch {
		case len(data) == 0:
			r.forget(b)
			return nil, nil
		case cut > 0:
			return b, r.give(b, data, cut)
		case len(data) > lines.Longest:
			return nil, fmt.Errorf("line %d: is longer than %d MiB", r.line+1, lines.Longest>>20)
		}
		n = len(data)
		data = append(data, make([]byte, len(data))...)
	}
}

// give fills a block with what was read up to a line's end.
func (r *reading) give(b *block, data []byte, cut int) error {
	r.rest = bytes.Clone(data[cut:])
	b.arena.Free()
	*b.text = data[:cap(data)]
	*b = block{file: r.logs[0].Name, first: r.line + 1, text: b.text, data: data[:cut], turns: b.turns[:0], queue: b.queue[:0], arena: b.arena}
	b.lines = bytes.Count(b.data, []byte("\n"))
	r.line += b.lines
	if !r.begun {
		r.begun = true
		data, err := lines.Unmarked(b.data)
		if err != nil {
			return err
		}
		b.data = data
	}
	return nil
}

// forget gives back the memory of a text.
func (r *reading) forget(b *block) {
	r.texts.Put(b.text)
	b.text, b.data = nil, nil
}

// decode decodes the lines of the block, and says whose turn each is.
func (b *block) decode(reader *fastlog.Reader, seed maphash.Seed) {
	n := b.first - 1
	b.turns, b.queue, b.sorted = slices.Grow(b.turns, b.lines+1), slices.Grow(b.queue, b.lines+1), true
	for text := range bytes.Lines(b.data) {
		n++
		if len(lines.Trimmed(text)) == 0 {
			continue
		}
		b.turns = b.turns[:len(b.turns)+1]
		t := &b.turns[len(b.turns)-1]
		t.File, t.Number, t.decision = b.file, n, nil
		if err := reader.ReadPast(text, &t.Logged, &b.arena); err != nil {
			b.bad = append(b.bad, BadLine{b.file, n, err.Error()})
			b.turns = b.turns[:len(b.turns)-1]
			continue
		}
		q := queued{t, maphash.String(seed, t.User), b}
		b.sorted = b.sorted && (len(b.queue) == 0 || byTime(b.queue[len(b.queue)-1], q) <= 0)
		b.queue = append(b.queue, q)
	}
}
