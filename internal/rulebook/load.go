package rulebook

// How a rulebook's folder is read.

import (
	"crypto/sha256"
	"errors"
	"fmt"
	"hash"
	"io/fs"
	"path"
	"slices"
	"strings"

	"briskwarden.example/briskwarden/internal/diag"
	"briskwarden.example/briskwarden/internal/fact"
	"briskwarden.example/briskwarden/internal/place"
	"briskwarden.example/briskwarden/language"
	"briskwarden.example/briskwarden/language/ast"
	"briskwarden.example/briskwarden/language/scanner"
	"briskwarden.example/briskwarden/language/token"
)

// TopFile is the file at the top of a rulebook's folder, which holds its rulebook block.
const TopFile = "rulebook.warden"

// Options say what a rulebook is loaded for.
type Options struct {
	// OutsidePeople says that people also come from a program's own directory.
	OutsidePeople bool
	// Promises are statements of promises that stand in no file, such as "who everyone to everything
	// never grant without aal2". Each is named by its statement.
	Promises []string
}

// Load reads and resolves the rulebook in the folder. What is wrong is in its Diagnostics; one
// with errors is not fit to decide.
func Load(fsys fs.FS, options Options) *Rulebook {
	r := newResolver(fsys, options)
	if r.readAll() {
		for i, statement := range options.Promises {
			if !slices.Contains(options.Promises[:i], statement) {
				r.ask(fmt.Sprintf("%s%d)", askedFile, i+1), statement)
			}
		}
		r.collect()
		r.resolve()
	}
	r.found.AddErrors(diag.Invalid, TopFile, r.errors.Err())
	r.rb.Digest = fmt.Sprintf("sha256:%x", r.digest.Sum(nil))
	r.rb.Diagnostics = r.found
	r.rb.Diagnostics.Sort()
	return r.rb
}

type resolver struct {
	fsys     fs.FS
	rb       *Rulebook
	decls    declarations
	names    *names
	errors   token.ErrorList // in the meaning of what was parsed
	found    diag.List
	prefixes [][]place.List // of each network, by id
	digest   hash.Hash

	mailDomains map[string]bool // of all users, once they are asked for
}

func newResolver(fsys fs.FS, options Options) *resolver {
	r := &resolver{fsys: fsys, digest: sha256.New(), rb: &Rulebook{
		Facts: fact.NewTable(), People: map[string]*Person{}, Apps: map[string]*App{}, Tags: map[string]int{},
		Open: options.OutsidePeople, selected: &selection{},
	}}
	r.names = &names{r: r, networks: map[string]int{}, literals: map[string]int{}, schedules: map[string]int{},
		baselines: map[string]int{}, within: map[string]int{}, scopes: map[string]int{}}
	return r
}

// readAll reads and parses every rulebook file. It reports false when there is nothing to resolve.
func (r *resolver) readAll() bool {
	var files []string
	_, mounted := fs.Stat(r.fsys, "..data")
	err := fs.WalkDir(r.fsys, ".", func(name string, d fs.DirEntry, err error) error {
		if err == nil && mounted == nil && path.Dir(name) == "." && strings.HasPrefix(d.Name(), "..") {
			if d.IsDir() {
				return fs.SkipDir
			}
			return nil // its files are found by the links that lead through "..data"
		}
		if err != nil {
			r.found.Add(diag.File, diag.Error, token.Pos{File: name}, 1, "", "cannot be read: %v", cause(err))
			return fs.SkipDir
		}
		switch {
		case d.IsDir():
		case strings.HasSuffix(name, ".warden"):
			files = append(files, name)
		case strings.EqualFold(path.Ext(name), ".warden"):
			r.found.Add(diag.File, diag.Error, token.Pos{File: name}, 1, "rename it, or leave it out", "is not read: files of a rulebook end in .warden, in small letters")
		case d.Type()&fs.ModeSymlink != 0:
			r.linked(name)
		}
		return nil
	})
	if err != nil && !errors.Is(err, fs.SkipDir) {
		r.found.AddErrors(diag.File, ".", err)
	}
	if !slices.Contains(files, TopFile) {
		help := fmt.Sprintf("a rulebook is a folder with a file %s at its top; \"brisk init DIR\" writes one", TopFile)
		r.found.Add(diag.File, diag.Error, token.Pos{File: TopFile}, 1, help, "there is no such file")
		return false
	}
	slices.Sort(files)
	for _, name := range files {
		r.read(name)
	}
	return true
}

