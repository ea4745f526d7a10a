package about

// What is known of each kind of thing but people and groups, and who would feel it if it went.

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"briskwarden.example/briskwarden/consent"
	"briskwarden.example/briskwarden/internal/demand"
	"briskwarden.example/briskwarden/internal/known"
	"briskwarden.example/briskwarden/internal/posture"
	"briskwarden.example/briskwarden/language/ast"
	"briskwarden.example/briskwarden/signon"
)

func deviceText(d *posture.Record) string {
	parts := []string{d.ID}
	for _, text := range []string{d.OS, d.Version, d.Form} {
		if text != "" {
			parts = append(parts, text)
		}
	}
	flags := posture.Flags(&d.Device)
	for _, name := range slices.Sorted(maps.Keys(flags)) {
		switch *flags[name] {
		case signon.Yes:
			parts = append(parts, name)
		case signon.No:
			parts = append(parts, "not "+name)
		}
	}
	text := strings.Join(parts, ", ")
	if !d.Reported.IsZero() {
		text += ", reported " + d.Reported.UTC().Format(time.RFC3339)
	}
	return text
}

func (f *finder) anApp() (names []string, found bool, err error) {
	app := f.rb.Apps[f.Name]
	if app == nil {
		return slices.Collect(maps.Keys(f.rb.Apps)), false, nil
	}
	f.app = app
	f.know("is", "%s", app.Title())
	if app.Decl != nil {
		f.Known[0].At = app.Decl.Name.Pos.InFile()
		if app.Decl.URL.Given() {
			f.know("address", "%s", app.Decl.URL.Text)
		}
		var tags []string
		for _, t := range app.Decl.Tags {
			tags = append(tags, t.Text)
		}
		if len(tags) > 0 {
			f.know("tags", "%s", strings.Join(tags, ", "))
		}
	}
	if err := f.held(consent.Selection{App: f.Name}); err != nil {
		return nil, false, err
	}
	people := map[string]bool{}
	for _, p := range f.rb.Policies {
		if p.To.Holds(app) {
			for person := range f.rb.Selected(&p.Who) {
				people[person.ID] = true
			}
		}
	}
	f.feel("people", "%d, for whom some policy of it is", len(people))
	return nil, true, f.reachOfApp()
}

func (f *finder) network() (names []string, found bool, err error) {
	f.net = slices.Index(f.rb.Networks.Names, f.Name)
	if f.net < 0 {
		return f.rb.Networks.Names, false, nil
	}
	for d := range f.rb.Declarations() {
		n, ok := d.(*ast.Network)
		if !ok || n.Name.Text != f.Name {
			continue
		}
		var items []string
		for _, i := range n.Items {
			items = append(items, i.Text)
		}
		for _, i := range n.From {
			items = append(items, "from "+i.Text)
		}
		f.Known = append(f.Known, Line{"addresses", orNone(strings.Join(items[:min(len(items), 12)], ", ")), n.Name.Pos.InFile()})
		if more := len(items) - 12; more > 0 {
			f.know("", "and %d more", more)
		}
		if n.Trusted.IsValid() {
			f.know("is", "trusted")
		}
		if n.Anonymous.IsValid() {
			f.know("is", "anonymous: it hides where one is")
		}
	}
	f.affected()
	return nil, true, nil
}

func (f *finder) method() (names []string, found bool, err error) {
	m, ok := f.rb.Methods.Lookup(f.Name)
	if !ok {
		return f.rb.Methods.Names(), false, nil
	}
	traits := []string{demand.Kinds[m.Kind]}
	for _, t := range []struct {
		is   bool
		name string
	}{{m.Hardware, "hardware"}, {m.PhishingResistant, "phishing-resistant"}, {m.VerifiesUser, "verifies the user"}} {
		if t.is {
			traits = append(traits, t.name)
		}
	}
	f.know("is", "%s", strings.Join(traits, ", "))
	if len(m.AMR) > 0 {
		f.know("amr", "%s (RFC 8176)", strings.Join(m.AMR, ", "))
	}
	var have, only []string
	for _, p := range f.rb.People {
		if p.Active == known.False || !p.Methods.Has(m.ID) {
			continue
		}
		have = append(have, p.ID)
		if p.Methods.Len() == 1 {
			only = append(only, p.ID)
		}
	}
	f.know("enrolled", "%d: %s", len(have), orNone(few(have)))
	f.feel("enrolled", "%d, of whom %d have nothing else%s", len(have), len(only), listed(only))
	return nil, true, nil
}

