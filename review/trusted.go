package review

// What no outcome shows: who is believed, who may ask and for whom, who reviews, who is told, and which app an address is. It is
// compared by what it reaches, and not by its words: the people of a group, the addresses of a network, the keys in a file.

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"go4.org/netipx"

	"briskwarden.example/briskwarden"
	"briskwarden.example/briskwarden/internal/bridge"
	"briskwarden.example/briskwarden/internal/rulebook"
	"briskwarden.example/briskwarden/internal/spell"
)

// power is one thing that a declaration does, such as: the issuer desk, "speaks for", ann.
type power struct{ declaration, does, what string }

// trusted is what a rulebook trusts.
type trusted struct {
	rb    *rulebook.Rulebook
	lets  map[power]bool                 // what can let somebody in, or further
	keeps map[power]bool                 // what can keep somebody out, or have it noticed
	froms map[string]*netipx.IPSet       // from which addresses a caller may ask; nil is any
	until map[string]map[power]time.Time // when what a caller proves itself by ends; zero is never
}

func trustedBy(rules *briskwarden.Rulebook) *trusted {
	t := &trusted{rb: bridge.Engine(rules).Rulebook(), lets: map[power]bool{}, keeps: map[power]bool{}, froms: map[string]*netipx.IPSet{}, until: map[string]map[power]time.Time{}}
	t.issuers()
	t.callers()
	t.signals()
	t.methods()
	t.reviewers()
	t.alerts()
	for _, app := range t.rb.Apps {
		if app.Decl.URL.Given() {
			t.both("app "+app.Name, "is at", app.Decl.URL.Text)
		}
	}
	return t
}

func (t *trusted) may(declaration, does, what string) { t.lets[power{declaration, does, what}] = true }
func (t *trusted) stops(declaration, does, what string) {
	t.keeps[power{declaration, does, what}] = true
}

// both is for what must not change at all.
func (t *trusted) both(declaration, does, what string) {
	t.may(declaration, does, what)
	t.stops(declaration, does, what)
}

// people are those whom selectors select, beside whom a program or provisioning may state by what they name.
func (t *trusted) people(declaration, does string, who *rulebook.Who) {
	for id, p := range t.rb.People {
		if who.Holds(p) {
			t.may(declaration, does, id)
		}
	}
	for _, s := range who.Items {
		t.may(declaration, does, s.String())
	}
	for _, s := range who.Except {
		t.stops(declaration, does+" all but", s.String())
	}
}

func (t *trusted) appsOf(holds func(*rulebook.App) bool) (list []string) {
	for id, app := range t.rb.Apps {
		if holds(app) {
			list = append(list, id)
		}
	}
	return list
}

func (t *trusted) keys(declaration string, k *rulebook.Keys) {
	if k.URL != "" {
		t.both(declaration, "believes the keys at", k.URL)
		return
	}
	for _, name := range k.Names() {
		t.both(declaration, "believes the key", name)
	}
}

// sessions are shared by those who have the same word for them.
func (t *trusted) sessions(declaration, word string) {
	if word == "" {
		return
	}
	for _, c := range t.rb.Callers {
		if c.Sessions == word {
			t.may(declaration, "shares sessions with", "caller "+c.Name)
		}
	}
	for _, i := range t.rb.Issuers {
		if i.Sessions == word {
			t.may(declaration, "shares sessions with", "issuer "+i.Name)
		}
	}
}

func (t *trusted) issuers() {
	for _, i := range t.rb.Issuers {
		declaration := "issuer " + i.Name
		t.may(declaration, "is named in tokens as", i.URL)
		t.keys(declaration, &i.Keys)
		t.people(declaration, "speaks for", &i.Who)
		for _, app := range t.appsOf(func(*rulebook.App) bool { return true }) {
			if audience := i.AudienceFor(t.rb.Apps[app]); audience != "" {
				t.may(declaration, fmt.Sprintf("opens by tokens for %q", audience), app)
			}
		}
		if i.Cookie != "" {
			t.may(declaration, "is believed in the cookie", i.Cookie)
		}
		t.may(declaration, "has people sign on at", i.SignOn)
		t.sessions(declaration, i.Sessions)
	}
}

