package replay

// Replays of logs that are larger than a machine: sign-ons of different people have nothing to do with each other, so that each
// part takes some of the people, and what the parts counted is added up to the counts of an undivided run.

import (
	"errors"
	"fmt"
	"hash/fnv"
	"io"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/go-json-experiment/json"

	"briskwarden.example/briskwarden"
	"briskwarden.example/briskwarden/internal/bridge"
	"briskwarden.example/briskwarden/internal/plainjson"
	"briskwarden.example/briskwarden/internal/rulebook"
	"briskwarden.example/briskwarden/internal/schedule"
)

// Part is one of several parts of a replay; the zero Part is the whole.
type Part struct{ Number, Of int }

// mostParts is how many parts a replay may have.
const mostParts = 10_000

// ParsePart reads a part, such as "3/8".
func ParsePart(text string) (p Part, err error) {
	number, of, _ := strings.Cut(text, "/")
	p.Number, err = strconv.Atoi(number)
	if err == nil {
		p.Of, err = strconv.Atoi(of)
	}
	if err != nil || p.Number < 1 || p.Of < p.Number || p.Of > mostParts || p.String() != text {
		return Part{}, fmt.Errorf("%q is no part: write 3/8 for the third of eight", text)
	}
	return p, nil
}

// String writes the part as it is read.
func (p Part) String() string { return fmt.Sprintf("%d/%d", p.Number, p.Of) }

// has reports whether a user is among the people of the part.
func (p Part) has(user string) bool {
	if p.Of < 2 {
		return true
	}
	h := fnv.New64a()
	_, _ = io.WriteString(h, user) // never fails
	return h.Sum64()%uint64(p.Of) == uint64(p.Number-1)
}

// partFormat is the version of the document that a part is written as.
const partFormat = 1

// countedPart is the document of a part: what a [Summary] has, as it is.
type countedPart struct {
	Format   int    `json:"format"`
	Rulebook string `json:"rulebook"` // the digest
	Part     string `json:"part"`
	Asked    string `json:"asked"` // the options, which must be the same for all parts

	Span     Span                `json:"span"`
	Outcomes Outcomes            `json:"outcomes"`
	Apps     map[string]Outcomes `json:"apps"`
	Hours    [7][24]Outcomes     `json:"hours"`
	Days     map[string]Outcomes `json:"days"`

	Refused   int                    `json:"refused"`
	BadLines  int                    `json:"bad_lines"`
	Bad       []BadLine              `json:"bad"`
	Unread    []string               `json:"unread"`
	Countries map[string]Outcomes    `json:"countries"`
	Forms     map[string]Outcomes    `json:"forms"`
	Networks  []Outcomes             `json:"networks"`
	Elsewhere Outcomes               `json:"elsewhere"`
	Reasoning countedReasoning       `json:"reasoning"`
	People    map[string]PersonTally `json:"people"`
	Watched   map[string]WatchTally  `json:"watched"` // by policy
	Consents  countedConsents        `json:"consents"`
}

type countedReasoning struct {
	Cases    []countedCase       `json:"cases"`
	Grounds  map[string]Outcomes `json:"grounds"`
	Recorded Table               `json:"recorded"`
}

type countedCase struct {
	Taken   Outcomes `json:"taken"`
	Open    int      `json:"open"`
	Decided Outcomes `json:"decided"`
	First   Outcomes `json:"first"`
}

type countedConsents struct {
	Outcomes  Outcomes            `json:"outcomes"`
	Reasoning countedReasoning    `json:"reasoning"`
	Clients   map[string]Outcomes `json:"clients"`
}

// asked says which sign-ons count, so that parts of different questions are told apart.
func (o *Options) asked() string {
	return fmt.Sprintf("from %s to %s user %q group %q app %q outcome %q as decided %t", o.From.UTC().Format(time.RFC3339Nano), o.To.UTC().Format(time.RFC3339Nano), o.User, o.Group, o.App, o.Outcome, o.AsDecided)
}

func flat[K comparable](m map[K]*Outcomes, name func(K) string) map[string]Outcomes {
	list := make(map[string]Outcomes, len(m))
	for k, o := range m {
		list[name(k)] = *o
	}
	return list
}

func itself(s string) string { return s }

func (s *Reasoning) counted() countedReasoning {
	c := countedReasoning{Grounds: flat(s.Grounds, itself), Recorded: s.Recorded}
	for i := range s.Cases {
		k := &s.Cases[i]
		c.Cases = append(c.Cases, countedCase{k.Taken, k.Open, k.Decided, k.first})
	}
	return c
}

