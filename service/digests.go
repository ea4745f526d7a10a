package service

// Digests that the rulebook asks for: made at their hour, and sent once, whatever the number of nodes.

import (
	"context"
	"errors"
	"log/slog"
	"os"
	"strings"
	"time"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"

	"briskwarden.example/briskwarden/digest"
	"briskwarden.example/briskwarden/internal/lines"
	"briskwarden.example/briskwarden/internal/outbox"
	"briskwarden.example/briskwarden/internal/rulebook"
	"briskwarden.example/briskwarden/replay"
	"briskwarden.example/briskwarden/service/state"
)

// digestSent is when a digest was sent last, and of which rulebook.
type digestSent struct {
	At     time.Time `json:"at"` // the hour that it was due
	Digest string    `json:"digest"`

	Rest jsontext.Value `json:",embed"` // what this version does not know
}

// How late a digest may be, and how long a try waits for the next.
const (
	mostLate     = 24 * time.Hour
	digestAgain  = time.Minute
	historyInLog = 100 * 24 * time.Hour // logs that are older tell nothing that still counts
)

// digests sends the digests that are due, until the context ends. What could not be sent is tried again a minute later.
func (s *Service) digests(ctx context.Context) {
	again := map[string]time.Time{}
	tick := time.NewTicker(lookEvery)
	defer tick.Stop()
	for ctx.Err() == nil {
		for _, g := range s.engine().Rulebook().Digests {
			if len(g.Tell) == 0 || s.Clock().Before(again[g.Name]) {
				continue
			}
			if err := s.sendDigest(ctx, g); err != nil && ctx.Err() == nil {
				again[g.Name] = s.Clock().Add(digestAgain)
				s.Log.Error("a digest could not be sent, and is tried again", slog.String("digest", g.Name), slog.Any("error", err))
			}
		}
		select {
		case <-ctx.Done():
		case <-tick.C:
		}
	}
}

// sendDigest sends a digest if it is due, and no node has sent it.
func (s *Service) sendDigest(ctx context.Context, g *rulebook.WeekDigest) error {
	key := state.Key{Kind: state.Digest, Owner: g.Name}
	r, err := s.store.Read(ctx, []state.Key{key})
	if err != nil {
		return err
	}
	var sent digestSent
	if value := r.Items[0].Value; value != nil {
		if err := json.Unmarshal(value, &sent); err != nil {
			return err
		}
	}
	due := g.Last(r.At)
	if due.IsZero() || !due.After(sent.At) || r.At.Sub(due) > mostLate {
		return nil
	}
	d, err := s.makeDigest(ctx, g, due, sent.Digest)
	if err != nil {
		return err
	}
	c, err := content(d, "digest", d.Title(), d.Text(mailWidth), string(d.HTML()))
	if err != nil {
		return err
	}
	value, err := json.Marshal(digestSent{At: due, Digest: d.Digest, Rest: sent.Rest})
	if err != nil {
		return err
	}
	set := []state.Change{{Key: key, If: r.Items[0].Version, Value: value}}
	var messages []*outbox.Message
	for _, to := range g.Tell {
		m := s.sender.New(to.Address, to.SecretIn, "digest "+g.Name, r.At, c)
		change, err := m.Change(0)
		if err != nil {
			return err
		}
		messages, set = append(messages, m), append(set, change)
	}
	err = s.store.Write(ctx, set)[0]
	switch {
	case err == nil:
		s.sender.Added(messages...)
	case errors.Is(err, state.ErrConflict): // another node was first
		return nil
	}
	return err
}

// mailWidth is how many columns a mail has.
const mailWidth = 76

// makeDigest tells of the week before a digest's hour.
func (s *Service) makeDigest(ctx context.Context, g *rulebook.WeekDigest, due time.Time, before string) (*digest.Digest, error) {
	beside, err := NewBeside(ctx, s.rules.Rulebook(), s.store) // with the people who are provisioned
	if err != nil {
		return nil, err
	}
	defer beside.Close()
	o := digest.Options{Name: g.Name, To: due, Before: before, Workers: 1}
	if err := o.Complete(beside.Rulebook); err != nil {
		return nil, err
	}
	if err := beside.Watch(ctx, &o); err != nil {
		return nil, err
	}
	if ends := s.certificateEnds.Load(); ends != nil {
		o.Ends = append(o.Ends, digest.End{What: "the certificate of the service", At: *ends})
	}
	if s.Folder != "" {
		if o.Commits, err = digest.Commits(ctx, s.Folder, o.From, o.To); err != nil {
			s.Log.Warn("the version control of the rulebook could not be asked", slog.Any("error", err))
		}
	}
	logs, done, err := s.SignOns.read(o.From.Add(-historyInLog))
	defer done()
	if err != nil {
		return nil, err
	}
	return digest.Make(ctx, beside.Rulebook, logs, o)
}

// read opens the files of a log that hold what was from a day on; those of all nodes that share the folder. Done closes them.
func (l *Log) read(from time.Time) (logs []replay.Log, done func(), err error) {
	if l == nil {
		return nil, func() {}, nil
	}
	entries, err := os.ReadDir(l.dir)
	if err != nil {
		return nil, func() {}, err
	}
	first := from.UTC().Format(time.DateOnly)
	var names []string
	for _, e := range entries {
		if lines.Format(e.Name()) == ".jsonl" && e.Name() >= first && !strings.HasPrefix(e.Name(), ".") {
			names = append(names, e.Name())
		}
	}
	return replay.OpenLogs(os.DirFS(l.dir), names)
}
