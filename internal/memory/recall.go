package memory

// What is remembered that concerns a sign-on, read before it is decided.

import (
	"context"
	"slices"
	"time"

	"briskwarden.example/briskwarden/internal/demand"
	"briskwarden.example/briskwarden/internal/engine"
	"briskwarden.example/briskwarden/internal/history"
	"briskwarden.example/briskwarden/internal/known"
	"briskwarden.example/briskwarden/internal/provision"
	"briskwarden.example/briskwarden/internal/rulebook"
	"briskwarden.example/briskwarden/service/state"
	"briskwarden.example/briskwarden/signon"
)

// Recall is a sign-on beside what is remembered that concerns it.
type Recall struct {
	signon.SignOn // with all evidence, and the begin of its session
	engine.Recalled
	At       time.Time              // by the clock of the state
	Disagree *rulebook.Disagreement // of rulebook and provisioning service about the user

	gateway *gateway // that asks; nil is another caller
	asked   *signon.SignOn
	word    string
	methods *demand.Methods
	marks   *marks
	session *session
	past    *past
	rank    rank      // where in the order this is
	claimed time.Time // when strangers say that the session began, at the earliest; zero is that none does
}

// The items that concern a sign-on, in the order in which they are read.
const (
	ofEverybody = iota
	ofPerson
	ofMarks
	ofProofs
	ofSession
	ofEnded
	ofPast
	itemsOfSignOn
)

// keysOf adds the keys of the items, and after them those of what signals bring.
func keysOf(keys []state.Key, rb *rulebook.Rulebook, so *signon.SignOn, word string) []state.Key {
	device := ""
	if so.Device != nil {
		device = so.Device.ID
	}
	fixed := [itemsOfSignOn]state.Key{
		ofEverybody: {Kind: state.Service},
		ofPerson:    {Kind: state.Person, Owner: so.User},
		ofMarks:     {Kind: state.Marks, Owner: so.User},
		ofProofs:    proofsKey(so.User, word),
		ofSession:   sessionKey(so.User, word, so.Session.ID),
		ofEnded:     endedKey(so.User, so.Session.ID),
		ofPast:      pastKey(so.User),
	}
	return append(append(keys, fixed[:]...), signalKeys(rb, device)...)
}

func proofsKey(user, word string) state.Key {
	return state.Key{Kind: state.Proofs, Owner: user, ID: word}
}

func sessionKey(user, word, session string) state.Key {
	return state.Key{Kind: state.Session, Owner: user, ID: word + "\x00" + session}
}

func endedKey(user, session string) state.Key {
	return state.Key{Kind: state.Ended, Owner: user, ID: session}
}

func pastKey(user string) state.Key { return state.Key{Kind: state.Past, Owner: user} }

// Recall reads what concerns sign-ons to callers that share sessions by a word. Without a time of its own a sign-on is
// at that of the state; its evidence is never changed in place.
func (m *Memory) Recall(ctx context.Context, e *engine.Engine, word string, signOns []*signon.SignOn) ([]*Recall, error) {
	keys := make([]state.Key, 0, itemsOfSignOn*len(signOns))
	for _, so := range signOns {
		keys = keysOf(keys, e.Rulebook(), so, word)
	}
	r, err := m.read(ctx, keys)
	if err != nil {
		return nil, err
	}
	list := make([]*Recall, len(signOns))
	for i, so := range signOns {
		if list[i], err = m.recall(e, &r, i*len(keys)/len(signOns), so, word); err != nil {
			return nil, err
		}
	}
	return list, nil
}

// recall puts together what was read of one sign-on, from an item on.
func (m *Memory) recall(e *engine.Engine, r *reading, from int, so *signon.SignOn, word string) (*Recall, error) {
	all, nested, err := item[provision.Everybody](m, r, from+ofEverybody)
	if err != nil {
		return nil, err
	}
	marks, _, err := item[marks](m, r, from+ofMarks)
	if err != nil {
		return nil, err
	}
	given, _, err := item[proofs](m, r, from+ofProofs)
	if err != nil {
		return nil, err
	}
	rec := &Recall{SignOn: *so, At: r.At, asked: so, word: word, methods: e.Rulebook().Methods, marks: marks, rank: marks.now(all)}
	rec.Evidence = make([]signon.Evidence, 0, len(so.Evidence)+len(given.List))
	for i := range so.Evidence {
		e := &so.Evidence[i]
		if stated := (proof{Method: e.Method, Time: Stated(e.Time, r.At), Session: e.Session, Stated: true}); !marks.void(&stated, all, rec.methods) {
			rec.Evidence = append(rec.Evidence, *e)
		}
	}
	if rec.session, _, err = item[session](m, r, from+ofSession); err != nil {
		return nil, err
	}
	if rec.Person, rec.Disagree, err = m.person(e.Rulebook(), r, from+ofPerson, so.User, all, nested); err != nil {
		return nil, err
	}
	if rec.Past, rec.past, err = m.past(e, r, from+ofPast, so.User); err != nil {
		return nil, err
	}
	if rec.Time.IsZero() {
		rec.Time = r.At
	}
	rec.unite(given.List, all)
	rec.unite(m.fresh.of(proofsKey(so.User, word)), all)
	rec.useSession(all, r.Items[from+ofEnded].Version != 0)
	return rec, rec.useSignals(m, r, from+itemsOfSignOn, e.Rulebook())
}

