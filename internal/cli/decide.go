package cli

// brisk decide.

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"strings"
	"time"
	"unicode"

	"github.com/spf13/cobra"

	"briskwarden.example/briskwarden"
	"briskwarden.example/briskwarden/explain"
	"briskwarden.example/briskwarden/internal/lines"
	"briskwarden.example/briskwarden/internal/screen"
	"briskwarden.example/briskwarden/internal/spell"
	"briskwarden.example/briskwarden/language/scanner"
	"briskwarden.example/briskwarden/signon"
)

type decideOptions struct {
	request  string
	requests []string
	id       string
	exitCode bool
}

func (s *session) decideCommand() *cobra.Command {
	var o decideOptions
	c := &cobra.Command{
		Use:   "decide CLAUSES",
		Short: "Decide on one sign-on, and say which policy answered and why the others did not",
		Long: `decide tells what the rulebook decides on a made-up sign-on, and why. The sign-on is told
in clauses, in any order; what is left out is unknown:

  user U   app A   doing ACTION   ip ADDRESS   country NO   at INSTANT   client browser
  device ID [{ os android  version 14  managed yes … }]   session ID [started INSTANT]
  presenting METHOD, …   having METHOD AGE [in session ID] [on device ID] [for app A]   risk N
  client-app ID   publisher NAME [verified]   scopes S, …   for self|everyone|group G [owner]
  suppose FACT VALUE, …   as if new.country, travel.speed, user.risk … had these values, or unknown`,
		RunE: func(_ *cobra.Command, words []string) error { return s.decide(words, o) },
	}
	c.Flags().StringVar(&o.request, "request", "", "decide on the request in a JSON file (- is standard input)")
	c.Flags().StringArrayVar(&o.requests, "requests", nil, "decide on each line of a JSON Lines file (- is standard input)")
	c.Flags().StringVar(&o.id, "id", "", "of --requests, explain the one sign-on with this id, such as the reference that somebody was given")
	s.addState(c)
	c.Flags().BoolVar(&o.exitCode, "exit-code", false, "exit with 0 grant, 10 review, 11 step-up, 12 block")
	return c
}

func (s *session) decide(words []string, o decideOptions) error {
	ways := 0
	for _, given := range []bool{len(words) > 0, o.request != "", len(o.requests) > 0} {
		if given {
			ways++
		}
	}
	switch {
	case o.id != "" && len(o.requests) == 0:
		return usage("say in which log the id is: --id ID --requests LOG")
	case ways == 0:
		return usage("tell the sign-on in clauses, such as: brisk decide user mira.holt app crew-roster, or give --request FILE")
	case ways > 1:
		return usage("give clauses, --request or --requests, not several of them")
	}
	rules, remembered, done, err := s.beside()
	if err != nil {
		return err
	}
	defer done()
	d := decider{s, rules, rules, o}
	if remembered != nil {
		d.explains = remembered
	}
	switch {
	case len(words) > 0:
		return d.decideClauses(words)
	case o.request != "":
		return d.decideRequest()
	}
	if o.id != "" {
		return d.decideByID()
	}
	return d.decideRequests()
}

// decider decides by a rulebook, or by that beside what a service remembers.
type decider struct {
	*session
	rules    *briskwarden.Rulebook
	explains interface {
		Explain(context.Context, signon.SignOn) (signon.Decision, error)
	}
	decideOptions
}

// joinWords puts the words of a command line together as one text of clauses. A word that
// the shell kept together, though it is no clause, is meant as a name.
func joinWords(words []string) string {
	if len(words) == 1 {
		return words[0]
	}
	text := make([]string, len(words))
	for i, w := range words {
		text[i] = w
		if w == "" || strings.IndexFunc(w, func(r rune) bool { return unicode.IsSpace(r) || unicode.IsControl(r) }) >= 0 && !strings.ContainsAny(w, `"{},`) {
			text[i] = scanner.Quote(w)
		}
	}
	return strings.Join(text, " ")
}

