// Package revision takes a folder as it was at a revision of the version control that it lies in, through Git's own command line. It
// reads what was committed, byte by byte: no attribute leaves a file out, no filter and no hook runs.
package revision

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"briskwarden.example/briskwarden/internal/spell"
)

// Repository is where a folder lies.
type Repository struct {
	top    string // the working tree's folder
	prefix string // of the folder in it, with a slash at its end; empty is the whole
}

// Of finds the repository that a folder lies in.
func Of(ctx context.Context, dir string) (*Repository, error) {
	prefix, err := git(ctx, dir, "rev-parse", "--show-prefix")
	if err != nil {
		return nil, err
	}
	top, err := git(ctx, dir, "rev-parse", "--show-toplevel")
	if err != nil {
		return nil, err
	}
	return &Repository{strings.TrimSuffix(string(top), "\n"), strings.TrimSuffix(string(prefix), "\n")}, nil
}

// Commit is the commit that a revision names.
func (r *Repository) Commit(ctx context.Context, revision string) (string, error) {
	id, err := git(ctx, r.top, "rev-parse", "--verify", "--end-of-options", revision+"^{commit}")
	return strings.TrimSuffix(string(id), "\n"), err
}

// Message is a message of a commit since one, the newest first, that says something sought; of a commit that changed the folder, or
// nothing at all. It is empty where there is none.
func (r *Repository) Message(ctx context.Context, commit string, says func(message string) bool) (string, error) {
	all, err := git(ctx, r.top, "log", "-z", "--no-show-signature", "--no-color", "--encoding=UTF-8", "--format=%H%n%B", commit+"..HEAD", "--")
	if err != nil || len(all) == 0 {
		return "", err
	}
	for one := range strings.SplitSeq(strings.TrimSuffix(string(all), "\x00"), "\x00") {
		id, message, _ := strings.Cut(one, "\n")
		if !says(message) {
			continue
		}
		changed, err := git(ctx, r.top, "diff-tree", "--no-commit-id", "--name-only", "-r", "-z", "-m", "--root", id)
		if err != nil {
			return "", err
		}
		files := strings.Split(strings.TrimSuffix(string(changed), "\x00"), "\x00")
		if len(changed) == 0 || slices.ContainsFunc(files, func(f string) bool { return strings.HasPrefix(f, r.prefix) }) {
			return message, nil
		}
	}
	return "", nil
}

// Commit is a commit, as its author describes it.
type Commit struct {
	ID      string
	Time    time.Time // when it was committed
	By      string    // the author's name
	Subject string
}

// mostCommits is how many commits are read.
const mostCommits = 1000

// Commits are the commits of a time that changed the folder, the newest first: from the first instant on, and before the second.
func (r *Repository) Commits(ctx context.Context, from, to time.Time) (list []Commit, err error) {
	all, err := git(ctx, r.top, "log", "-z", "--no-show-signature", "--no-color", "--encoding=UTF-8", "--format=%H%n%ct%n%an%n%s", fmt.Sprintf("--max-count=%d", mostCommits),
		"--since=@"+strconv.FormatInt(from.Unix()-1, 10), "--until=@"+strconv.FormatInt(to.Unix(), 10), "HEAD", "--", "./"+r.prefix)
	if err != nil || len(all) == 0 {
		return nil, err
	}
	for entry := range strings.SplitSeq(strings.TrimSuffix(string(all), "\x00"), "\x00") {
		parts := strings.SplitN(entry, "\n", 4)
		if len(parts) < 4 {
			return nil, fmt.Errorf("the version control told of a commit in another way than it was asked to: %q", entry)
		}
		seconds, err := strconv.ParseInt(parts[1], 10, 64)
		if err != nil {
			return nil, err
		}
		if at := time.Unix(seconds, 0); !at.Before(from) && at.Before(to) {
			list = append(list, Commit{parts[0], at, parts[2], parts[3]})
		}
	}
	return list, nil
}

