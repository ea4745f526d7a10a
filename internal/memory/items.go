package memory

// What is kept of a user, and how it changes. Every change can be made twice, and in any order, and comes to the same.

import (
	"cmp"
	"hash/fnv"
	"slices"
	"time"

	"github.com/go-json-experiment/json/jsontext"

	"briskwarden.example/briskwarden/internal/demand"
	"briskwarden.example/briskwarden/internal/history"
	"briskwarden.example/briskwarden/internal/place"
	"briskwarden.example/briskwarden/internal/provision"
)

// The bounds of what is kept of a user.
const (
	mostProofs    = 64                   // of one word of callers that share sessions
	mostPast      = 2048                 // sign-ons that taught
	pastFor       = 120 * 24 * time.Hour // how long a sign-on that taught is kept, longer than it counts
	mostEnded     = 256                  // ended sessions whose proofs are told one by one
	KeptFor       = 400 * 24 * time.Hour // how long an ended session is blocked, and a session is known that nobody uses
	secondsOfHour = 3600
)

// marks say what of a user was ended.
type marks struct {
	Count  int64       `json:"count,omitempty"`  // of marks: the number of the last
	All    time.Time   `json:"all,omitzero"`     // sessions begun by then are ended, and proofs void
	AllN   int64       `json:"all_n,omitempty"`  // the mark's number; 0 is unknown, here and below
	Spared string      `json:"spared,omitempty"` // the session that All does not end
	Lost   time.Time   `json:"lost,omitzero"`    // proofs given by then are void: of which sessions is no longer known
	LostN  int64       `json:"lost_n,omitempty"`
	Ended  []endedMark `json:"ended,omitempty"`
	signalled

	Rest jsontext.Value `json:",embed"` // what this version does not know
}

type endedMark struct {
	Session string    `json:"session"`
	At      time.Time `json:"at"`
	N       int64     `json:"n,omitempty"`

	Rest jsontext.Value `json:",embed"` // what this version does not know
}

// end marks a session as ended; an empty one is all of them.
func (m *marks) end(session string, at time.Time) {
	m.Count = next(m.Count, at)
	if session == "" {
		m.endAllBut("", at)
		return
	}
	if i := slices.IndexFunc(m.Ended, func(e endedMark) bool { return e.Session == session }); i >= 0 {
		m.Ended[i].At, m.Ended[i].N = later(m.Ended[i].At, at), m.Count
		return
	}
	m.Ended = append(m.Ended, endedMark{Session: session, At: at, N: m.Count})
	if len(m.Ended) > mostEnded {
		oldest := 0
		for i := range m.Ended {
			if cmp.Or(cmp.Compare(m.Ended[i].N, m.Ended[oldest].N), m.Ended[i].At.Compare(m.Ended[oldest].At)) < 0 {
				oldest = i
			}
		}
		m.Lost, m.LostN = later(m.Lost, m.Ended[oldest].At), max(m.LostN, m.Ended[oldest].N)
		m.Ended = slices.Delete(m.Ended, oldest, oldest+1)
	}
}

// endAllBut ends all sessions that have begun before the last mark, but for one; an empty one is none.
func (m *marks) endAllBut(spared string, at time.Time) {
	m.All, m.AllN, m.Spared = later(m.All, at), m.Count, spared
}

// void reports whether a proof counts no more. A time that a stranger stated is not later than the reading.
func (m *marks) void(p *proof, all *provision.Everybody, methods *demand.Methods) bool {
	when := moment{p.User, p.Time, p.Stated}
	for i := range m.Credentials {
		if c := &m.Credentials[i]; when.precedes(c.N, c.At) && c.concerns(methods, p.Method) {
			return true
		}
	}
	spared := m.Spared != "" && p.Session == m.Spared
	return !spared && when.precedes(m.AllN, m.All) || when.precedes(m.LostN, m.Lost) || moment{p.All, p.Time, p.Stated}.precedes(all.VoidedN, all.Voided) ||
		p.Session != "" && slices.ContainsFunc(m.Ended, func(s endedMark) bool { return s.Session == p.Session })
}

func later(a, b time.Time) time.Time {
	if a.After(b) {
		return a
	}
	return b
}

// proofs are what a user proved.
type proofs struct {
	List []proof `json:"proofs"`

	Rest jsontext.Value `json:",embed"` // what this version does not know
}

type proof struct {
	Method  string    `json:"method"`
	Time    time.Time `json:"time"`
	Session string    `json:"session,omitempty"`
	Device  string    `json:"device,omitempty"`
	App     string    `json:"app,omitempty"`
	Stated  bool      `json:"stated,omitempty"` // the time is a stranger's
	rank

	Rest jsontext.Value `json:",embed"` // what this version does not know
}

// add keeps the newest of each kind, and no more than the bound.
func (p *proofs) add(list []proof) {
	all := slices.Concat(p.List, list)
	slices.SortStableFunc(all, func(a, b proof) int {
		return cmp.Or(cmp.Compare(b.User, a.User), cmp.Compare(b.rank.All, a.rank.All), b.Time.Compare(a.Time))
	})
	type kind struct{ method, session, device, app string }
	seen := make(map[kind]bool, len(all))
	p.List = slices.DeleteFunc(all, func(q proof) bool {
		of := kind{q.Method, q.Session, q.Device, q.App}
		again := seen[of]
		seen[of] = true
		return again
	})
	p.List = p.List[:min(len(p.List), mostProofs)]
}