func (t *trusted) callers() {
	for _, c := range t.rb.Callers {
		declaration := "caller " + c.Name
		t.until[declaration] = map[power]time.Time{}
		for _, token := range c.Tokens {
			proof := power{declaration, "proves itself by", fmt.Sprintf("the token sha256:%x…", token.Digest[:4])}
			t.lets[proof], t.until[declaration][proof] = true, token.Until
		}
		for _, digest := range c.Certificates {
			t.may(declaration, "proves itself by", fmt.Sprintf("the certificate sha256:%x…", digest[:4]))
		}
		if len(c.Tokens) > 0 && len(c.Certificates) > 0 {
			t.stops(declaration, "proves itself by", "both a token and a certificate")
		}
		for word := range strings.SplitSeq(c.May.String(), ", ") {
			t.may(declaration, "may", word)
		}
		for _, app := range t.appsOf(c.Concerns) {
			t.may(declaration, "is for the app", app)
		}
		if len(c.For.Items) == 0 {
			t.may(declaration, "is for the app", "that is yet to be written, whichever it is")
		}
		t.froms[declaration] = t.from(c)
		t.sessions(declaration, c.Sessions)
	}
}

// from are the addresses from which a caller may ask; nil is any.
func (t *trusted) from(c *rulebook.Caller) *netipx.IPSet {
	if len(c.From) == 0 {
		return nil
	}
	var all netipx.IPSetBuilder
	for prefix, network := range t.rb.Networks.Table.Prefixes() {
		if slices.Contains(c.From, network) {
			all.AddPrefix(prefix)
		}
	}
	set, err := all.IPSet()
	if err != nil { // of prefixes that are none
		return &netipx.IPSet{}
	}
	return set
}

func (t *trusted) signals() {
	for _, s := range t.rb.Signals {
		declaration := "signals " + s.Name
		t.both(declaration, "is named in signals as", s.From)
		t.keys(declaration, &s.Keys)
		t.both(declaration, "hears what is for", s.Audience)
		for word := range strings.SplitSeq(s.Accept.String(), ", ") {
			t.both(declaration, "accepts", word)
		}
		if s.Poll != "" {
			t.both(declaration, "is asked at", s.Poll+" with "+s.TokenIn)
		}
	}
}

// methods are known in tokens by values.
func (t *trusted) methods() {
	for _, m := range t.rb.Methods.All() {
		if len(m.AMR) > 0 {
			t.both("method "+m.Name, "is shown in tokens by", strings.Join(slices.Sorted(slices.Values(m.AMR)), " "))
		}
	}
}

// reviewers are the people who settle consents, and of which apps.
func (t *trusted) reviewers() {
	for _, p := range t.rb.Policies {
		for i := range p.Cases {
			group := p.Cases[i].Group
			if p.Cases[i].Kind != rulebook.Review || group == "" {
				continue
			}
			declaration := "group " + group
			for _, app := range t.appsOf(p.To.Holds) {
				t.may(declaration, "reviews consents for the app", app)
			}
			id, ok := t.rb.Groups.Lookup(group)
			for user, person := range t.rb.People {
				if ok && person.In(id) {
					t.may(declaration, "has among those who review consents", user)
				}
			}
		}
	}
}

func (t *trusted) alerts() {
	for _, a := range t.rb.Alerts {
		declaration := "alert " + a.Name
		var told []string
		for _, to := range a.Tell {
			told = append(told, to.Address+" "+to.SecretIn)
		}
		often := "always"
		if a.Most > 0 {
			often = fmt.Sprintf("at most %d per %s every %s", a.Most, a.Per, a.Every)
		}
		slices.Sort(told)
		t.stops(declaration, "tells of", fmt.Sprintf("%s, on %v, %s, to %s", cmp.Or(a.Text, "everything"), a.On, often, strings.Join(told, ", ")))
		for id, p := range t.rb.People {
			if len(a.Who.Items) > 0 && a.Who.Holds(p) {
				t.stops(declaration, "tells of", id)
			}
		}
		for _, app := range t.appsOf(func(app *rulebook.App) bool { return len(a.To.Items) > 0 && a.To.Holds(app) }) {
			t.stops(declaration, "tells of the app", app)
		}
	}
}

