package cli

// brisk replay: its options, its logs and its progress.

import (
	"fmt"
	"io"
	"slices"
	"sync/atomic"
	"time"

	"github.com/schollz/progressbar/v3"
	"github.com/spf13/cobra"

	"briskwarden.example/briskwarden"
	"briskwarden.example/briskwarden/internal/lines"
	"briskwarden.example/briskwarden/internal/screen"
	"briskwarden.example/briskwarden/internal/spell"
	"briskwarden.example/briskwarden/replay"
	"briskwarden.example/briskwarden/report"
	"briskwarden.example/briskwarden/signon"
)

// replayFlags are what a replay is asked for.
type replayFlags struct {
	from, to, out string
	part          string
	report        reportFlags
	options       replay.Options
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
	s.addState(c)
	flags.StringVar(&f.from, "from", "", "count what was from this date or instant on")
	flags.StringVar(&f.to, "to", "", "count what was up to this date, or before this instant")
	flags.StringVar(&f.options.User, "user", "", "count the sign-ons of this user")
	flags.StringVar(&f.options.Group, "group", "", "count the sign-ons of people in this group")
	flags.StringVar(&f.options.App, "app", "", "count the sign-ons to this app")
	flags.StringVar(&f.options.Outcome, "outcome", "", "count what comes out as this now")
	flags.BoolVar(&f.options.AsDecided, "as-decided", false, "let the history learn what the rulebook grants, not what the log says was granted")
	flags.StringVar(&f.out, "out", "", "write the decisions on what counts to a file as JSON Lines, packed if it ends in .gz or .zst")
	flags.StringVar(&f.part, "part", "", "take the people of one part alone, such as 3/8, and write what it counted for brisk merge")
	f.report.add(flags)
	return c
}

func (s *session) replay(logs []string, f replayFlags) error {
	rules, _, done, err := s.beside()
	if err != nil {
		return err
	}
	defer done()
	if err := f.bind(rules); err != nil {
		return err
	}
	var summary *replay.Summary
	err = f.run(func() (err error) {
		return s.withLogs(logs, func(logs []replay.Log, progress func(int)) (err error) {
			f.options.Progress = progress
			summary, err = replay.Run(s.ctx, rules, logs, f.options)
			return err
		})
	})
	if err != nil {
		return err
	}
	if f.part != "" {
		return summary.WritePart(s.out.Machine(), f.options)
	}
	if err := s.nothingFound(rules, summary, f.options.User); err != nil {
		return err
	}
	return s.replayed(rules, summary, f.report)
}

// replayed tells what a replay counted.
func (s *session) replayed(rules *briskwarden.Rulebook, summary *replay.Summary, to reportFlags) error {
	if err := s.writeReport(to, func() *report.Page { return report.Replay(rules, summary) }); err != nil {
		return err
	}
	if s.json {
		return s.writeJSON(summary)
	}
	(&replayReport{session: s, zone: rules.Zone(), sum: summary}).print()
	return nil
}

// nothingFound reports logs of which no line can be read, and a user whom neither they nor the rulebook know.
func (s *session) nothingFound(rules *briskwarden.Rulebook, sum *replay.Summary, user string) error {
	if len(sum.Unread) > 0 {
		s.badLines(sum.Bad, sum.BadLines)
		return usage("no line of %s can be read as a sign-on", spell.Few(sum.Unread, 4))
	}
	if user != "" && sum.Outcomes.All()+sum.Consents.Outcomes.All()+sum.Refused == 0 && !slices.Contains(rules.Users(), user) {
		return usage("--user: neither the rulebook nor the logs know a user %q%s", user, hint(user, rules.Users()))
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
func (f *replayFlags) bind(rules *briskwarden.Rulebook) (err error) {
	o := &f.options
	if f.part != "" {
		if o.Part, err = replay.ParsePart(f.part); err != nil {
			return usage("--part: %w", err)
		}
		if f.report != (reportFlags{}) {
			return usage("a part makes no report: brisk merge --report FILE.html does, of all parts")
		}
	}
	if o.From, o.To, err = bounds(f.from, f.to, rules); err != nil {
		return err
	}
	if o.App != "" && !slices.Contains(rules.Apps(), o.App) {
		return usage("--app: there is no app %q%s", o.App, hint(o.App, rules.Apps()))
	}
	if _, err := signon.ParseOutcome(o.Outcome); o.Outcome != "" && err != nil {
		return usage("--outcome: %w", err)
	}
	if o.Group != "" && !slices.Contains(rules.Groups(), o.Group) {
		return usage("--group: there is no group %q%s", o.Group, hint(o.Group, rules.Groups()))
	}
	return nil
}

// meter counts the bytes that are read, of files as they lie on the disk.
type meter struct{ bytes atomic.Int64 }

type metered struct {
	io.Reader
	*meter
}

// Read reads on and counts.
func (m metered) Read(p []byte) (int, error) {
	n, err := m.Reader.Read(p)
	m.bytes.Add(int64(n))
	return n, err
}

// progress shows how far long work is, on a terminal alone.
func (s *session) progress(total int64, m *meter) func(signOns int) {
	if !screen.NewPainter(s.side) || total == 0 {
		return nil
	}
	bar := progressbar.NewOptions64(total, progressbar.OptionSetWriter(s.side), progressbar.OptionClearOnFinish(),
		progressbar.OptionSetWidth(30), progressbar.OptionSetElapsedTime(false), progressbar.OptionSetPredictTime(true),
		progressbar.OptionThrottle(100_000_000))
	start := time.Now()
	return func(signOns int) {
		rate := float64(signOns) / max(time.Since(start).Seconds(), 0.001)
		bar.Describe(fmt.Sprintf("%d sign-ons, %.0f a second", signOns, rate))
		_ = bar.Set64(min(total, m.bytes.Load()))
	}
}