func orNone(text string) string {
	if text == "" {
		return "none"
	}
	return text
}

func listed(names []string) string {
	if len(names) == 0 {
		return ""
	}
	return ": " + few(names)
}

func (f *finder) device() (names []string, found bool, err error) {
	d := f.rb.Devices[f.Name]
	if d == nil { // which sign-ons may know all the same
		if err := f.signOns(); err != nil || len(f.SignOns) == 0 {
			return slices.Collect(maps.Keys(f.rb.Devices)), false, err
		}
		f.know("is", "in no inventory")
		return nil, true, nil
	}
	f.Known = append(f.Known, Line{"is", deviceText(d), fmt.Sprintf("%s:%d", d.File, d.Line)})
	f.know("owner", "%s", orNone(d.Owner))
	for _, name := range slices.Sorted(maps.Keys(d.Attributes)) {
		f.know(name, "%v", d.Attributes[name])
	}
	if p := f.rb.People[d.Owner]; p != nil {
		baselines := make([]int, len(f.rb.Baselines))
		for i := range baselines {
			baselines[i] = i
		}
		for i, b := range f.rb.Baselines {
			labels, _ := f.e.FailedChecks(p, d, nil, baselines[i:i+1], f.e.Now())
			text := "met"
			if len(labels) > 0 {
				text = "not met: " + strings.Join(labels, ", ")
			}
			f.know("baseline "+b.Name, "%s", text)
		}
		f.feel("owner", "%s", p.ID)
	}
	return nil, true, nil
}

func (f *finder) country() (names []string, found bool, err error) {
	if f.codes = f.rb.CountryCodes(f.Name); f.codes == nil {
		return slices.Collect(maps.Keys(f.rb.Countries)), false, nil
	}
	if len(f.codes) != 1 || f.codes[0] != f.Name {
		f.know("is", "a set of countries: %s", few(slices.Clone(f.codes)))
	}
	for _, set := range slices.Sorted(maps.Keys(f.rb.Countries)) {
		if set != f.Name && slices.Contains(f.rb.Countries[set], f.codes[0]) && len(f.codes) == 1 {
			f.know("is in", "%s", set)
		}
	}
	f.affected()
	return nil, true, nil
}

func (f *finder) client() (names []string, found bool, err error) {
	if f.Consents == nil {
		return nil, false, nil
	}
	list, err := consent.New(f.Consents, f.rules).Clients(f.ctx)
	if err != nil {
		return nil, false, err
	}
	for _, c := range list {
		names = append(names, c.ID)
		if c.ID != f.Name {
			continue
		}
		found = true
		f.know("is", "%s, by %s (%s)", orNone(c.Name), orNone(c.Publisher), map[signon.YesNo]string{signon.Yes: "verified", signon.No: "not verified"}[c.Verified])
		if c.IsBanned() {
			f.know("banned", "by %s: %s", c.Banned.By, c.Banned.Because)
		}
		f.know("holds", "%s in %d consents; weight %d", orNone(strings.Join(c.Scopes, ", ")), c.Holds, c.Weight)
		if c.Waiting > 0 {
			f.know("waiting", "%d requests", c.Waiting)
		}
		f.feel("people", "%d hold a consent of their own", c.People)
		if len(c.Groups) > 0 {
			f.feel("groups", "%s", few(c.Groups))
		}
		if c.Everyone {
			f.feel("everyone", "one consent is for everybody")
		}
	}
	return names, found, nil
}

// mostConsents is how many consents are told one by one.
const mostConsents = 10

// held tells of the consents of a user, or an app.
func (f *finder) held(of consent.Selection) error {
	if f.Consents == nil {
		return nil
	}
	n := 0
	err := f.Consents.View(f.ctx, func(tx consent.Tx) error {
		for c, err := range tx.Consents(of) {
			if err != nil {
				return err
			}
			if n++; n <= mostConsents {
				f.know("consent", "%s, %s: %s may, of %s at %s, %s", c.ID, c.State, c.Client, c.User, c.App, strings.Join(c.Scopes, ", "))
			}
		}
		return nil
	})
	if more := n - mostConsents; more > 0 {
		f.know("consent", "and %d more", more)
	}
	return err
}
