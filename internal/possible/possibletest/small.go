// Package possibletest has small random rulebooks of which every possible sign-on can be listed, for the tests of what
// goes through all of them.
package possibletest

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing/fstest"
	"time"

	"briskwarden.example/briskwarden/signon"
)

// instants are all at which something begins that a small rulebook can ask about.
var instants = []time.Time{Start, Start.Add(6 * time.Hour), Start.Add(10 * time.Hour), Start.Add(10*time.Hour + time.Second), Start.Add(20 * time.Hour), Start.AddDate(0, 0, 1),
	Start.AddDate(0, 0, 1).Add(10*time.Hour + time.Second), Start.AddDate(0, 0, 1).Add(12*time.Hour + time.Second), Start.AddDate(0, 0, 1).Add(22 * time.Hour),
	Start.AddDate(0, 0, 2), Start.AddDate(0, 0, 2).Add(2 * time.Hour), Start.AddDate(0, 0, 2).Add(10*time.Hour + time.Second), Start.AddDate(0, 0, 3),
	Start.AddDate(0, 0, 3).Add(6 * time.Hour), Start.AddDate(0, 0, 3).Add(10*time.Hour + time.Second), Start.AddDate(0, 0, 3).Add(20 * time.Hour)}

const people = `
user ada { groups crew methods password, app-code joined 2026-11-27 attr deck upper attr end 2026-11-28 attr mode aboard }
user eli { groups crew methods password, app-code joined 2026-11-25 attr deck upper attr end 2026-11-28 attr mode aboard }
user ben { type guest methods passkey, password joined 2026-11-25 risk high attr leave 2026-11-28 }
user cil { type service methods certificate }
user key { methods security-key }
user out { active no groups crew }
app roster { tags rostering }
app ledger { tags money }
group crew { user cil }
`

// Small is a small random rulebook and all that can be stated of sign-ons to it.
type Small struct {
	r       *rand.Rand
	most    int // sign-ons of one person to one app
	Files   fstest.MapFS
	asks    []string
	choices [][]statement
	methods []string // that demands name
	fresh   []string // freshness that demands ask for
	timed   bool
	located bool
	history bool
	devices bool
	text    strings.Builder
	all     string // of one rulebook, or two
}

// Pick picks one at random.
func (s *Small) Pick(list ...string) string { return list[s.r.IntN(len(list))] }

// New makes a rulebook, and all that can be stated of sign-ons to it.
func New(seed uint64) *Small {
	s := Begun(seed, 0)
	s.Complete(string(s.Files["rulebook.warden"].Data))
	return s
}

// Complete adds the choices that hang on what the rulebook asks for, or two of them together.
func (s *Small) Complete(text string) {
	s.all = text
	s.sound(s.devices || slices.ContainsFunc(s.fresh, func(f string) bool { return f == " every 12h" || f == " every 2h" }) || s.history)
	s.prove()
}

// Begun makes a rulebook. The variants of one seed differ in their last policy and what stands behind it.
func Begun(seed, variant uint64) *Small {
	s := &Small{r: rand.New(rand.NewPCG(seed, 7)), most: 1000, Files: fstest.MapFS{}}
	if seed%64 < 4 { // a few of every shard of four
		s.most = 2500
	}
	all := topics(s.r)
	taken, settings := s.take(all)
	s.timed = taken["times"] || taken["people"] || taken["leave"] || s.r.IntN(3) == 0 || taken["devices"]
	s.located, s.history, s.devices = taken["located"], taken["before"], taken["devices"]
	for _, t := range all {
		for line := range strings.Lines(t.declares) {
			if !strings.Contains(s.text.String(), line) {
				s.text.WriteString(line)
			}
		}
	}
	s.demands()
	if !taken["devices"] && (s.history || slices.Contains(s.fresh, " every 12h") || slices.Contains(s.fresh, " every 2h")) {
		s.choices = append(s.choices, []statement{nothing, id("d9")})
	}
	if s.history && !s.located && !taken["abroad"] {
		s.choices = append(s.choices, []statement{nothing, country("NO")})
	}
	glass := ""
	if s.r.IntN(3) == 0 {
		glass = "break-glass user key => " + s.demand() + "\n"
	}
	floor := s.Pick("", "", "floor none\n", "floor "+s.demand()+"\n")
	slices.Sort(settings)
	head := "rulebook small {\n" + s.Pick("", "", "unmatched grant\n") + floor + glass + strings.Join(settings, "") + "}\n"
	s.text.WriteString(people)
	if s.r.IntN(4) == 0 {
		s.risk()
	}
	s.declare(seed, variant)
	if strings.Contains(s.text.String(), "meets sound") {
		s.text.WriteString("baseline sound { check \"Encrypted\" device.encrypted check \"Not broken\" not device.jailbroken }\n")
	}
	s.Files["rulebook.warden"] = &fstest.MapFile{Data: []byte(head + s.text.String())}
	return s
}