// outside are the declarations of the new rulebook by which somebody may get in, or be noticed less, who was not before, with why.
func outside(before, after *briskwarden.Rulebook, changed []Declared) []Declared {
	was, is := trustedBy(before), trustedBy(after)
	why := map[power][]string{} // by declaration and what it does
	add := func(p power, no string, what string) {
		key := power{p.declaration, no + p.does, ""}
		if strings.HasPrefix(p.declaration, "method ") && len(is.rb.Issuers) == 0 { // nobody issues tokens
			return
		}
		why[key] = append(why[key], what)
	}
	for p := range is.lets {
		if !was.lets[p] {
			add(p, "", p.what)
		}
	}
	for p := range was.keeps {
		kind, name, _ := strings.Cut(p.declaration, " ")
		if there := kind != "caller" && kind != "issuer" || is.has(kind, name); there && !is.keeps[p] {
			add(p, "no longer ", p.what)
		}
	}
	for declaration, now := range is.froms {
		for _, prefix := range beyond(was.froms, declaration, now) {
			add(power{declaration, "may ask from", ""}, "", prefix)
		}
		for proof, until := range is.until[declaration] {
			old, there := was.until[declaration][proof]
			if there && !old.IsZero() && (until.IsZero() || until.After(old)) {
				add(power{declaration, "is longer believed by", ""}, "", proof.what)
			}
		}
	}
	return told(why, was, is, changed)
}

// has reports whether a caller or an issuer is there: one that is gone lets nobody in.
func (t *trusted) has(kind, name string) bool {
	return kind == "caller" && slices.ContainsFunc(t.rb.Callers, func(c *rulebook.Caller) bool { return c.Name == name }) ||
		kind == "issuer" && slices.ContainsFunc(t.rb.Issuers, func(i *rulebook.Issuer) bool { return i.Name == name })
}

// beyond are the addresses from which a caller may ask now, and might not before.
func beyond(was map[string]*netipx.IPSet, declaration string, now *netipx.IPSet) (list []string) {
	old, there := was[declaration]
	switch {
	case there && old == nil:
		return nil
	case now == nil && there:
		return []string{"anywhere"}
	case now == nil:
		return nil
	}
	var more netipx.IPSetBuilder
	more.AddSet(now)
	if old != nil {
		more.RemoveSet(old)
	}
	rest, err := more.IPSet()
	if err != nil {
		return []string{"elsewhere"}
	}
	for _, p := range rest.Prefixes() {
		list = append(list, p.String())
	}
	return list
}

// mostWhat is how many of what a declaration does are named.
const mostWhat = 4

func told(why map[power][]string, was, is *trusted, changed []Declared) []Declared {
	byName := map[string]*Declared{}
	for key, list := range why {
		d := byName[key.declaration]
		if d == nil {
			d = &Declared{What: key.declaration, Change: Different}
			byName[key.declaration] = d
		}
		slices.Sort(list)
		d.Why = append(d.Why, key.does+" "+spell.Few(list, mostWhat))
	}
	places := map[string]Declared{}
	for _, c := range changed {
		places[c.What] = c
	}
	list := []Declared{}
	for _, what := range slices.Sorted(maps.Keys(byName)) {
		d := byName[what]
		slices.Sort(d.Why)
		if c, ok := places[what]; ok {
			d.Change, d.At = c.Change, c.At
		} else {
			d.Change = Reaches
		}
		if d.Change == New || d.Change == Gone {
			d.Why = nil
		}
		list = append(list, *d)
	}
	return list
}

func (d Declared) lines() []Line {
	at := ""
	if d.At != "" {
		at = " (" + d.At + ")"
	}
	lines := []Line{{Text: fmt.Sprintf("%-9s  %s%s", d.Change, d.What, at)}}
	for i, why := range d.Why {
		lines = append(lines, Line{map[bool]string{true: "since it"}[i == 0], why})
	}
	return lines
}
