package main

// The demo's sign-ons, decided as they are made up.

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"slices"
	"testing/fstest"
	"time"

	"github.com/go-json-experiment/json"

	"briskwarden.example/briskwarden/internal/engine"
	"briskwarden.example/briskwarden/internal/history"
	"briskwarden.example/briskwarden/internal/rulebook"
	"briskwarden.example/briskwarden/signon"
)

// seed makes the sign-ons what they are.
const seed = 1123

// generate makes the files, by their names in the folder of the rulebook.
func generate(rules fs.FS) (map[string][]byte, error) {
	positions, err := database()
	if err != nil {
		return nil, err
	}
	files := map[string][]byte{"geo/positions.mmdb": positions}
	w, err := newWorld(rules, positions)
	if err != nil {
		return nil, err
	}
	visits := append(w.routine(), w.incidents()...)
	slices.SortStableFunc(visits, func(a, b visit) int { return a.at.Compare(b.at) })
	for _, v := range visits {
		if !v.at.Before(w.moment(days, 0)) {
			break
		}
		if err := w.visit(v); err != nil {
			return nil, err
		}
	}
	slices.SortStableFunc(w.lines, func(a, b signon.Logged) int { return a.Time.Compare(b.Time) })
	for i, l := range w.lines {
		l.ID = fmt.Sprintf("s-%06d", i+1)
		text, err := json.Marshal(l)
		if err != nil {
			return nil, err
		}
		year, week := l.Time.In(w.zone).ISOWeek()
		name := fmt.Sprintf("signons/%d-w%02d.jsonl.gz", year, week)
		files[name] = append(append(files[name], text...), '\n')
	}
	return files, nil
}

// leakKnown is the day on which it became known that Elias's password leaked.
const leakKnown = 23

// world decides on sign-ons as they happen, by the rulebook.
type world struct {
	rb     *rulebook.Rulebook
	engine *engine.Engine // by the rulebook as it stands
	before *engine.Engine // as it stood before Elias's password was known to have leaked
	past   *history.Past
	zone   *time.Location
	rand   *rand.Rand
	proofs map[string][]signon.Evidence // by user
	lines  []signon.Logged
	count  int
}

// visit is somebody who comes to an app.
type visit struct {
	at        time.Time
	user, app string
	from      place
	client    signon.Client
	presents  []string
	givesUp   bool // does not go on when more is asked
}

// place is where somebody is, and on what.
type place struct {
	ip     string
	device *signon.Device
}

// newWorld loads the rulebook, as it stands and as it stood.
func newWorld(rules fs.FS, positions []byte) (*world, error) {
	rb, err := load(rules, positions, "")
	if err != nil {
		return nil, err
	}
	earlier, err := load(rules, positions, "attr leaked yes")
	if err != nil {
		return nil, err
	}
	past := history.NewPast(rb.Zone)
	sources := engine.Sources{History: past}
	return &world{rb: rb, past: past, zone: rb.Zone, rand: rand.New(rand.NewPCG(seed, seed)), proofs: map[string][]signon.Evidence{},
		engine: engine.New(rb, sources), before: engine.New(earlier, sources)}, nil
}

// load loads the rulebook without the history that is to be made, and without some text.
func load(rules fs.FS, positions []byte, leftOut string) (*rulebook.Rulebook, error) {
	without := fstest.MapFS{}
	err := fs.WalkDir(rules, ".", func(name string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		data, err := fs.ReadFile(rules, name)
		if name == rulebook.TopFile {
			data = bytes.ReplaceAll(data, []byte("\n  history "), []byte("\n  # history "))
		}
		if leftOut != "" {
			data = bytes.ReplaceAll(data, []byte(leftOut), nil)
		}
		without[name] = &fstest.MapFile{Data: data}
		return err
	})
	if err != nil {
		return nil, err
	}
	without["geo/positions.mmdb"] = &fstest.MapFile{Data: positions}
	rb := rulebook.Load(without, rulebook.Options{})
	return rb, rb.Diagnostics.Err()
}

// visit lets the visit happen: the first try, and where more is asked, a second.
func (w *world) visit(v visit) error {
	w.count++
	session := fmt.Sprintf("w-%05d", w.count)
	d, err := w.try(v, session, v.at)
	if err != nil || d.Outcome != signon.StepUp || v.givesUp {
		return err
	}
	i := slices.IndexFunc(d.Next, func(s signon.Step) bool { return s.Do == signon.Verify })
	if i < 0 {
		return nil
	}
	v.presents = slices.Compact(slices.Sorted(slices.Values(append(slices.Clone(v.presents), d.Next[i].AnyOf[0]...))))
	_, err = w.try(v, session, v.at.Add(time.Duration(12+w.rand.IntN(50))*time.Second))
	return err
}

func (w *world) try(v visit, session string, at time.Time) (signon.Decision, error) {
	s := signon.SignOn{User: v.user, App: v.app, Time: at, Client: v.client, Presented: v.presents, Device: v.from.device,
		Session: signon.Session{ID: session, Started: v.at}, Evidence: w.recent(v.user, at)}
	var err error
	if s.IP, err = signon.ParseAddr(v.from.ip); err != nil {
		return signon.Decision{}, err
	}
	var d signon.Decision
	rules := w.engine
	if at.Before(w.moment(leakKnown, 12)) {
		rules = w.before
	}
	if err := rules.Decide(context.Background(), &s, &d, false); err != nil {
		return d, errors.Join(fmt.Errorf("%s to %s", v.user, v.app), err)
	}
	w.lines = append(w.lines, signon.Logged{SignOn: s, Outcome: d.Outcome, Recorded: true})
	if d.Outcome == signon.Grant {
		if err := w.engine.Teach(context.Background(), w.past, &s); err != nil {
			return d, err
		}
		w.remember(&s)
	}
	return d, nil
}

// recent is what the user proved in the last 12 hours.
func (w *world) recent(user string, at time.Time) (list []signon.Evidence) {
	for _, e := range w.proofs[user] {
		if at.Sub(e.Time) < 12*time.Hour {
			list = append(list, e)
		}
	}
	return list
}

// remember keeps the last proof by each method.
func (w *world) remember(s *signon.SignOn) {
	device := ""
	if s.Device != nil {
		device = s.Device.ID
	}
	for _, m := range s.Presented {
		list := slices.DeleteFunc(w.proofs[s.User], func(e signon.Evidence) bool { return e.Method == m })
		w.proofs[s.User] = append(list, signon.Evidence{Method: m, Time: s.Time, Session: s.Session.ID, Device: device, App: s.App})
	}
	slices.SortFunc(w.proofs[s.User], func(a, b signon.Evidence) int { return cmp.Compare(a.Method, b.Method) })
}
