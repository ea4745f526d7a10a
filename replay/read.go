package replay

// The first two stages of a replay: blocks of logs are read, and their lines decoded.

import (
	"bytes"
	"errors"
	"fmt"
	"hash/maphash"
	"io"
	"slices"
	"sync"
	"sync/atomic"

	"briskwarden.example/briskwarden/internal/fastlog"
	"briskwarden.example/briskwarden/internal/lines"
)

// blockSize is the size in bytes of the blocks in which logs are read: small, so that one is still
// in the processor's cache when it is decided.
const blockSize = 256 << 10

// block is a piece of a log that ends with a line, and then what was decoded of it. It is used again
// once all its entries are released.
type block struct {
	file    string
	first   int // the number of its first line
	lines   int
	text    *[]byte // the memory of data
	data    []byte  // the lines
	entries []entry
	queue   []queued
	sorted  bool // the entries, by time
	bad     []BadLine
	arena   fastlog.Arena // of the entries
	held    int           // entries that are not released
}

// entry is a line that is decided, or will be.
type entry struct {
	Line
	decision []byte // as JSON, where it is asked for
}

// queued is an entry with what the orderer must know of it, so that it need not look at the entry,
// whose memory another processor has.
type queued struct {
	*entry
	user uint64 // a hash of it
	of   *block
}

func byTime(a, b queued) int { return a.Time.Compare(b.Time) }

// blockReader gives the blocks of logs, one log after the other.
type blockReader struct {
	logs  []Log
	size  int    // of a block, in bytes
	rest  []byte // of the log at hand, after its last whole line
	line  int    // lines given of it
	begun bool
	used  sync.Pool // of blocks
	texts sync.Pool // of their memory
}

// read reads the next blocks, at most so many; none is the end.
func (r *blockReader) read(most int) (blocks []*block, err error) {
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
func (r *blockReader) next() (*block, error) {
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
			r.freeText(b)
			return nil, nil
		case cut > 0:
			return b, r.fill(b, data, cut)
		case len(data) > lines.Longest:
			return nil, fmt.Errorf("line %d: is longer than %d MiB", r.line+1, lines.Longest>>20)
		}
		n = len(data)
		data = append(data, make([]byte, len(data))...)
	}
}

// fill fills a block with what was read up to a line's end.
func (r *blockReader) fill(b *block, data []byte, cut int) error {
	r.rest = bytes.Clone(data[cut:])
	b.arena.Free()
	*b.text = data[:cap(data)]
	*b = block{file: r.logs[0].Name, first: r.line + 1, text: b.text, data: data[:cut], entries: b.entries[:0], queue: b.queue[:0], arena: b.arena}
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

// freeText gives back the memory of a block's text, which nothing that was decoded points into.
func (r *blockReader) freeText(b *block) {
	r.texts.Put(b.text)
	b.text, b.data = nil, nil
}

// release gives an entry back, and with the last of its block that block.
func (r *blockReader) release(q queued) {
	if q.of.held--; q.of.held == 0 {
		r.used.Put(q.of)
	}
}

// decoder decodes blocks, each worker with a reader of its own.
type decoder struct {
	readers []fastlog.Reader
	seed    maphash.Seed // of the hashes of users
}

func newDecoder(workers int) *decoder {
	return &decoder{readers: make([]fastlog.Reader, workers), seed: maphash.MakeSeed()}
}

// decode decodes blocks, each by whichever worker is free, and tells done of each.
func (d *decoder) decode(blocks []*block, done func(*block)) {
	var next atomic.Int64
	eachWorker(len(d.readers), func(w int) {
		for i := next.Add(1) - 1; int(i) < len(blocks); i = next.Add(1) - 1 {
			d.decodeBlock(&d.readers[w], blocks[i])
			done(blocks[i])
		}
	})
}

func (d *decoder) decodeBlock(reader *fastlog.Reader, b *block) {
	n := b.first - 1
	b.entries, b.queue, b.sorted = slices.Grow(b.entries, b.lines+1), slices.Grow(b.queue, b.lines+1), true
	for text := range bytes.Lines(b.data) {
		n++
		if len(lines.Trimmed(text)) == 0 {
			continue
		}
		b.entries = b.entries[:len(b.entries)+1] // within what was grown: queued entries do not move
		e := &b.entries[len(b.entries)-1]
		e.File, e.Number, e.decision = b.file, n, nil
		if err := reader.ReadPast(text, &e.Logged, &b.arena); err != nil {
			b.bad = append(b.bad, BadLine{b.file, n, err.Error()})
			b.entries = b.entries[:len(b.entries)-1]
			continue
		}
		q := queued{e, maphash.String(d.seed, e.User), b}
		b.sorted = b.sorted && (len(b.queue) == 0 || byTime(b.queue[len(b.queue)-1], q) <= 0)
		b.queue = append(b.queue, q)
	}
	b.held = len(b.queue)
}
