package lines

// Files that are packed.

import (
	"compress/gzip"
	"errors"
	"fmt"
	"io"
	"path"
	"strings"

	"github.com/klauspost/compress/zstd"
)

// The limits of compressed files: a bomb is given up before it fills the memory.
const (
	maxUnpacked = 8 << 30  // bytes
	maxRatio    = 200      // times the packed size, beyond the first
	freeOfRatio = 64 << 20 // bytes
)

// Unpacked reads what a file holds whose name ends in .gz or .zst, and any other as it is.
// What unpacks to far more than its size in bytes is given up.
func Unpacked(name string, raw io.Reader, size int64) (io.Reader, error) {
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
	return &bounded{in: in, left: min(maxUnpacked, max(freeOfRatio, size*maxRatio))}, nil
}

// Format is the ending of a file's name that tells its format, whether it is packed or not.
func Format(file string) string {
	return path.Ext(strings.TrimSuffix(strings.TrimSuffix(file, ".gz"), ".zst"))
}

// bounded gives up after so many bytes.
type bounded struct {
	in   io.Reader
	left int64
}

// ErrCut is that a packed file ends in the middle.
var ErrCut = errors.New("is cut off: it ends in the middle")

var errBomb = fmt.Errorf("unpacks to more than %d GiB, or to more than %d times its size", maxUnpacked>>30, maxRatio)

// Read reads on until the bound is passed.
func (b *bounded) Read(p []byte) (int, error) {
	n, err := b.in.Read(p)
	if errors.Is(err, io.ErrUnexpectedEOF) { // which whoever reads in blocks would take for the end of what there is
		err = ErrCut
	}
	if b.left -= int64(n); b.left < 0 {
		return 0, errBomb
	}
	return n, err
}
