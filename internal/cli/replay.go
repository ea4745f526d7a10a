package cli

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"slices"
	"time"

	"github.com/schollz/progressbar/v3"
	"github.com/spf13/cobra"

	"briskwarden.example/briskwarden/internal/diag"
	"briskwarden.example/briskwarden/internal/lines"
	"briskwarden.example/briskwarden/internal/replay"
	"briskwarden.example/briskwarden/internal/report"
	"briskwarden.example/briskwarden/internal/rulebook"
	"briskwarden.example/briskwarden/signon"
)

// replayFlags are what a replay is asked for.
type replayFlags struct {
	from, to, group, out string
	report               reportFlags
	options              replay.Options
}

func (s *session) replayCommand() *cobra.Command {
	var f replayFlags
	c := &cobra.Command{
		Use:   "replay LOG…",
		Short: "Decide every logged sign-on anew, and count what would happen, by what and to whom",
		Long: "replay decides every sign-on of the logs by the rulebook as it stands, and counts the outcomes by app,\n" +
			"policy, country, network, device and day; what would change against the log; and what policies on watch\n" +
			"would do. \"-\" is standard input. The order in which logs are named does not matter.",
		RunE: func(_ *cobra.Command, logs []string) error {
			if len(logs) == 0 {
				return usage("name at least one log: brisk replay LOG…")
			}
			return s.replay(logs, f)
		},
	}
	flags := c.Flags()
	flags.StringVar(&f.from, "from", "", "count what was from this date or instant on")
	flags.StringVar(&f.to, "to", "", "count what was up to this date, or before this instant")
	flags.StringVar(&f.options.User, "user", "", "count the sign-ons of this user")
	flags.StringVar(&f.group, "group", "", "count the sign-ons of people in this group")
	flags.StringVar(&f.options.App, "app", "", "count the sign-ons to this app")
	flags.StringVar(&f.options.Outcome, "outcome", "", "count what comes out as this now")
	flags.BoolVar(&f.options.AsDecided, "as-decided", false, "let the history learn what the rulebook grants, not what the log says was granted")
	flags.StringVar(&f.out, "out", "", "write the decisions on what counts to a file as JSON Lines, packed if it ends in .gz or .zst")
	f.report.add(flags)
	return c
}

func (s *session) replay(logs []string, f replayFlags) error {
	rb, err := s.sound()
	if err != nil {
		return err
	}
	if err := f.bind(rb); err != nil {
		return err
	}
	var summary *replay.Summary
	err = f.run(func() (err error) {
		summary, err = s.runReplay(rb, logs, f.options)
		return err
	})
	if err != nil {
		return err
	}
	if err := s.nothingFound(rb, summary, f.options.User); err != nil {
		return err
	}
	if err := s.writeReport(f.report, func() *report.Page { return report.Replay(rb, summary) }); err != nil {
		return err
	}
	if s.json {
		return s.writeJSON(replayJSON(rb, summary))
	}
	(&replayReport{session: s, rb: rb, sum: summary}).print()
	return nil
}

// nothingFound reports logs of which no line can be read, and a user whom neither they nor the rulebook know.
func (s *session) nothingFound(rb *rulebook.Rulebook, sum *replay.Summary, user string) error {
	if len(sum.Unread) > 0 {
		s.badLines(sum.Bad, sum.BadLines)
		return usage("no line of %s can be read as a sign-on", diag.Few(sum.Unread, 4))
	}
	if user != "" && rb.People[user] == nil && sum.Outcomes.All()+sum.Consents.Outcomes.All()+sum.Refused == 0 {
		return usage("--user: neither the rulebook nor the logs know a user %q%s", user, hint(user, slices.Sorted(maps.Keys(rb.People))))
	}
	return nil
}

// run lets the work write to the file of --out, if one is asked for, and finishes that when it went well.
func (f *replayFlags) run(work func() error) error {
	finish := func() error { return nil }
	if f.out != "" {
		out, err := lines.Create(f.out)
		if err != nil {
			return usage("--out: %w", err)
		}
		defer out.Discard()
		f.options.Decisions, finish = out, out.Finish
	}
	err := work()
	if err == nil {
		err = finish()
	}
	if err != nil {
		return usage("%w", err)
	}
	return nil
}

