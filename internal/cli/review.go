package cli

// brisk review.

import (
	"errors"
	"fmt"
	"os"
	"regexp"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"briskwarden.example/briskwarden"
	"briskwarden.example/briskwarden/internal/lines"
	"briskwarden.example/briskwarden/internal/revision"
	"briskwarden.example/briskwarden/internal/screen"
	"briskwarden.example/briskwarden/internal/spell"
	"briskwarden.example/briskwarden/replay"
	"briskwarden.example/briskwarden/review"
)

type reviewFlags struct {
	logs             []string
	markdown, accept string
	span             spanFlags
}

func (s *session) reviewCommand() *cobra.Command {
	var f reviewFlags
	c := &cobra.Command{
		Use:   "review BASE [--log LOG]",
		Short: "Tell what a change to the rulebook does, before it counts: the worst first",
		Long: "review tells what became of a rulebook since BASE, which is a folder, or a revision of the Git repository that the\n" +
			"rulebook lies in: every way in which some possible sign-on comes out differently, promises and expectations that\n" +
			"changed their answer, findings new and gone, who is no longer ready, and what a log would have felt. Where something\n" +
			"loosens, somebody has to say why: with --accept, or a line of a commit's message since BASE: loosens because \"…\".",
		RunE: func(c *cobra.Command, args []string) error {
			if len(args) != 1 {
				return usage("name what it was before, a folder or a revision: brisk review BASE [--log LOG]")
			}
			if c.Flags().Changed("accept") && strings.TrimSpace(f.accept) == "" {
				return usage("--accept: say why it may loosen")
			}
			return s.review(args[0], f)
		},
	}
	c.Flags().StringArrayVar(&f.logs, "log", nil, "a sign-on log that tells who would have felt it; may be given several times, and \"-\" is standard input")
	c.Flags().StringVar(&f.markdown, "markdown", "", "write the review to a file as Markdown too")
	c.Flags().StringVar(&f.accept, "accept", "", "why it may loosen")
	c.Flags().StringVar(&f.span.within, "within", "2m", "how long it may take, such as 30s or 2m; what is not decided by then says so")
	return c
}

func (s *session) review(base string, f reviewFlags) error {
	within, err := f.span.limit()
	if err != nil {
		return err
	}
	var now time.Time
	clock := briskwarden.WithClock(func() time.Time { return now })
	after, at, err := s.rules(clock)
	if err != nil {
		return err
	}
	now = at
	before, reason, err := s.before(base, clock)
	if err != nil {
		return err
	}
	if f.accept != "" {
		reason = f.accept
	}
	if reason != "" && !lines.Says(reason) {
		return usage("the reason %q has no letter that can be read: say why it may loosen", spell.Printable(reason))
	}
	r, err := s.reviewed(before, after, f, within)
	if err != nil {
		return err
	}
	if f.markdown != "" {
		if err := lines.WriteFile(f.markdown, []byte(r.Markdown(reason))); err != nil {
			return usage("--markdown: %w", err)
		}
	}
	if s.json {
		err = s.writeJSON(struct {
			Loosens  bool   `json:"loosens"`
			Accepted string `json:"accepted,omitzero"` // why it may
			Sentence string `json:"sentence"`
			*review.Review
		}{r.Loosens(), reason, r.Sentence(), r})
	} else {
		s.reviewText(r, reason)
	}
	if err == nil && r.Loosens() && reason == "" {
		err = &exit{status: exitFindings}
	}
	return err
}

func (s *session) reviewed(before, after *briskwarden.Rulebook, f reviewFlags, within time.Duration) (r *review.Review, err error) {
	err = s.withLogs(f.logs, func(logs []replay.Log, progress func(int)) (err error) {
		r, err = review.Change(s.ctx, before, after, review.Options{Within: within, Logs: logs, Progress: progress})
		return err
	})
	return r, err
}

// before opens the rulebook as it was, in a folder or at a revision, and finds why the change since may loosen.
func (s *session) before(base string, clock briskwarden.Option) (rules *briskwarden.Rulebook, reason string, err error) {
	dir := base
	if at, err := os.Stat(base); err != nil || !at.IsDir() {
		temp, err := os.MkdirTemp("", "brisk-review-*")
		if err != nil {
			return nil, "", usage("%w", err)
		}
		defer os.RemoveAll(temp)
		if reason, err = s.revision(base, temp); err != nil {
			return nil, "", usage("%q is no folder, and no revision that can be read: %w", base, err)
		}
		dir = temp
	}
	if rules, err = s.rulesIn(dir, clock); errors.Is(err, errUnsound) {
		err = usage("%s: %w", base, errUnsound)
	}
	return rules, reason, err
}

// revision writes the rulebook's folder as it was at a revision into another, and finds why the commits since may loosen.
func (s *session) revision(name, to string) (reason string, err error) {
	folder, err := revision.Of(s.ctx, s.opened)
	if err != nil {
		return "", err
	}
	commit, err := folder.Commit(s.ctx, name)
	if err != nil {
		return "", err
	}
	message, err := folder.Message(s.ctx, commit, loosens.MatchString)
	if err != nil {
		return "", err
	}
	if because := loosens.FindStringSubmatch(message); because != nil {
		reason = because[1]
	}
	return reason, folder.WriteTo(s.ctx, commit, to)
}

// loosens is the line of a commit's message that says why the change may loosen.
var loosens = regexp.MustCompile(`(?m)^[ \t]*loosens because "([^"\n]*[^"\s][^"\n]*)"`)

func (s *session) reviewText(r *review.Review, reason string) {
	sentence := r.Sentence()
	switch {
	case !r.Loosens():
		s.out.Println(s.paint.Green(sentence))
	case reason == "":
		s.out.Println(s.paint.Red(sentence))
		s.out.Println("Something loosens and nobody said why: say it with --accept \"…\", or in the commit's message as loosens because \"…\"")
	default:
		s.out.Println(s.paint.Amber(sentence))
		s.out.Printf("It may, because %s\n", screen.Wrapped(reason, 2))
	}
	s.out.Println(s.paint.Faint(r.Spans()))
	for _, part := range r.Sections() {
		title := s.paint.Bold(part.Title)
		if part.Worse {
			title = s.paint.Amber(part.Title)
		}
		s.out.Printf("\n%s\n", title)
		for _, item := range part.Items {
			s.out.Printf("  %s\n", screen.Wrapped(item[0].Text, 4))
			for _, line := range item[1:] {
				s.out.Printf("    %s %s\n", screen.Pad(line.Label, 6), screen.Wrapped(line.Text, 11))
			}
		}
		if part.More > 0 {
			s.out.Printf("  %s\n", s.paint.Faint(fmt.Sprintf("and %d more, which --json lists", part.More)))
		}
	}
}
