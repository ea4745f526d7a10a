package service

// A rulebook's folder that is edited while the service runs.

import (
	"context"
	"io/fs"
	"log/slog"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"briskwarden.example/briskwarden"
)

// How long a folder must not have changed for what is in it to count, and how often it is looked at.
const (
	still    = 2 * time.Second
	lookEach = 250 * time.Millisecond
)

// Follow reloads a rulebook whenever its folder changes, until the context is done. The path is looked at, not the folder that
// is there now, which another may replace; names, sizes, times and identities of files tell what changed. What the service
// writes itself, its state and its logs, does not count: except names those files and folders. /readyz reports a folder that
// cannot be looked at.
func (s *Service) Follow(ctx context.Context, live *briskwarden.Live, dir string, except ...string) error {
	f := &follower{dir: dir}
	for _, name := range except {
		full, err := filepath.Abs(name)
		if err != nil {
			return err
		}
		f.except = append(f.except, full)
	}
	first, err := f.look()
	if err != nil {
		return err
	}
	s.stopped.Go(func() { s.follow(ctx, live, f, first) })
	return nil
}

// follow looks at the folder until the context is done, or the service is closed.
func (s *Service) follow(ctx context.Context, live *briskwarden.Live, f *follower, loaded folder) {
	seen, since := loaded, time.Now()
	pause := lookEach
	for {
		select {
		case <-ctx.Done():
			return
		case <-s.closing.Done():
			return
		case <-time.After(pause):
		}
		begun := time.Now()
		now, err := f.look()
		pause = max(lookEach, 10*time.Since(begun)) // a large folder is looked at less often
		s.unwatched.Store(errorText(err))
		switch {
		case err != nil:
			s.Log.Error("the rulebook's folder cannot be watched", slog.String("folder", f.dir), slog.Any("error", err))
			loaded, seen, since = nil, nil, time.Now()
		case !slices.Equal(now, seen):
			seen, since = now, time.Now()
		case !slices.Equal(now, loaded) && time.Since(since) >= still:
			loaded = now
			_ = live.Reload() // which tells its logger
		}
	}
}

func errorText(err error) *string {
	if err == nil {
		return nil
	}
	text := err.Error()
	return &text
}

// follower looks at a folder.
type follower struct {
	dir    string
	except []string
}

// folder is what tells one state of a folder from another.
type folder []file

type file struct {
	name     string
	size     int64
	changed  time.Time
	mode     fs.FileMode
	identity uint64
}

// look looks at all files of the folder. Links are followed to files, and to the folder itself.
func (f *follower) look() (all folder, err error) {
	root, err := filepath.EvalSymlinks(f.dir)
	if err != nil {
		return nil, err
	}
	err = filepath.WalkDir(root, func(name string, d fs.DirEntry, err error) error {
		switch {
		case os.IsNotExist(err) && name != root: // it was deleted meanwhile
			return nil
		case err != nil:
			return err
		case f.excepts(root, name):
			if d.IsDir() {
				return fs.SkipDir
			}
			return nil
		}
		info, err := os.Stat(name)
		if err != nil { // a link that leads nowhere counts as what it is
			if info, err = os.Lstat(name); err != nil {
				return nil
			}
		}
		one := file{name: name, mode: info.Mode(), identity: identityOf(info)}
		if !info.IsDir() {
			one.size, one.changed = info.Size(), info.ModTime()
		}
		all = append(all, one)
		return nil
	})
	return all, err
}

// excepts reports whether a file is one of the service's own, or beside it, as the journal of a database is.
func (f *follower) excepts(root, name string) bool {
	full, err := filepath.Abs(name)
	if err != nil {
		return false
	}
	below, _ := filepath.Rel(root, name)
	asNamed, _ := filepath.Abs(filepath.Join(f.dir, below)) // as it is called where the folder is a link
	return slices.ContainsFunc(f.except, func(own string) bool {
		return slices.ContainsFunc([]string{full, asNamed}, func(one string) bool {
			return one == own || strings.HasPrefix(one, own+"-") || strings.HasPrefix(one, own+string(filepath.Separator))
		})
	})
}