// bind reads and checks the options.
func (f *replayFlags) bind(rb *rulebook.Rulebook) (err error) {
	o := &f.options
	if o.From, o.To, err = bounds(f.from, f.to, rb.Zone); err != nil {
		return err
	}
	if _, known := rb.Apps[o.App]; o.App != "" && !known {
		return usage("--app: there is no app %q%s", o.App, hint(o.App, slices.Sorted(maps.Keys(rb.Apps))))
	}
	if _, err := signon.ParseOutcome(o.Outcome); o.Outcome != "" && err != nil {
		return usage("--outcome: %w", err)
	}
	o.Group = -1
	if f.group != "" {
		id, known := rb.Groups.Lookup(f.group)
		if !known {
			return usage("--group: there is no group %q%s", f.group, hint(f.group, rb.Groups.Names()))
		}
		o.Group = id
	}
	return nil
}

// runReplay opens the logs and replays them, with progress on a terminal.
func (s *session) runReplay(rb *rulebook.Rulebook, names []string, options replay.Options) (*replay.Summary, error) {
	logs, closeAll, err := s.openLogs(names, &options)
	if err != nil {
		return nil, err
	}
	defer closeAll()
	side := learning(rb)
	return replay.Run(side.Engine, side.Past, logs, options)
}

// openLogs opens logs, and lets the options show how far they are read.
func (s *session) openLogs(names []string, options *replay.Options) (logs []replay.Log, closeAll func(), err error) {
	var total int64
	var opened []io.Closer
	closeAll = func() {
		for _, c := range opened {
			c.Close()
		}
	}
	watch := &meter{}
	for _, name := range names {
		in, size, err := s.openLog(name, watch)
		if err != nil {
			closeAll()
			return nil, nil, fmt.Errorf("%s: %w", name, err)
		}
		opened = append(opened, in)
		total += size
		logs = append(logs, replay.Log{Name: name, In: in})
	}
	options.Progress = s.progress(total, watch)
	return logs, closeAll, nil
}

// eachLog reads one log after the other, with progress on a terminal.
func (s *session) eachLog(names []string, read func(in io.Reader, name string) error) error {
	var options replay.Options
	logs, closeAll, err := s.openLogs(names, &options)
	if err != nil {
		return usage("%w", err)
	}
	defer closeAll()
	lines := 0
	for _, log := range logs {
		in := log.In
		if options.Progress != nil {
			in = &lineMeter{in, &lines, options.Progress}
		}
		if err := read(in, log.Name); err != nil {
			return usage("%s: %w", log.Name, err)
		}
	}
	return nil
}

// lineMeter tells how many lines were read.
type lineMeter struct {
	io.Reader
	lines *int
	tell  func(lines int)
}

// Read reads on and tells.
func (t *lineMeter) Read(p []byte) (int, error) {
	n, err := t.Reader.Read(p)
	*t.lines += bytes.Count(p[:n], []byte("\n"))
	t.tell(*t.lines)
	return n, err
}

// meter counts the bytes that are read, of files as they lie on the disk.
type meter struct{ bytes int64 }

type metered struct {
	io.Reader
	*meter
}

// Read reads on and counts.
func (m metered) Read(p []byte) (int, error) {
	n, err := m.Reader.Read(p)
	m.bytes += int64(n)
	return n, err
}

// logFile is an open log, plain or packed.
type logFile struct {
	io.Reader
	io.Closer
}

// openLog opens a log; "-" is standard input, whose size is not known.
func (s *session) openLog(name string, m *meter) (log io.ReadCloser, size int64, err error) {
	if name == "-" {
		return io.NopCloser(s.in), 0, nil
	}
	f, err := os.Open(name)
	if err != nil {
		return nil, 0, errors.Unwrap(err)
	}
	info, err := f.Stat()
	if err == nil && info.IsDir() {
		err = errors.New("is a folder")
	}
	var in io.Reader
	if err == nil {
		in, err = lines.Unpacked(name, metered{f, m}, info.Size())
	}
	if err != nil {
		f.Close()
		return nil, 0, err
	}
	return logFile{in, f}, info.Size(), nil
}

// progress shows how far long work is, on a terminal alone.
func (s *session) progress(total int64, m *meter) func(signOns int) {
	if !newPainter(s.side) || total == 0 {
		return nil
	}
	bar := progressbar.NewOptions64(total, progressbar.OptionSetWriter(s.side), progressbar.OptionClearOnFinish(),
		progressbar.OptionSetWidth(30), progressbar.OptionSetElapsedTime(false), progressbar.OptionSetPredictTime(true),
		progressbar.OptionThrottle(100_000_000))
	start := time.Now()
	return func(signOns int) {
		rate := float64(signOns) / max(time.Since(start).Seconds(), 0.001)
		bar.Describe(fmt.Sprintf("%d sign-ons, %.0f a second", signOns, rate))
		_ = bar.Set64(min(total, m.bytes))
	}
}