// person is the user, by rulebook and provisioning service.
func (m *Memory) person(rb *rulebook.Rulebook, r *reading, i int, user string, all *provision.Everybody, nested int64) (*rulebook.Person, *rulebook.Disagreement, error) {
	p, version, err := item[provision.Person](m, r, i)
	if err != nil || version == 0 {
		return rb.People[user], nil, err
	}
	if made, ok := m.persons.Get(user); ok && made.rb == rb && made.version == version && made.nesting == nested {
		return made.Person, nil, nil
	}
	joined, differs := p.Join(rb, user, all.Nesting)
	m.persons.Add(user, person{rb, version, nested, joined})
	return joined, differs, nil
}

// past is the user's history, and what of it is kept.
func (m *Memory) past(e *engine.Engine, r *reading, i int, user string) (*history.Individual, *past, error) {
	p, version, err := item[past](m, r, i)
	if err != nil {
		return nil, nil, err
	}
	rb := e.Rulebook()
	if made, ok := m.pasts.Get(user); ok && made.rb == rb && made.version == version {
		return made.Individual, p, nil
	}
	made := e.Individual(user, p.signOns(user), p.Lost)
	m.pasts.Add(user, individual{rb, version, made})
	return made, p, nil
}

// Earlier is a sign-on that was granted before.
type Earlier struct {
	User                 string
	Time                 time.Time
	App, Country, Device string // may be empty
}

// Earlier are the sign-ons that taught something on the day of this one, on a clock, before it; the last ones last.
func (r *Recall) Earlier(zone *time.Location) (list []Earlier) {
	day := func(t time.Time) string { return t.In(zone).Format(time.DateOnly) }
	for _, p := range r.past.SignOns {
		if p.At.Before(r.Time) && day(p.At) == day(r.Time) {
			list = append(list, Earlier{r.User, p.At, p.App, p.Country, p.Device})
		}
	}
	return list
}

// unite puts what is remembered beside the evidence that the sign-on states, and leaves out what is void.
func (r *Recall) unite(given []proof, all *provision.Everybody) {
	for _, p := range given {
		if !r.marks.void(&p, all, r.methods) {
			r.Evidence = append(r.Evidence, p.evidence())
		}
	}
}

func (p proof) evidence() signon.Evidence {
	return signon.Evidence{Method: p.Method, Time: p.Time, Session: p.Session, Device: p.Device, App: p.App}
}

// useSession finds when the session began: as early as state, request or evidence say, and at the latest now; and
// whether it has ended.
func (r *Recall) useSession(all *provision.Everybody, ended bool) {
	if r.Session.ID == "" {
		return
	}
	claims := []time.Time{r.session.Claimed}
	claim := func(at time.Time) {
		if !at.IsZero() {
			claims = append(claims, Stated(at, r.At))
		}
	}
	claim(r.Session.Started)
	for _, e := range r.asked.Evidence {
		if e.Session == r.Session.ID {
			claim(e.Time)
		}
	}
	r.claimed = earliest(claims...)
	began := []time.Time{r.session.Started, r.claimed}
	for i := range r.Evidence {
		if r.Evidence[i].Session == r.Session.ID {
			began = append(began, Stated(r.Evidence[i].Time, r.At))
		}
	}
	r.Session.Started = earliest(began...)
	if r.Session.Started.IsZero() {
		r.Session.Started = r.Time
	}
	r.LastGrant = later(r.session.Granted, r.Session.Started)
	r.Ended = ended || r.endedBy(r.session.rank.User, r.marks.AllN, r.marks.All) && r.Session.ID != r.marks.Spared ||
		r.endedBy(r.session.rank.All, all.VoidedN, all.Voided)
}

