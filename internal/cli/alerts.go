package cli

// Trying alerts on past sign-ons.

import (
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"briskwarden.example/briskwarden/findings"
	"briskwarden.example/briskwarden/internal/lines"
	"briskwarden.example/briskwarden/internal/plainjson"
	"briskwarden.example/briskwarden/internal/screen"
	"briskwarden.example/briskwarden/internal/spell"
	"briskwarden.example/briskwarden/replay"
	"briskwarden.example/briskwarden/service"
)

func (s *session) alertsCommand() *cobra.Command {
	var from, to, out string
	var names []string
	c := &cobra.Command{
		Use:   "alerts LOG…",
		Short: "Try the alerts on past sign-ons: which would have been raised, to whom, how many a day",
		Long: "alerts takes logs through the rulebook, and tells which of its alerts would have been raised, how many would have\n" +
			"been sent to whom, and how many held back, before anybody is woken. \"-\" is standard input.",
		RunE: func(_ *cobra.Command, logs []string) error {
			if len(logs) == 0 {
				return usage("name at least one log: brisk alerts LOG…")
			}
			return s.alerts(logs, from, to, out, names)
		},
	}
	c.Flags().StringVar(&from, "from", "", "try what was from this date or instant on")
	c.Flags().StringVar(&to, "to", "", "try what was up to this date, or before this instant")
	c.Flags().StringArrayVar(&names, "alert", nil, "try this alert alone; may be given several times")
	c.AddCommand(s.alertsFailedCommand())
	c.Flags().StringVar(&out, "out", "", "write the messages to a file as JSON Lines, packed if it ends in .gz or .zst")
	return c
}

func (s *session) alerts(logs []string, from, to, out string, names []string) error {
	rules, _, err := s.rules()
	if err != nil {
		return err
	}
	o := replay.AlertOptions{Alerts: names, Messages: out != ""}
	if o.From, o.To, err = bounds(from, to, rules); err != nil {
		return err
	}
	var a *replay.Alerts
	err = s.withLogs(logs, func(logs []replay.Log, progress func(int)) (err error) {
		o.Progress = progress
		a, err = replay.TryAlerts(s.ctx, rules, logs, o)
		return err
	})
	if err != nil {
		return err
	}
	if out != "" {
		if err := writeMessages(out, a); err != nil {
			return usage("%w", err)
		}
	}
	if s.json {
		return s.writeJSON(a)
	}
	s.alertsText(a, rules.Zone())
	return nil
}

// writeMessages writes the messages of all alerts, in the order of their times within each.
func writeMessages(file string, a *replay.Alerts) error {
	out, err := lines.Create(file)
	if err != nil {
		return err
	}
	defer out.Discard()
	for _, t := range a.Alerts {
		for _, m := range t.Messages {
			line, err := plainjson.Marshal(m)
			if err != nil {
				return err
			}
			if _, err := out.Write(append(line, '\n')); err != nil {
				return err
			}
		}
	}
	return out.Finish()
}

func (s *session) alertsText(a *replay.Alerts, zone *time.Location) {
	if len(a.Alerts) == 0 {
		s.out.Println("The rulebook has no alerts: declare one with alert NAME { when … tell \"mailto:…\" }")
		return
	}
	s.out.Printf("%s over %s in %s.\n", s.paint.Bold(spell.Plural(len(a.Alerts), "alert")), spell.Plural(a.SignOns, "sign-on"), spell.Plural(a.Days, "day"))
	for _, t := range a.Alerts {
		s.out.Printf("\n%s  when %s\n", s.paint.Bold(t.Name), t.When)
		if t.Raised == 0 {
			s.out.Println("  never raised")
			continue
		}
		s.out.Printf("  %s raised, of %s; %s sent, %s a day, at most %d on one\n", fmt.Sprint(t.Raised), spell.Plural(t.Users, "user"), s.paint.Bold(fmt.Sprint(t.Sent)),
			fmt.Sprintf("%.1f", t.PerDay), t.MostDay)
		s.heldText(t)
		if to := strings.Join(t.Tell, ", "); to != "" {
			s.out.Printf("  to %s\n", to)
		} else {
			s.out.Printf("  %s\n", s.paint.Amber("nobody is told"))
		}
		for _, m := range t.Messages[:min(3, len(t.Messages))] {
			s.out.Printf("    %s  %s  %s to %s  %s\n", m.Time.In(zone).Format("Mon 2006-01-02 15:04"), screen.Pad(m.Outcome, 7), m.User, orNobody(m.App), s.paint.Faint(m.Where))
		}
		if more := len(t.Messages) - 3; more > 0 {
			s.out.Printf("    and %d more\n", more)
		}
	}
	s.badLines(a.Bad, a.BadLines)
}

// heldText tells what was not sent.
func (s *session) heldText(t *replay.AlertTally) {
	switch {
	case t.Held > 0 && t.Capped > 0:
		s.out.Printf("  %d held back by \"at most\", %d more beyond 60 an hour\n", t.Held, t.Capped)
	case t.Held > 0:
		s.out.Printf("  %d held back by \"at most\"\n", t.Held)
	case t.Capped > 0:
		s.out.Printf("  %d held back beyond 60 an hour\n", t.Capped)
	}
	if t.PerDay > findings.MostAlertsADay {
		s.out.Printf("  %s\n", s.paint.Amber("more than anybody reads: narrow its condition, or hold back more"))
	}
}

func (s *session) alertsFailedCommand() *cobra.Command {
	c := &cobra.Command{
		Use:   "failed",
		Short: "List what the service could not send: alerts and digests that were given up, or are tried again",
		RunE: func(_ *cobra.Command, args []string) error {
			if len(args) > 0 {
				return usage("failed lists all: a log of that name is ./failed")
			}
			return s.withRemembered(s.alertsFailed)
		},
	}
	s.addState(c)
	return c
}

// alertsFailed lists the messages that could not be sent: those that were given up first.
func (s *session) alertsFailed(b *service.Beside) error {
	var failed, waiting []service.Message
	for m, err := range b.Messages(s.ctx) {
		switch {
		case err != nil:
			return usage("%w", err)
		case !m.Failed.IsZero():
			failed = append(failed, m)
		case m.Tries > 0:
			waiting = append(waiting, m)
		}
	}
	if s.json {
		return s.writeJSON(map[string]any{"failed": append([]service.Message{}, failed...), "waiting": append([]service.Message{}, waiting...)})
	}
	if len(failed)+len(waiting) == 0 {
		s.out.Println("Everything that was to be sent was sent, or is on its way.")
		return nil
	}
	s.failedText("given up after three days", failed, b.Zone())
	s.failedText("not sent yet, and tried again", waiting, b.Zone())
	return nil
}

// mostFailed is how many messages are listed.
const mostFailed = 20

func (s *session) failedText(what string, list []service.Message, zone *time.Location) {
	if len(list) == 0 {
		return
	}
	s.out.Printf("%s %s\n", s.paint.Bold(spell.Plural(len(list), "message")), screen.Styled(what))
	for _, m := range list[:min(len(list), mostFailed)] {
		s.out.Printf("\n  %s  %s\n  to %s, tried %s: %s\n", m.Created.In(zone).Format("2006-01-02 15:04"), m.Subject, m.To, spell.Plural(m.Tries, "time"), m.Why)
	}
	if more := len(list) - mostFailed; more > 0 {
		s.out.Printf("\n  and %d more: --json has them all\n", more)
	}
	s.out.Println()
}