func (s *decider) decideClauses(words []string) error {
	so, err := s.told(s.rules.SignOn, commandLine, joinWords(words))
	if err != nil {
		return err
	}
	if err := s.oneInstant(&so); err != nil {
		return err
	}
	d, err := s.explains.Explain(s.ctx, so)
	if err != nil {
		return usage("%w", err)
	}
	return s.answer(&so, &d)
}

// oneInstant reports a sign-on told with "at", beside --at.
func (s *session) oneInstant(so *signon.SignOn) error {
	if s.at != "" && !so.Time.IsZero() {
		return usage("the clauses say at %s, and --at says %s: leave out one of them", so.Time.Format(time.RFC3339), s.at)
	}
	return nil
}

// commandLine is where clauses stand that were given there.
const commandLine = "command line"

// told reads a sign-on that is told in clauses. What is wrong with them is told with its place.
func (s *session) told(read func(clauses string) (signon.SignOn, error), place, text string) (signon.SignOn, error) {
	so, err := read(text)
	if err != nil {
		s.reportProblems("", syntaxProblems(err, place, text))
		return so, &exit{status: exitUsage}
	}
	return so, nil
}

func (s *decider) decideRequest() error {
	data, err := s.requestIn(s.request)
	if err != nil {
		return err
	}
	so, d, err := s.decideOn(data)
	if err != nil {
		if s.json {
			if err := s.writeJSON(d); err != nil {
				return err
			}
		}
		status := exitUsage
		if s.exitCode {
			status = outcomeStatus[signon.Block]
		}
		return &exit{status, fmt.Errorf("%s: %w", s.request, err)}
	}
	return s.answer(&so, &d)
}

func (s *decider) answer(so *signon.SignOn, d *signon.Decision) error {
	var err error
	if s.json {
		err = s.writeJSON(d)
	} else {
		s.out.Print(screen.Styled(explain.Text(s.rules, *so, *d, explain.Options{Colour: bool(s.paint)})))
	}
	if err == nil && s.exitCode && d.Outcome != signon.Grant {
		err = &exit{status: outcomeStatus[d.Outcome]}
	}
	return err
}

// outcomeStatus is the exit status of --exit-code.
var outcomeStatus = map[signon.Outcome]int{signon.Grant: exitDone, signon.Review: 10, signon.StepUp: 11, signon.Block: 12}

// decideOn decides on one request in JSON. After an error the decision is a block that says so.
func (s *decider) decideOn(data []byte) (so signon.SignOn, d signon.Decision, err error) {
	so, err = signon.Decode(data)
	if err != nil {
		return so, signon.Refused(signon.DecodeID(data), err), err
	}
	d, err = s.explains.Explain(s.ctx, so)
	return so, d, err
}

// open opens a file of requests, plain or packed, or standard input for "-".
func (s *session) open(name string) (io.ReadCloser, error) {
	l, err := s.openLog(name, &meter{})
	if err != nil {
		return nil, usage("%s: %w", name, err)
	}
	return l, nil
}

// requestIn reads the file of one request.
func (s *session) requestIn(name string) ([]byte, error) {
	in, err := s.open(name)
	if err != nil {
		return nil, err
	}
	defer in.Close()
	data, err := io.ReadAll(io.LimitReader(in, maxRequest+1))
	switch {
	case err != nil:
		return nil, usage("%w", err)
	case len(data) > maxRequest:
		return nil, usage("%s: %w", name, errTooLong)
	}
	return data, nil
}

// maxRequest is the size in bytes of the longest request that is read.
const maxRequest = 16 << 20

var errTooLong = fmt.Errorf("a request is at most %d MiB long", maxRequest>>20)

