package memory

// What signals say of users and devices. What tightens counts whenever it is heard; what loosens counts only if it is
// newer than what was said of the same before. Said twice, it comes to no less strict than said once.

import (
	"context"
	"maps"
	"slices"
	"time"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"

	"briskwarden.example/briskwarden/internal/demand"
	"briskwarden.example/briskwarden/internal/engine"
	"briskwarden.example/briskwarden/internal/fact"
	"briskwarden.example/briskwarden/internal/known"
	"briskwarden.example/briskwarden/internal/rulebook"
	"briskwarden.example/briskwarden/service/state"
)

// signalled is what signals said of a user.
type signalled struct {
	Compromise  compromise           `json:"compromise,omitzero"`
	Risk        map[string]statement `json:"risk,omitempty"`     // the level, by source
	Inactive    map[string]statement `json:"inactive,omitempty"` // "yes" or "no", by source
	Credentials []credentialMark     `json:"credentials,omitempty"`
	Raised      raised               `json:"raised,omitzero"` // by somebody, to high
}

// statement is what a source said last, of the time that it gave.
type statement struct {
	Said string    `json:"said"`
	At   time.Time `json:"at"`

	Rest jsontext.Value `json:",embed"` // what this version does not know
}

// say replaces what was said by what is said now, unless that is looser and not newer.
func (s *statement) say(said string, looser bool, at time.Time) {
	if looser && !at.After(s.At) {
		return
	}
	s.Said, s.At = said, later(s.At, at)
}

// compromise says whether somebody else knows a user's credential.
type compromise struct {
	statement           // "yes" or "no"
	Heard     time.Time `json:"heard"` // by the clock of the state
	By        string    `json:"by"`
}

func (c *compromise) is() bool { return c.Said == yes }

const (
	yes = "yes"
	no  = "no"
)

// credentialMark makes proofs by a type of credential void that were given by then.
type credentialMark struct {
	Type string    `json:"type"`
	At   time.Time `json:"at"`
	N    int64     `json:"n,omitempty"`

	Rest jsontext.Value `json:",embed"` // what this version does not know
}

// credentialTypes are the types of credentials of CAEP 1.0, section 3.3.1, with the amr values (RFC 8176) of one of
// which a method has at least one if it may be meant.
var credentialTypes = map[string][]string{
	"password": {"pwd"}, "pin": {"pin"}, "x509": {"sc", "swk", "hwk"}, "fido2-platform": {"hwk", "swk"}, "fido2-roaming": {"hwk"},
	"fido-u2f": {"hwk"}, "phone-voice": {"tel"}, "phone-sms": {"sms"}, "app": {"otp", "mca", "swk"},
}

// concerns reports whether a mark is of a method.
func (c *credentialMark) concerns(methods *demand.Methods, name string) bool {
	m, ok := methods.Lookup(name)
	if !ok {
		return false
	}
	return slices.ContainsFunc(m.AMR, func(v string) bool { return slices.Contains(credentialTypes[c.Type], v) }) || len(m.AMR) == 0
}

// changed notes that a credential of a type was changed; of a type that is not known all proofs are void.
func (k *marks) changed(credential string, at time.Time) {
	k.Count = next(k.Count, at)
	if _, ok := credentialTypes[credential]; !ok {
		k.Lost, k.LostN = later(k.Lost, at), k.Count
		return
	}
	i := slices.IndexFunc(k.Credentials, func(c credentialMark) bool { return c.Type == credential })
	if i < 0 {
		k.Credentials = append(k.Credentials, credentialMark{Type: credential, At: at, N: k.Count})
		return
	}
	k.Credentials[i].At, k.Credentials[i].N = later(k.Credentials[i].At, at), k.Count
}

// Signal is an event that was verified, about somebody who is known.
type Signal struct {
	Event      rulebook.Event
	Source     string
	At         time.Time // when it happened, as its source says
	User       string    // of all but a change of a device's compliance
	Device     string    // of that
	Session    string    // of a session that is revoked; empty: all
	Credential string    // its type, of a change
	Updated    bool      // the credential was changed by the user's own doing
	Compliant  bool      // of a device
	Level      string    // of risk
	Twin       bool      // the user has a name like that of the one who is meant: what loosens does not count
}

// Hear obeys a signal: every decision that begins once it has returned does.
func (m *Memory) Hear(ctx context.Context, s *Signal) error {
	now, err := m.Clock(ctx)
	if err != nil {
		return err
	}
	s.At = Stated(s.At, now)
	switch s.Event {
	case rulebook.SessionRevoked:
		return m.End(ctx, s.User, s.Session)
	case rulebook.DeviceComplianceChange:
		return m.writer.write(ctx, []update{change(complianceKey(s.Device), time.Time{}, func(c *compliance) { c.hear(s) })})
	case rulebook.AccountPurged:
		if s.Twin {
			break
		}
		if err := m.Forget(ctx, s.User); err != nil {
			return err
		}
	}
	return m.twice(ctx, func(at time.Time) []update {
		return []update{change(state.Key{Kind: state.Marks, Owner: s.User}, time.Time{}, func(k *marks) { k.hear(s, at) })}
	})
}

