package lines

// Files that are written whole, or not at all.

import (
	"bufio"
	"compress/gzip"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"

	"github.com/klauspost/compress/zstd"
)

// NewFile is a file that is not there under its name before it is whole: it is written beside,
// and then renamed.
type NewFile struct {
	name   string // of what is replaced: a link stays, and what it leads to is written
	mode   fs.FileMode
	file   *os.File
	packer io.WriteCloser // nil for a plain file
	buffer *bufio.Writer

	special bool // it was there, and is no regular file: it is written as it is
}

// Create begins a file, which is packed where its name ends in .gz or .zst. One that was there
// keeps its mode; a new one has what the process gives new files.
func Create(name string) (*NewFile, error) {
	if led, err := filepath.EvalSymlinks(name); err == nil {
		name = led
	}
	var file *os.File
	var mode fs.FileMode
	info, err := os.Stat(name)
	special := err == nil && !info.Mode().IsRegular()
	if err == nil {
		mode = info.Mode().Perm()
	}
	switch {
	case special && info.IsDir():
		return nil, fmt.Errorf("%s is a folder", name)
	case special: // a pipe or a device stays what it is
		file, err = os.OpenFile(name, os.O_WRONLY, 0)
	default:
		file, err = beside(name)
	}
	if err != nil {
		return nil, err
	}
	n := &NewFile{name: name, mode: mode, file: file, special: special}
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

// beside creates a file in the same folder, with the mode of any new file.
func beside(name string) (file *os.File, err error) {
	for range 100 {
		at := filepath.Join(filepath.Dir(name), fmt.Sprintf(".%s.unfinished-%08x", filepath.Base(name), rand.Uint32()))
		if file, err = os.OpenFile(at, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o666); !errors.Is(err, fs.ErrExist) {
			return file, err
		}
	}
	return nil, err
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
	if err == nil && n.mode != 0 {
		err = n.file.Chmod(n.mode)
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

// WriteFile gives a file its content, all at once, as [Create] does.
func WriteFile(name string, content []byte) error {
	file, err := Create(name)
	if err != nil {
		return fmt.Errorf("%s cannot be written: %w", name, err)
	}
	defer file.Discard()
	if _, err := file.Write(content); err != nil {
		return err
	}
	return file.Finish()
}
