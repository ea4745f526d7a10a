package rulebook

// The files that a rulebook points to: how they are found, opened and limited.

import (
	"errors"
	"fmt"
	"io"
	"io/fs"

	"briskwarden.example/briskwarden/internal/diag"
	"briskwarden.example/briskwarden/internal/lines"
	"briskwarden.example/briskwarden/language/ast"
	"briskwarden.example/briskwarden/language/token"
)

// stream reads a file, unpacked where its name ends in .gz or .zst, and adds it to the digest.
func (r *resolver) stream(name string, read func(io.Reader) error) error {
	info, err := fs.Stat(r.fsys, name)
	switch {
	case err != nil:
		return cause(err)
	case !info.Mode().IsRegular(): // to open a pipe would wait for whoever writes into it
		return notAFile(info)
	}
	f, err := r.fsys.Open(name)
	if err != nil {
		return cause(err)
	}
	defer f.Close()
	fmt.Fprintf(r.digest, "%q %d\n", name, info.Size())
	raw := io.TeeReader(f, r.digest)
	in, err := lines.Unpacked(name, raw, info.Size())
	if err != nil {
		return err
	}
	if err := read(in); err != nil {
		return err
	}
	_, err = io.Copy(io.Discard, raw) // what a reader left, for the digest
	return err
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