// linked reports a link to a folder outside, whose files would be missing. What a link inside
// the rulebook leads to is read where it stands.
func (r *resolver) linked(name string) {
	_, err := fs.Stat(r.fsys, name)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		r.found.Add(diag.File, diag.Warning, token.Pos{File: name}, 1, "take the link away, or put back what it led to", "the link leads nowhere: if that was a folder, its files are missing")
	case err != nil:
		r.found.Add(diag.File, diag.Error, token.Pos{File: name}, 1, "copy what is meant into the folder", "cannot be read: %v", cause(err))
	}
}

func (r *resolver) read(name string) {
	src, err := r.load(name, scanner.MaxSize)
	if err != nil {
		r.found.Add(diag.File, diag.Error, token.Pos{File: name}, 1, "", "cannot be read: %v", cause(err))
		return
	}
	tree, err := language.Parse(name, src)
	r.found.AddErrors(diag.Syntax, name, err)
	r.rb.Files = append(r.rb.Files, &File{Name: name, Source: src, Tree: tree})
}

// askedFile begins the names of the places where promises stand that no file has.
const askedFile = "(asked "

// ask adds a promise that stands in no file. The digest does not tell of it.
func (r *resolver) ask(file, statement string) {
	src := []byte(fmt.Sprintf("promise %q {\n%s\n}", statement, statement))
	tree, err := language.Parse(file, src)
	if err == nil && len(tree.Decls) == 1 {
		r.rb.Files = append(r.rb.Files, &File{Name: file, Source: src, Tree: tree})
		return
	}
	if err == nil {
		err = errors.New("expected one promise: who … to … [doing …] [when …], and what always or never is")
	}
	r.found.AddErrors(diag.Syntax, file, err)
}

// load reads a file of at most limit bytes and adds it to the digest.
func (r *resolver) load(name string, limit int64) ([]byte, error) {
	info, err := fs.Stat(r.fsys, name)
	switch {
	case err != nil:
		return nil, err
	case !info.Mode().IsRegular():
		return nil, notAFile(info)
	case info.Size() > limit:
		return nil, fmt.Errorf("the file is larger than %d MiB", limit>>20)
	}
	src, err := fs.ReadFile(r.fsys, name)
	fmt.Fprintf(r.digest, "%q %d\n", name, len(src))
	r.digest.Write(src)
	return src, err
}

// notAFile says what stands in a file's place: a folder, or a pipe or device, which may never end.
func notAFile(info fs.FileInfo) error {
	if info.IsDir() {
		return errors.New("is a folder")
	}
	return errors.New("is no regular file")
}

// cause is an error without the path, which the place already gives.
func cause(err error) error {
	var p *fs.PathError
	if !errors.As(err, &p) {
		return err
	}
	if p.Err.Error() == "path escapes from parent" { // of os.Root, which has no error value for it
		return errors.New("a link leads out of the rulebook's folder")
	}
	return p.Err
}

// paths are the files that a clause names, relative to the file in which it stands.
func (r *resolver) paths(n ast.Name) []string {
	full := path.Join(path.Dir(n.Pos.File), n.Text)
	switch {
	case path.IsAbs(n.Text) || strings.Contains(n.Text, `\`):
		r.fail(n, "give a path relative to this file, with \"/\"", "%q does not stay inside the rulebook's folder", n.Text)
		return nil
	case !fs.ValidPath(full):
		r.fail(n, "keep the file inside the folder", "%q leads out of the rulebook's folder", n.Text)
		return nil
	}
	if !strings.Contains(full, "*") {
		if _, err := fs.Stat(r.fsys, full); err != nil {
			r.fail(n, "", "%q cannot be read: %v", n.Text, cause(err))
			return nil
		}
		return []string{full}
	}
	found, err := fs.Glob(r.fsys, full)
	if err != nil || len(found) == 0 {
		r.fail(n, "", "no file is named like %q", n.Text)
	}
	slices.Sort(found)
	return found
}
