package lines

import (
	"bufio"
	"compress/gzip"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"

	"github.com/klauspost/compress/zstd"
)

// NewFile is a file that is not there under its name before it is whole: it is written beside,
// and then renamed.
type NewFile struct {
	name   string
	file   *os.File
	packer io.WriteCloser // nil for a plain file
	buffer *bufio.Writer

	special bool // it was there, and is no regular file: it is written as it is
}

// Create begins a file, which is packed where its name ends in .gz or .zst.
func Create(name string) (*NewFile, error) {
	var file *os.File
	info, err := os.Stat(name)
	special := err == nil && !info.Mode().IsRegular()
	switch {
	case special && info.IsDir():
		return nil, fmt.Errorf("%s is a folder", name)
	case special: // a pipe or a device stays what it is
		file, err = os.OpenFile(name, os.O_WRONLY, 0)
	default:
		file, err = os.CreateTemp(filepath.Dir(name), "."+filepath.Base(name)+".unfinished-*")
	}
	if err != nil {
		return nil, err
	}
	n := &NewFile{name: name, file: file, special: special}
	switch {
	case strings.HasSuffix(name, ".gz"):
		n.packer = gzip.NewWriter(file)
	case strings.HasSuffix(name, ".zst"):
		if n.packer, err = zstd.NewWriter(file); err != nil {
			n.Discard()
			return nil, err
		}
	default:
		n.buffer = bufio.NewWriterSize(file, 1<<20)
		return n, nil
	}
	n.buffer = bufio.NewWriterSize(n.packer, 1<<20)
	return n, nil
}

// Write writes on.
func (n *NewFile) Write(p []byte) (int, error) {
	w, err := n.buffer.Write(p)
	return w, n.failed(err)
}

// failed says that the file cannot be written, if it cannot.
func (n *NewFile) failed(err error) error {
	if err == nil {
		return nil
	}
	return fmt.Errorf("%s cannot be written: %w", n.name, err)
}

// Finish writes what is left, and gives the file its name.
func (n *NewFile) Finish() error {
	err := n.buffer.Flush()
	if err == nil && n.packer != nil {
		err = n.packer.Close()
	}
	if n.special {
		return n.failed(errors.Join(err, n.file.Close()))
	}
	if err == nil {
		err = n.file.Chmod(0o644)
	}
	if err == nil {
		err = n.file.Sync()
	}
	if err == nil {
		err = n.file.Close()
	}
	if err == nil {
		err = os.Rename(n.file.Name(), n.name)
	}
	return n.failed(err)
}

// Discard takes away what was written, unless the file is finished.
func (n *NewFile) Discard() {
	n.file.Close()
	if !n.special {
		os.Remove(n.file.Name())
	}
}