// session is one session, or, without an id, what belongs to none.
type session struct {
	Started time.Time `json:"started,omitzero"`
	Claimed time.Time `json:"claimed,omitzero"` // the earliest begin that a stranger stated; it is not before Started
	rank              // where in the order it began
	Granted time.Time `json:"granted,omitzero"` // last
	Hour    int64     `json:"hour,omitempty"`   // of what it taught last, in hours since 1970
	Taught  []string  `json:"taught,omitempty"` // in that hour: each country and device
	Meets   []meeting `json:"meets,omitempty"`  // the apps that it was let into by a gateway lately

	Rest jsontext.Value `json:",embed"` // what this version does not know
}

// meeting is of a session and an app: while it lasts, what was fresh when it began still stands.
type meeting struct {
	App   string    `json:"app"`
	Until time.Time `json:"until"`
	Proof time.Time `json:"proof,omitzero"` // when what counts as presented was given; zero: nothing does

	Rest jsontext.Value `json:",embed"` // what this version does not know
}

// mostMeets is how many apps one session is known to have met. Beyond that it meets the oldest anew.
const mostMeets = 64

// meeting is that with an app; one without end is none.
func (s *session) meeting(app string) meeting {
	for _, m := range s.Meets {
		if m.App == app {
			return m
		}
	}
	return meeting{App: app}
}

// meet notes a meeting; one without end ends the one before.
func (s *session) meet(m meeting) {
	s.Meets = slices.DeleteFunc(slices.Clone(s.Meets), func(other meeting) bool { return other.App == m.App })
	if m.Until.IsZero() {
		return
	}
	s.Meets = append(s.Meets, m)
	if len(s.Meets) > mostMeets {
		s.Meets = s.Meets[1:]
	}
}

// began notes that the session was there at a time and rank, and when strangers say that it began; zero is that none does.
func (s *session) began(at, claimed time.Time, where rank) {
	if s.Started.IsZero() {
		s.rank = where
	}
	s.Started, s.Claimed, s.rank = earliest(s.Started, at), earliest(s.Claimed, claimed), s.rank.earlier(where)
}

// mostTaught is how much one session teaches in an hour. Beyond that it is known alone that there was more.
const (
	mostTaught = 256
	more       = "more"
)

// teaches tells what a grant of an hour, from a country and on a device, teaches; nothing is "".
func (s *session) teaches(hour int64, what string) string {
	switch {
	case hour > s.Hour:
		return what
	case hour < s.Hour || slices.Contains(s.Taught, what) || len(s.Taught) > mostTaught:
		return ""
	case len(s.Taught) == mostTaught:
		return more
	}
	return what
}

func (s *session) teach(hour int64, what string) {
	what = s.teaches(hour, what)
	if what == "" {
		return
	}
	if hour > s.Hour {
		s.Hour, s.Taught = hour, nil
	}
	s.Taught = append(s.Taught, what)
}

// past is what was before.
type past struct {
	Lost    time.Time    `json:"lost,omitzero"` // the last of those that are kept no more, and may still matter
	SignOns []pastSignOn `json:"signons"`

	Rest jsontext.Value `json:",embed"` // what this version does not know
}

type pastSignOn struct {
	At      time.Time `json:"at"`
	Country string    `json:"country,omitempty"`
	Device  string    `json:"device,omitempty"`
	App     string    `json:"app,omitempty"`
	Place   *position `json:"place,omitempty"`
	Session uint64    `json:"session"` // a hash of its session

	Rest jsontext.Value `json:",embed"` // what this version does not know
}

type position struct {
	Latitude   float64 `json:"lat"`
	Longitude  float64 `json:"long"`
	AccuracyKM float64 `json:"km"`

	Rest jsontext.Value `json:",embed"` // what this version does not know
}

// learned is a sign-on as it is kept.
func learned(s *history.SignOn, session, app string) pastSignOn {
	h := fnv.New64a()
	h.Write([]byte(session))
	kept := pastSignOn{At: s.At.UTC().Truncate(time.Microsecond), Country: s.Country, Device: s.Device, App: app, Session: h.Sum64()}
	if p := s.Place; p.Positioned {
		kept.Place = &position{Latitude: p.Latitude, Longitude: p.Longitude, AccuracyKM: p.AccuracyKM}
	}
	return kept
}

// learn adds a sign-on, unless its session taught the same in the same hour.
func (p *past) learn(s pastSignOn) {
	hour := func(t time.Time) int64 { return t.Unix() / secondsOfHour }
	for _, q := range p.SignOns {
		if q.Session == s.Session && q.Country == s.Country && q.Device == s.Device && hour(q.At) == hour(s.At) {
			return
		}
	}
	p.SignOns = append(p.SignOns, s)
	slices.SortStableFunc(p.SignOns, func(a, b pastSignOn) int { return a.At.Compare(b.At) })
	last := p.SignOns[len(p.SignOns)-1].At
	for len(p.SignOns) > mostPast || p.SignOns[0].At.Before(last.Add(-pastFor)) {
		if first := p.SignOns[0].At; !first.Before(last.Add(-pastFor)) {
			p.Lost = later(p.Lost, first)
		}
		p.SignOns = p.SignOns[1:]
	}
}

// signOns are those that a history learns.
func (p *past) signOns(user string) []history.SignOn {
	list := make([]history.SignOn, len(p.SignOns))
	for i, s := range p.SignOns {
		q := history.Query{User: user, At: s.At, Country: s.Country, Device: s.Device}
		if s.Place != nil {
			q.Place = place.Location{Country: s.Country, Positioned: true, Latitude: s.Place.Latitude, Longitude: s.Place.Longitude, AccuracyKM: s.Place.AccuracyKM}
		}
		list[i] = history.SignOn{Query: q}
	}
	return list
}

// earliest is the first of some times; zero ones do not count.
func earliest(times ...time.Time) (first time.Time) {
	for _, t := range times {
		if !t.IsZero() && (first.IsZero() || t.Before(first)) {
			first = t
		}
	}
	return first
}