// WritePart writes what a part of a replay counted, by the options that it was run with, for [Merge].
func (s *Summary) WritePart(w io.Writer, o Options) error {
	c := countedPart{Format: partFormat, Rulebook: s.rb.Digest, Part: o.Part.String(), Asked: o.asked(), Span: s.Span, Outcomes: s.Outcomes, Apps: flat(s.Apps, itself), Hours: s.Hours,
		Days: flat(s.days, schedule.Date.String), Refused: s.Refused, BadLines: s.BadLines, Bad: s.Bad, Unread: s.Unread, Countries: flat(s.Countries, itself), Forms: flat(s.Forms, itself),
		Networks: s.Networks, Elsewhere: s.Elsewhere, Reasoning: s.Reasoning.counted(), People: make(map[string]PersonTally, len(s.People)), Watched: map[string]WatchTally{},
		Consents: countedConsents{s.Consents.Outcomes, s.Consents.Reasoning.counted(), flat(s.Consents.Clients, itself)}}
	for user, p := range s.People {
		c.People[user] = *p
	}
	for p, t := range s.watched {
		c.Watched[p.Name] = *t
	}
	text, err := plainjson.Marshal(&c, json.Deterministic(true))
	if err != nil {
		return err
	}
	_, err = w.Write(append(text, '\n'))
	return err
}

// Merge adds up what all parts of a replay counted, in whatever order they are given. The error says which part is missing, stands
// twice, or is of another rulebook or question.
func Merge(rules *briskwarden.Rulebook, parts []Log) (*Summary, error) {
	rb := bridge.Engine(rules).Rulebook()
	total := newSummary(rb)
	seen := map[int]string{}
	var first *countedPart
	var of int
	for _, in := range parts {
		c, p, err := readPart(in, rb)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", in.Name, err)
		}
		switch {
		case first == nil:
			first, of = c, p.Of
			total.BadLines, total.Bad, total.Unread = c.BadLines, c.Bad, c.Unread
		case p.Of != of || c.Asked != first.Asked:
			return nil, fmt.Errorf("%s: it is a part of another replay than %s", in.Name, parts[0].Name)
		case c.BadLines != first.BadLines || !slices.Equal(c.Unread, first.Unread):
			return nil, fmt.Errorf("%s: it is of other logs than %s", in.Name, parts[0].Name)
		}
		if other, twice := seen[p.Number]; twice {
			return nil, fmt.Errorf("%s: %s is the same part, %s", in.Name, other, p)
		}
		seen[p.Number] = in.Name
		s, err := c.summary(rb)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", in.Name, err)
		}
		total.add(s)
	}
	if first == nil {
		return nil, errors.New("there are no parts")
	}
	for n := 1; n <= of; n++ {
		if seen[n] == "" {
			return nil, fmt.Errorf("part %d/%d is missing", n, of)
		}
	}
	total.Watched = total.watching()
	return total, nil
}

// mostOfPart is how large the document of a part may be, in bytes.
const mostOfPart = 4 << 30

func readPart(in Log, rb *rulebook.Rulebook) (c *countedPart, p Part, err error) {
	c = new(countedPart)
	if err := json.UnmarshalRead(io.LimitReader(in.In, mostOfPart), c, json.RejectUnknownMembers(true)); err != nil {
		return nil, p, fmt.Errorf("it is no part of a replay: %w", err)
	}
	p, err = ParsePart(c.Part)
	switch {
	case err != nil:
		return nil, p, err
	case c.Format != partFormat:
		return nil, p, fmt.Errorf("it is of the format %d, and not %d", c.Format, partFormat)
	case c.Rulebook != rb.Digest:
		return nil, p, fmt.Errorf("it is of another rulebook, %s", c.Rulebook)
	case len(c.Networks) != len(rb.Networks.Names):
		return nil, p, errors.New("it has other networks than the rulebook")
	}
	return c, p, nil
}

func unflat(to map[string]*Outcomes, from map[string]Outcomes) {
	for k, o := range from {
		to[k] = &o
	}
}

// summary is what the document says, as it was counted.
func (c *countedPart) summary(rb *rulebook.Rulebook) (*Summary, error) {
	s := newSummary(rb)
	s.Span, s.Outcomes, s.Hours, s.Refused, s.Networks, s.Elsewhere = c.Span, c.Outcomes, c.Hours, c.Refused, c.Networks, c.Elsewhere
	unflat(s.Apps, c.Apps)
	unflat(s.Countries, c.Countries)
	unflat(s.Forms, c.Forms)
	unflat(s.Consents.Clients, c.Consents.Clients)
	s.Consents.Outcomes = c.Consents.Outcomes
	for text, o := range c.Days {
		day, err := schedule.ParseDate(text)
		if err != nil {
			return nil, err
		}
		s.days[day] = &o
	}
	for user, p := range c.People {
		s.People[user] = &p
	}
	for _, name := range slices.Sorted(maps.Keys(c.Watched)) {
		i := slices.IndexFunc(rb.Policies, func(p *rulebook.Policy) bool { return p.Name == name })
		if i < 0 {
			return nil, fmt.Errorf("there is no policy %q", name)
		}
		t := c.Watched[name]
		s.watched[rb.Policies[i]] = &t
	}
	return s, errors.Join(c.Reasoning.into(&s.Reasoning), c.Consents.Reasoning.into(&s.Consents.Reasoning))
}

func (c *countedReasoning) into(r *Reasoning) error {
	if len(c.Cases) != len(r.Cases) {
		return errors.New("it has other cases than the rulebook")
	}
	for i, k := range c.Cases {
		t := &r.Cases[i]
		t.Taken, t.Open, t.Decided, t.first = k.Taken, k.Open, k.Decided, k.First
	}
	unflat(r.Grounds, c.Grounds)
	r.Recorded = c.Recorded
	return nil
}