// decideRequests answers every request of every file with one line, in order, whatever is in it.
func (s *decider) decideRequests() error {
	strictest, unread := signon.Grant, 0
	for _, name := range s.requests {
		in, err := s.open(name)
		if err != nil {
			return err
		}
		err = eachLine(in, func(line []byte, long error) error {
			so, d, err := s.decideLine(line, long)
			if err != nil {
				unread++
			}
			strictest = min(strictest, d.Outcome)
			if s.json {
				return s.writeJSON(d)
			}
			s.summary(&so, &d)
			return nil
		})
		in.Close()
		if err != nil {
			return usage("%s: %w", name, err)
		}
	}
	var complaint error
	if unread > 0 {
		complaint = fmt.Errorf("%s could not be read and came out as block", spell.Plural(unread, "request"))
	}
	switch {
	case s.exitCode && strictest != signon.Grant:
		return &exit{outcomeStatus[strictest], complaint}
	case unread > 0:
		return &exit{exitUsage, complaint}
	}
	return nil
}

// errAnswered ends the reading of a log.
var errAnswered = errors.New("answered")

// otherwiseThen says that a sign-on of a log came out otherwise when it happened, and what may be why: its own facts and time are those of
// the log.
func (s *decider) otherwiseThen(line []byte, d *signon.Decision) {
	l, err := signon.DecodeLogged(line)
	if err != nil || !l.Recorded || l.Outcome == d.Outcome || s.json {
		return
	}
	s.out.Printf("%s\n\n", screen.Wrapped(s.paint.Amber("When it happened, it came out as "+l.Outcome.String())+screen.Styledf(", and by this rulebook it is %s now. Either the rulebook has changed, or what the service remembered then "+
		"is not known here: sessions, earlier proofs, signals and provisioned people.", d.Outcome), 2))
}

// decideByID explains the sign-on of an id. Lines that cannot be read have none.
func (s *decider) decideByID() error {
	for _, name := range s.requests {
		in, err := s.open(name)
		if err != nil {
			return err
		}
		var answered error
		err = eachLine(in, func(line []byte, long error) error {
			if long != nil || signon.DecodeID(line) != s.id {
				return nil
			}
			so, d, err := s.decideLine(line, nil)
			if err != nil {
				answered = usage("%s: %w", name, err)
			} else {
				s.otherwiseThen(line, &d)
				answered = s.answer(&so, &d)
			}
			return errAnswered
		})
		in.Close()
		switch {
		case errors.Is(err, errAnswered):
			return answered
		case err != nil:
			return usage("%s: %w", name, err)
		}
	}
	return usage("no sign-on there has the id %s: a log has those of its day, and of its node", scanner.Quote(s.id))
}

func (s *decider) decideLine(line []byte, long error) (signon.SignOn, signon.Decision, error) {
	if long != nil {
		return signon.SignOn{}, signon.Refused("", long), long
	}
	return s.decideOn(line)
}

// eachLine calls f with each line that is not blank; of one that is too long with an error instead.
func eachLine(in io.Reader, f func(line []byte, long error) error) error {
	r := bufio.NewReaderSize(in, 1<<16)
	var line []byte
	for {
		line = line[:0]
		var long, err error
		for more := true; more; {
			var part []byte
			part, err = r.ReadSlice('\n')
			if more = errors.Is(err, bufio.ErrBufferFull); long == nil {
				line = append(line, part...)
			}
			if len(line) > maxRequest {
				line, long = line[:0], errTooLong
			}
		}
		if err != nil && err != io.EOF {
			return err
		}
		text := string(lines.Trimmed(line))
		if long != nil || text != "" {
			if failed := f([]byte(text), long); failed != nil {
				return failed
			}
		}
		if err == io.EOF {
			return nil
		}
	}
}

// summary writes a decision as one line.
func (s *session) summary(so *signon.SignOn, d *signon.Decision) {
	id := screen.Pad(orNobody(d.ID), 10)
	outcome := s.paint.Outcome(d.Outcome, screen.Pad(d.Outcome.String(), 7))
	switch {
	case d.Error != "":
		s.out.Printf("%s  %s  %s\n", id, outcome, d.Error)
	case d.Explanation.Ground.Identity():
		s.out.Printf("%s  %s  %s\n", id, outcome, d.Message)
	default:
		s.out.Printf("%s  %s  %s to %s, by %s\n", id, outcome, orNobody(so.User), orNobody(so.App), explain.By(d))
	}
}