// WriteTo writes the folder as it was at a commit into another folder.
func (r *Repository) WriteTo(ctx context.Context, commit, dir string) error {
	args := []string{"ls-tree", "-r", "-z", "--full-tree", commit}
	if r.prefix != "" {
		args = append(args, "--", r.prefix)
	}
	listed, err := git(ctx, r.top, args...)
	if err != nil {
		return err
	}
	files, err := entries(listed, r.prefix)
	if err != nil {
		return err
	}
	if len(files) == 0 {
		return errors.New("the folder was not there yet")
	}
	to, err := os.OpenRoot(dir)
	if err != nil {
		return err
	}
	defer to.Close()
	var names strings.Builder
	for _, f := range files {
		names.WriteString(f.blob + "\n")
	}
	c := command(ctx, r.top, "cat-file", "--batch")
	c.Stdin = strings.NewReader(names.String())
	out, err := c.StdoutPipe()
	if err != nil {
		return err
	}
	if err := c.Start(); err != nil {
		return err
	}
	err = write(to, files, bufio.NewReader(out))
	if err != nil {
		_ = c.Process.Kill()
	}
	return errors.Join(err, c.Wait())
}

// entry is a file of a tree.
type entry struct {
	name, blob string
	link       bool
}

// entries reads what "ls-tree -z" lists: MODE TYPE BLOB, a tab and the name of each.
func entries(listed []byte, prefix string) (list []entry, err error) {
	for line := range bytes.SplitSeq(bytes.TrimSuffix(listed, []byte{0}), []byte{0}) {
		if len(line) == 0 {
			continue
		}
		head, name, _ := strings.Cut(string(line), "\t")
		fields := strings.Fields(head)
		if len(fields) != 3 || fields[1] != "blob" {
			return nil, fmt.Errorf("%s is no file there, and cannot be read: a rulebook does not lie in several repositories", spell.Printable(name))
		}
		list = append(list, entry{strings.TrimPrefix(name, prefix), fields[2], fields[0] == "120000"})
	}
	return list, nil
}

// write writes files as "cat-file --batch" gives them: BLOB TYPE SIZE on a line, the bytes, and the end of a line.
func write(to *os.Root, files []entry, in *bufio.Reader) error {
	for _, f := range files {
		head, err := in.ReadString('\n')
		if err != nil {
			return err
		}
		fields := strings.Fields(head)
		if len(fields) != 3 || fields[0] != f.blob {
			return fmt.Errorf("%s cannot be read there: %s", spell.Printable(f.name), spell.Printable(strings.TrimSpace(head)))
		}
		size, err := strconv.ParseInt(fields[2], 10, 64)
		if err != nil {
			return err
		}
		if err := writeFile(to, f, io.LimitReader(in, size)); err != nil {
			return err
		}
		if _, err := in.Discard(1); err != nil {
			return err
		}
	}
	return nil
}

func writeFile(to *os.Root, f entry, in io.Reader) error {
	if err := to.MkdirAll(path.Dir(f.name), 0o700); err != nil {
		return err
	}
	if f.link {
		target, err := io.ReadAll(in)
		if err != nil {
			return err
		}
		return to.Symlink(filepath.FromSlash(string(target)), f.name)
	}
	out, err := to.OpenFile(f.name, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return err
	}
	_, err = io.Copy(out, in)
	return errors.Join(err, out.Close())
}

func command(ctx context.Context, dir string, args ...string) *exec.Cmd {
	c := exec.CommandContext(ctx, "git", append([]string{"--no-pager", "--no-replace-objects", "--literal-pathspecs", "-C", dir}, args...)...)
	c.Env = []string{"LC_ALL=C", "GIT_OPTIONAL_LOCKS=0", "GIT_TERMINAL_PROMPT=0"}
	for _, set := range os.Environ() {
		switch name, _, _ := strings.Cut(set, "="); name {
		case "GIT_DIR", "GIT_WORK_TREE", "GIT_PREFIX", "GIT_INDEX_FILE", "GIT_COMMON_DIR", "LC_ALL": // a hook's are about where it runs
		default:
			c.Env = append(c.Env, set)
		}
	}
	return c
}

// git gives what a command of Git writes; its error is what Git says.
func git(ctx context.Context, dir string, args ...string) ([]byte, error) {
	c := command(ctx, dir, args...)
	var said bytes.Buffer
	c.Stderr = &said
	out, err := c.Output()
	if err != nil && said.Len() > 0 {
		err = errors.New(spell.Printable(strings.TrimSpace(said.String())))
	}
	return out, err
}