// take takes one or two of the topics, and tells which, and what they set in the rulebook's block.
func (s *Small) take(all []topic) (taken map[string]bool, settings []string) {
	size := 1
	taken = map[string]bool{}
	add := func(t topic, name string) {
		taken[name] = true
		for f, text := range t.files {
			s.Files[f] = &fstest.MapFile{Data: []byte(text)}
		}
		settings = append(settings, t.settings)
		s.text.WriteString(t.brings)
		s.asks = append(s.asks, t.asks...)
		for _, c := range t.choices {
			size *= len(c)
		}
		s.choices = append(s.choices, t.choices...)
	}
	names := []string{"networks", "located", "abroad", "clients", "scored", "modes", "leave", "before", "people", "times", "signalled", "devices"}
	for _, i := range s.r.Perm(len(all))[:1+s.r.IntN(2)] {
		if size > 60 || names[i] == "located" && taken["networks"] || names[i] == "networks" && taken["located"] ||
			names[i] == "abroad" && taken["located"] || names[i] == "located" && taken["abroad"] || names[i] == "modes" && taken["leave"] || names[i] == "leave" && taken["modes"] {
			continue
		}
		add(all[i], names[i])
	}
	return taken, settings
}

// declare writes policies, perhaps a waiver, and promises.
func (s *Small) declare(seed, variant uint64) {
	policies := 1 + s.r.IntN(3)
	for i := range policies {
		if i == policies-1 && variant > 0 {
			s.r = rand.New(rand.NewPCG(seed, variant+100))
		}
		s.policy(i)
	}
	if s.r.IntN(3) == 0 {
		fmt.Fprintf(&s.text, "waiver w { because \"b\" owner \"o\" who %s to %s %slifts %s until 2026-11-%d }\n", s.who(), s.to(), s.when(), s.Pick(s.Pick(s.methods...), "everything", "aal2", "change-password"), 27+s.r.IntN(3))
	}
	for i := range 3 {
		s.promise(i)
	}
}

// demands works out which methods and freshness demands ask for.
func (s *Small) demands() {
	s.methods = []string{"password", s.Pick("app-code", "passkey")}
	if s.r.IntN(3) == 0 {
		s.methods = []string{"aal1", "aal2", "aal3", "app-code"}
	}
	all := []string{"", " every time", " every 12h", " every 12h on any device", " every 2h", " every session per app", " every 2h on any device per app"}
	for _, i := range s.r.Perm(len(all))[:1+s.r.IntN(2)] {
		s.fresh = append(s.fresh, all[i])
	}
	if s.methods[0] == "aal1" {
		s.fresh = s.fresh[:1]
	}
}

func (s *Small) demand() string {
	atom := s.Pick(s.methods...) + s.Pick(s.fresh...)
	switch s.r.IntN(6) {
	case 0:
		return atom + " and " + s.Pick(s.methods...) + s.Pick(s.fresh...)
	case 1:
		return atom + " or " + s.Pick(s.methods...) + s.Pick(s.fresh...)
	}
	return atom
}

func (s *Small) condition() string {
	if len(s.asks) == 0 {
		return s.Pick("client is unknown", "group in crew")
	}
	a, b := s.Pick(s.asks...), s.Pick(s.asks...)
	switch s.r.IntN(7) {
	case 0:
		return a + " and " + b
	case 1:
		return a + " or " + b
	case 2:
		return "not (" + a + " and " + b + ")"
	case 3:
		return "surely " + a
	}
	return a
}

func (s *Small) who() string {
	return s.Pick("everyone", "people", "group crew", "user ada", "type guest", "everyone except user ben", "user ben, group crew")
}

func (s *Small) to() string {
	return s.Pick("everything", "app roster", "tag money", "everything except app ledger")
}

func (s *Small) when() string {
	if s.r.IntN(2) == 0 {
		return ""
	}
	return "when " + s.condition() + " "
}

func (s *Small) risk() {
	fmt.Fprintf(&s.text, "risk model { add %d when %s add %d when %s band low to 39, mid to 79, high to 100 }\n", 1+s.r.IntN(60), s.condition(), 20+s.r.IntN(70), s.condition())
	s.asks = append(s.asks, "risk >= 40", "risk < 70", "risk.band is mid", "risk.band at least mid", "risk is unknown", "risk.band is known")
}

