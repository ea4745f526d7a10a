package digest

// What changed in the version control that a rulebook lies in.

import (
	"context"
	"errors"
	"os/exec"
	"time"

	"briskwarden.example/briskwarden"
	"briskwarden.example/briskwarden/internal/bridge"
	"briskwarden.example/briskwarden/internal/revision"
)

// Commits gives the commits of a time that changed the rulebook in a folder, the newest first; none where the folder lies in no
// version control.
func Commits(ctx context.Context, dir string, from, to time.Time) (list []Commit, err error) {
	if _, err := exec.LookPath("git"); err != nil {
		return nil, nil
	}
	repository, err := revision.Of(ctx, dir)
	if err != nil {
		return nil, nil
	}
	commits, err := repository.Commits(ctx, from, to)
	for _, c := range commits {
		list = append(list, Commit{c.ID, c.Time, c.By, c.Subject})
	}
	return list, err
}

// Complete fills in the period where it is not given: the week before now, by the rulebook's clock. The error says that it ends
// before it begins.
func (o *Options) Complete(rules *briskwarden.Rulebook) error {
	if o.To.IsZero() {
		o.To = bridge.Engine(rules).Now()
	}
	if o.From.IsZero() {
		o.From = o.To.Add(-week)
	}
	if !o.From.Before(o.To) {
		return errors.New("the period ends before it begins")
	}
	return nil
}