// hear notes a signal about a user, heard at a time of the state.
func (k *marks) hear(s *Signal, heard time.Time) {
	switch s.Event {
	case rulebook.AssuranceLevelChange:
		k.changed("", heard)
	case rulebook.CredentialChange:
		k.changed(s.Credential, heard)
		if s.Credential == "password" && s.Updated && !s.Twin && k.Compromise.is() {
			k.Compromise.say(no, true, s.At)
		}
	case rulebook.RiskLevelChange:
		if s.Twin && levelOf(s.Level) < levelOf(k.Risk[s.Source].Said) {
			return
		}
		said(&k.Risk, s.Source, s.Level, func(before string) bool { return levelOf(s.Level) < levelOf(before) }, s.At)
	case rulebook.AccountDisabled, rulebook.AccountPurged:
		said(&k.Inactive, s.Source, yes, never, s.At)
	case rulebook.AccountEnabled:
		if s.Twin {
			return
		}
		said(&k.Inactive, s.Source, no, func(string) bool { return true }, s.At)
	case rulebook.CredentialCompromise:
		k.changed(s.Credential, heard)
		k.end("", heard)
		k.Compromise.say(yes, false, s.At)
		k.Compromise.Heard, k.Compromise.By = later(k.Compromise.Heard, heard), s.Source
	}
}

func never(string) bool { return false }

func said(by *map[string]statement, source, word string, looser func(before string) bool, at time.Time) {
	if *by == nil {
		*by = map[string]statement{}
	}
	s := (*by)[source]
	s.say(word, looser(s.Said), at)
	(*by)[source] = s
}

func levelOf(word string) int { return slices.Index(fact.Levels, word) }

// inherit takes over what was said of another, where it is stricter.
func (k *marks) inherit(other *signalled) {
	if other.Compromise.is() {
		k.Compromise = other.Compromise
	}
	for source, s := range other.Inactive {
		if s.Said == yes {
			said(&k.Inactive, source, yes, never, s.At)
		}
	}
	for source, s := range other.Risk {
		if levelOf(s.Said) > levelOf(k.Risk[source].Said) {
			said(&k.Risk, source, s.Said, never, s.At)
		}
	}
	if k.Raised.At.IsZero() {
		k.Raised = other.Raised
	}
}

// changedPassword notes that the password was changed in a session, as the mark of a number if no other came meanwhile. It ends
// all other sessions, and a compromise and a risk that was raised, if they are those that were known when it was changed.
func (k *marks) changedPassword(known *signalled, session string, n int64, at time.Time) {
	if k.Compromise.is() && k.Compromise.Heard.Equal(known.Compromise.Heard) {
		k.Compromise.Said = no
	}
	if k.Raised.At.Equal(known.Raised.At) {
		k.Raised = raised{}
	}
	k.Count = max(k.Count, n-1)
	k.changed("password", at)
	k.endAllBut(session, at)
}

// compliance is what signals said of a device.
type compliance struct {
	statement        // "yes" or "no"
	By        string `json:"by"`
}

func (c *compliance) hear(s *Signal) {
	said := no
	if s.Compliant {
		said = yes
	}
	before := *c
	if c.say(said, s.Compliant, s.At); c.Said != before.Said || !c.At.Equal(before.At) {
		c.By = s.Source
	}
}

func complianceKey(device string) state.Key { return state.Key{Kind: state.Device, Owner: device} }

// Heard reports whether a signal was heard before, by the id that its sender gave it.
func (m *Memory) Heard(ctx context.Context, sender, id string) (bool, error) {
	r, err := m.read(ctx, []state.Key{heardKey(sender, id)})
	if err != nil {
		return false, err
	}
	return r.Items[0].Version != 0, nil
}

// NoteHeard notes that a signal was heard, and obeyed.
func (m *Memory) NoteHeard(ctx context.Context, sender, id string) error {
	at, err := m.Clock(ctx)
	if err != nil {
		return err
	}
	return m.writer.write(ctx, []update{change(heardKey(sender, id), at.Add(KeptFor), func(w *when) { w.At = later(w.At, at) })})
}

func heardKey(sender, id string) state.Key {
	return state.Key{Kind: state.Signal, Owner: sender, ID: id}
}

// when is a time that is kept.
type when struct {
	At time.Time `json:"at"`

	Rest jsontext.Value `json:",embed"` // what this version does not know
}