func (s *Small) policy(i int) {
	fmt.Fprintf(&s.text, "policy p%d {\nwho %s\nto %s\n", i, s.who(), s.to())
	if s.r.IntN(5) == 0 {
		s.text.WriteString("doing enrol-method\n")
	} else if s.r.IntN(6) == 0 {
		s.text.WriteString("doing sign-on, enrol-method\n")
	}
	if s.r.IntN(4) == 0 {
		fmt.Fprintf(&s.text, "stage %s %s\n", s.Pick("enforce", "watch", "draft"), s.Pick("from 2026-11-28", "for group crew", "for group crew from 2026-11-29"))
		if s.r.IntN(2) == 0 {
			fmt.Fprintf(&s.text, "stage %s\n", s.Pick("enforce from 2026-11-29", "watch"))
		}
	}
	outcome := func() string {
		switch s.r.IntN(8) {
		case 0, 1:
			return "block"
		case 2:
			return "abstain"
		case 3, 4:
			return "grant"
		case 5:
			return "step-up (" + s.demand() + ")" + s.Pick(" and change-password", " and device meets sound", " and enrol passkey", " and enrol passkey grace 3d")
		}
		return "step-up " + s.demand()
	}
	for c := range s.r.IntN(3) {
		fmt.Fprintf(&s.text, "case \"c%d\" when %s => %s\n", c, s.condition(), outcome())
	}
	fmt.Fprintf(&s.text, "otherwise => %s\n", outcome())
	if s.r.IntN(4) == 0 {
		s.text.WriteString("session " + s.Pick("lasts 2h", "lasts 2h, idle 30m", "lasts 90m", "idle 1h") + "\n")
	}
	s.text.WriteString("}\n")
}

func (s *Small) promise(i int) {
	form := s.Pick("always "+s.Pick("grant", "block", "step-up"), "never "+s.Pick("grant", "block", "step-up"), "never grant without "+s.Pick(s.methods...),
		"never grant without "+s.demand(), "never locked out")
	if s.r.IntN(8) == 0 {
		form = "never grant without " + s.Pick("change-password", "device meets sound", "enrol passkey", "enrol passkey grace 2d")
	}
	fmt.Fprintf(&s.text, "promise \"q%d\" { who %s to %s %s%s }\n", i, s.who(), s.to(), s.when(), form)
}

func session(started time.Duration) statement {
	return func(so *signon.SignOn) { so.Session = signon.Session{ID: "s", Started: so.Time.Add(-started)} }
}

// when are the instants at which sign-ons are made, which are few where nothing asks for time.
func (s *Small) at() []time.Time {
	at := instants
	text := s.all
	if !s.timed && !slices.ContainsFunc([]string{"stage", "until", "grace"}, func(word string) bool { return strings.Contains(text, word) }) {
		at = instants[:1]
	}
	return at
}

// Few reports whether there are few enough sign-ons of one person to one app to go through them all: in some
// of the rulebooks more than in others, so that there are many of them and yet those that take many.
func (s *Small) Few() bool {
	size := len(s.at()) * 3
	for _, c := range s.choices {
		size *= len(c)
	}
	return size <= s.most
}

// Each gives all sign-ons of some people to some apps.
func (s *Small) Each(users, apps []string, f func(*signon.SignOn)) {
	choices := append([][]statement{{nothing, session(2 * time.Hour), session(3 * time.Hour)}}, s.choices...)
	var from func(i int, so signon.SignOn)
	from = func(i int, so signon.SignOn) {
		if i == len(choices) {
			if s.possible(&so) {
				f(&so)
			}
			return
		}
		for _, c := range choices[i] {
			next := cloned(&so)
			c(&next)
			from(i+1, next)
		}
	}
	for _, user := range users {
		for _, app := range apps {
			for _, t := range s.at() {
				from(0, signon.SignOn{User: user, App: app, Time: t})
			}
		}
	}
}

// possible reports whether what is supposed of what was before can be known at all, and no risk is less than the rulebook says.
func (s *Small) possible(so *signon.SignOn) bool {
	if level := so.Suppose["user.risk"]; so.User == "ben" && level != nil && level != "high" {
		return false
	}
	country := so.Country != "" || s.located && so.IP.IsValid() && (strings.HasPrefix(so.IP.String(), "192.0.2.1") && so.IP.String() != "192.0.2.200" ||
		so.IP.String() == "192.0.2.70" || so.IP.String() == "198.51.100.1")
	known := func(name string) bool { v, is := so.Suppose[name]; return is && v != nil }
	return (country || !known("new.country")) && (so.Device != nil && so.Device.ID != "" || !known("new.device"))
}

func cloned(so *signon.SignOn) signon.SignOn {
	c := *so
	c.Evidence, c.Presented = append([]signon.Evidence(nil), so.Evidence...), append([]string(nil), so.Presented...)
	if so.Device != nil {
		d := *so.Device
		c.Device = &d
	}
	if so.Suppose != nil {
		c.Suppose = map[string]any{}
		for k, v := range so.Suppose {
			c.Suppose[k] = v
		}
	}
	return c
}

// Text is the rulebook's one file.
func (s *Small) Text() string { return string(s.Files["rulebook.warden"].Data) }

// Users and apps of all small rulebooks, but for a user who is disabled.
var (
	Users = []string{"ada", "ben", "cil", "key", "eli"}
	Apps  = []string{"ledger", "roster"}
)
