package rulebook

import (
	"compress/gzip"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"strings"

	"github.com/klauspost/compress/zstd"

	"briskwarden.example/briskwarden/internal/diag"
	"briskwarden.example/briskwarden/internal/lines"
	"briskwarden.example/briskwarden/language/ast"
	"briskwarden.example/briskwarden/language/token"
)

// The limits of compressed files: a bomb is given up before it fills the memory.
const (
	maxUnpacked = 8 << 30  // bytes
	maxRatio    = 200      // times the packed size, beyond the first
	freeOfRatio = 64 << 20 // bytes
)

// stream reads a file, unpacked where its name ends in .gz or .zst, and adds it to the digest.
func (r *resolver) stream(name string, read func(io.Reader) error) error {
	f, err := r.fsys.Open(name)
	if err != nil {
		return cause(err)
	}
	defer f.Close()
	info, err := f.Stat()
	switch {
	case err != nil:
		return cause(err)
	case info.IsDir():
		return errors.New("is a folder")
	}
	fmt.Fprintf(r.digest, "%q %d\n", name, info.Size())
	raw := io.TeeReader(f, r.digest)
	in, err := unpacked(name, raw, info)
	if err != nil {
		return err
	}
	if err := read(in); err != nil {
		return err
	}
	_, err = io.Copy(io.Discard, raw) // what a reader left, for the digest
	return err
}

func unpacked(name string, raw io.Reader, info fs.FileInfo) (io.Reader, error) {
	var in io.Reader
	switch {
	case strings.HasSuffix(name, ".gz"):
		z, err := gzip.NewReader(raw)
		if err != nil {
			return nil, fmt.Errorf("is no gzip file: %w", err)
		}
		in = z
	case strings.HasSuffix(name, ".zst"):
		z, err := zstd.NewReader(raw, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxMemory(256<<20))
		if err != nil {
			return nil, fmt.Errorf("is no zstd file: %w", err)
		}
		in = z.IOReadCloser()
	default:
		return raw, nil
	}
	return &bounded{in: in, left: min(maxUnpacked, max(freeOfRatio, info.Size()*maxRatio))}, nil
}

// formatOf is the ending of a file's name that tells its format, whether it is packed or not.
func formatOf(file string) string {
	return path.Ext(strings.TrimSuffix(strings.TrimSuffix(file, ".gz"), ".zst"))
}

// bounded gives up after so many bytes.
type bounded struct {
	in   io.Reader
	left int64
}

var errBomb = fmt.Errorf("unpacks to more than %d GiB, or to more than %d times its size", maxUnpacked>>30, maxRatio)

// Read reads on until the bound is passed.
func (b *bounded) Read(p []byte) (int, error) {
	n, err := b.in.Read(p)
	if b.left -= int64(n); b.left < 0 {
		return 0, errBomb
	}
	return n, err
}

// wrongLines reports what is wrong with single lines of a file.
func (r *resolver) wrongLines(file string, wrong []*lines.Error) {
	for _, w := range wrong {
		r.found.Add(diag.File, diag.Error, token.Pos{File: file, Line: int32(w.Line), Column: 1}, 1, "", "%v", w.Err)
	}
}

// each reads every file that a clause names.
func (r *resolver) each(clause ast.Name, read func(file string, in io.Reader) error) {
	for _, file := range r.paths(clause) {
		err := r.stream(file, func(in io.Reader) error { return read(file, in) })
		var inLine *lines.Error
		switch {
		case errors.As(err, &inLine):
			r.wrongLines(file, []*lines.Error{inLine})
		case err != nil:
			r.fail(clause, "", "%s cannot be read: %v", file, err)
		}
	}
}