// Polled notes that a source of signals was asked, and all that it had was obeyed.
func (m *Memory) Polled(ctx context.Context, source string) error {
	at, err := m.Clock(ctx)
	if err != nil {
		return err
	}
	return m.writer.write(ctx, []update{change(pollKey(source), time.Time{}, func(w *when) { w.At = later(w.At, at) })})
}

func pollKey(source string) state.Key { return state.Key{Kind: state.Poll, Owner: source} }

// pollsFor is how long what a source said last still tells that it said nothing else.
const pollsFor = time.Hour

// signalKeys are the items that signals of a rulebook's sources bring to a sign-on, in the order in which they are read.
func signalKeys(rb *rulebook.Rulebook, device string) (keys []state.Key) {
	if rb.Accepts(rulebook.DeviceComplianceChange) {
		keys = append(keys, complianceKey(device))
	}
	for _, s := range rb.Signals {
		if s.Poll != "" && s.Accept&rulebook.CredentialCompromise != 0 {
			keys = append(keys, pollKey(s.Name))
		}
	}
	return keys
}

// useSignals tells what signals say of the user and the device. The items that signalKeys names begin at one.
func (r *Recall) useSignals(m *Memory, got *reading, from int, rb *rulebook.Rulebook) error {
	if rb.Accepts(rulebook.DeviceComplianceChange) {
		c, _, err := item[compliance](m, got, from)
		if err != nil {
			return err
		}
		from++
		if r.Device != nil && r.Device.ID != "" && c.Said != "" {
			r.Signals.Compliant, r.Signals.CompliantAt, r.Signals.CompliantBy = known.Of(c.Said == yes), c.At, c.By
		}
	}
	silent := ""
	for _, s := range rb.Signals {
		if s.Poll == "" || s.Accept&rulebook.CredentialCompromise == 0 {
			continue
		}
		w, _, err := item[when](m, got, from)
		if err != nil {
			return err
		}
		from++
		if r.At.Sub(w.At) > pollsFor {
			silent = s.Name
		}
	}
	compromised(&r.Signals, rb, &r.marks.Compromise, silent)
	r.Person = r.marks.person(r.Person, &r.Signals)
	return nil
}

// compromised tells whether the user's credential is known to somebody else; unknown where a source is silent.
func compromised(s *engine.Signalled, rb *rulebook.Rulebook, c *compromise, silent string) {
	switch {
	case !rb.Accepts(rulebook.CredentialCompromise):
	case c.is():
		s.Compromised, s.CompromisedBy = known.True, c.By
	case silent != "":
		s.CompromisedBy = silent
	default:
		s.Compromised = known.False
	}
}

// person is the user as signals have it: with the highest risk of all that speak, and inactive where any says so. Break-glass
// accounts are out of reach.
func (k *marks) person(p *rulebook.Person, s *engine.Signalled) *rulebook.Person {
	if p == nil || p.BreakGlass || len(k.Risk)+len(k.Inactive) == 0 && k.Raised.At.IsZero() {
		return p
	}
	changed := *p
	if !k.Raised.At.IsZero() {
		changed.Risk, s.RiskBy = fact.Levels[len(fact.Levels)-1], k.Raised.By+", who raised it"
	}
	for _, source := range slices.Sorted(maps.Keys(k.Risk)) {
		if level := k.Risk[source].Said; levelOf(level) > levelOf(changed.Risk) {
			changed.Risk, s.RiskBy = level, "a signal from "+source
		}
	}
	for _, stated := range k.Inactive {
		if stated.Said == yes {
			changed.Active = known.False
		}
	}
	return &changed
}

// People has people as signals have it, in place: those of whom a signal said something.
func People(ctx context.Context, store state.Store, people map[string]*rulebook.Person) error {
	for l, err := range store.List(ctx, state.Key{Kind: state.Marks}) {
		if err != nil {
			return err
		}
		p := people[l.Owner]
		if p == nil {
			continue
		}
		var k marks
		if err := json.Unmarshal(l.Value, &k); err != nil {
			return damaged(l.Key, err)
		}
		people[l.Owner] = k.person(p, &engine.Signalled{})
	}
	return nil
}

// Silent are the sources of signals that are asked for them, and have not answered of late, with when each did last; zero is never.
func (m *Memory) Silent(ctx context.Context, rb *rulebook.Rulebook) (map[string]time.Time, error) {
	var names []string
	var keys []state.Key
	for _, s := range rb.Signals {
		if s.Poll != "" {
			names, keys = append(names, s.Name), append(keys, pollKey(s.Name))
		}
	}
	r, err := m.read(ctx, keys)
	if err != nil {
		return nil, err
	}
	silent := map[string]time.Time{}
	for i, name := range names {
		w, _, err := item[when](m, &r, i)
		if err != nil {
			return nil, err
		}
		if r.At.Sub(w.At) > pollsFor {
			silent[name] = w.At
		}
	}
	return silent, nil
}
