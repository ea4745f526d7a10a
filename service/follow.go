package service

// A rulebook's folder that is edited while the service runs.

import (
	"context"
	"io/fs"
	"log/slog"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/fsnotify/fsnotify"

	"briskwarden.example/briskwarden"
)

// still is how long a folder must not have changed for what is in it to count.
const still = 2 * time.Second

// Follow reloads a rulebook whenever its folder changes, until the context is done. What the service writes itself,
// its state and its logs, is left out: except names those files and folders.
func Follow(ctx context.Context, live *briskwarden.Live, dir string, log *slog.Logger, except ...string) error {
	watcher, err := fsnotify.NewWatcher()
	if err != nil {
		return err
	}
	f := &follower{watcher: watcher, log: log}
	for _, name := range except {
		full, err := filepath.Abs(name)
		if err != nil {
			return err
		}
		f.except = append(f.except, full)
	}
	if err := f.watch(dir); err != nil {
		watcher.Close()
		return err
	}
	go f.run(ctx, live)
	return nil
}

type follower struct {
	watcher *fsnotify.Watcher
	log     *slog.Logger
	except  []string
}

// watch watches a folder and those in it.
func (f *follower) watch(dir string) error {
	return filepath.WalkDir(dir, func(name string, d fs.DirEntry, err error) error {
		switch {
		case err != nil || !d.IsDir():
			return err
		case f.excepts(name):
			return fs.SkipDir
		}
		return f.watcher.Add(name)
	})
}

// excepts reports whether a file is one of the service's own, or beside it, as the journal of a database is.
func (f *follower) excepts(name string) bool {
	full, err := filepath.Abs(name)
	return err == nil && slices.ContainsFunc(f.except, func(own string) bool {
		return full == own || strings.HasPrefix(full, own+"-") || strings.HasPrefix(full, own+string(filepath.Separator))
	})
}

func (f *follower) run(ctx context.Context, live *briskwarden.Live) {
	defer f.watcher.Close()
	quiet := time.NewTimer(still)
	quiet.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case e := <-f.watcher.Events:
			if e.Name == "" || e.Op == fsnotify.Chmod || f.excepts(e.Name) {
				continue
			}
			if e.Has(fsnotify.Create) {
				_ = f.watch(e.Name) // a folder; of a file, or one that is gone again, there is nothing to watch
			}
			quiet.Reset(still)
		case err := <-f.watcher.Errors:
			if err != nil { // events may be lost
				f.log.Warn("the rulebook's folder cannot be followed well: it is read again", slog.Any("error", err))
				quiet.Reset(still)
			}
		case <-quiet.C:
			_ = live.Reload() // which tells its logger
		}
	}
}