// endedBy reports whether the session began before a mark: by the order, where the state knows the session, and by what
// strangers say.
func (r *Recall) endedBy(n, mark int64, at time.Time) bool {
	known := moment{n: n, at: r.session.Started}
	return known.precedes(mark, at) || moment{at: r.claimed}.precedes(mark, at)
}

// Keep remembers what a decision on a sign-on teaches: it returns once all is kept but what can only tighten if it is
// lost.
func (m *Memory) Keep(ctx context.Context, rb *rulebook.Rulebook, decided []*Recall, outcomes []signon.Outcome) error {
	var now, soon []update
	for i, r := range decided {
		if r.Learned.User == "" { // nobody who may sign on
			continue
		}
		now, soon = m.keep(r, rb, outcomes[i], now, soon)
	}
	if !m.writer.soon(soon) {
		for _, u := range soon {
			if u.done != nil {
				u.done()
			}
		}
	}
	if len(now) == 0 {
		return nil
	}
	return m.writer.write(ctx, now)
}

// keep adds the changes that a decision makes: those that its answer waits for, and the others.
func (m *Memory) keep(r *Recall, rb *rulebook.Rulebook, outcome signon.Outcome, now, soon []update) (_, _ []update) {
	began, granted := r.Session.Started, outcome == signon.Grant
	key, expires := sessionKey(r.User, r.word, r.Session.ID), r.At.Add(KeptFor)
	hour, what := r.At.Unix()/secondsOfHour, r.Learned.Country+"|"+r.Learned.Device
	teaches := ""
	if granted {
		teaches = r.session.teaches(hour, what)
	}
	begins := r.Session.ID != "" && (r.session.Started.IsZero() || began.Before(r.session.Started) || !r.claimed.Equal(r.session.Claimed))
	if begins && outcome == signon.Block && r.session.Started.IsZero() && !m.blocked.May(r.User) {
		begins = false // nothing was proved in it: it begins when it is asked about again
	}
	merge := change(key, expires, func(s *session) {
		if r.Session.ID != "" {
			s.began(began, r.claimed, r.rank)
		}
		if granted {
			if s.Granted = later(s.Granted, r.At); r.gateway != nil && r.Session.ID != "" {
				s.meet(r.gateway.meeting)
			}
			s.teach(hour, what)
		}
	})
	if r.gateway != nil && !granted && !r.gateway.Until.IsZero() {
		now = append(now, change(key, expires, func(s *session) { s.meet(meeting{App: r.App}) }))
	}
	switch {
	case begins || teaches != "":
		now = append(now, merge)
	case granted && r.Session.ID != "":
		soon = append(soon, merge)
	}
	switch teaches {
	case "":
	case more:
		now = append(now, change(pastKey(r.User), time.Time{}, func(p *past) { p.Lost = later(p.Lost, r.At) }))
	default:
		lesson := r.Learned
		lesson.At = r.At
		kept := learned(&lesson, key.ID, r.App)
		now = append(now, change(pastKey(r.User), time.Time{}, func(p *past) { p.learn(kept) }))
	}
	if granted && slices.Contains(r.Presented, demand.ChangePassword) {
		known, session := &r.marks.signalled, r.Session.ID
		r.rank.User = next(r.marks.Count, r.At) // what is presented with it counts as given after it
		n := r.rank.User
		now = append(now, change(state.Key{Kind: state.Marks, Owner: r.User}, time.Time{}, func(k *marks) { k.changedPassword(known, session, n, r.At) }))
	}
	if list := r.given(rb); len(list) > 0 && outcome != signon.Block {
		u := change(proofsKey(r.User, r.word), time.Time{}, func(p *proofs) { p.add(list) })
		u.done = m.fresh.add(u.key, list)
		soon = append(soon, u)
	}
	return now, soon
}

// given is what the sign-on presents, as evidence from now on.
func (r *Recall) given(rb *rulebook.Rulebook) (list []proof) {
	at, stated := r.At, r.gateway != nil
	if stated {
		if at = Stated(r.gateway.Proof, r.At); !r.gateway.sure {
			return nil
		}
	}
	for _, method := range r.Presented {
		if _, ok := rb.Methods.Lookup(method); !ok && method != demand.ChangePassword {
			continue
		}
		p := proof{Method: method, Time: at, Session: r.Session.ID, App: r.App, Stated: stated, rank: r.rank}
		if r.Device != nil {
			p.Device = r.Device.ID
		}
		list = append(list, p)
	}
	return list
}

// Known reports whether the user is known and may sign on.
func (r *Recall) Known() bool { return r.Person != nil && r.Person.Active != known.False }
