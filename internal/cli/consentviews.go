package cli

// brisk consent waiting, show, clients, journal and audit.

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"briskwarden.example/briskwarden/consent"
	"briskwarden.example/briskwarden/internal/screen"
	"briskwarden.example/briskwarden/internal/spell"
	"briskwarden.example/briskwarden/signon"
)

// view is a command that looks at the ledger and takes nothing else.
func (x *consents) view(use, short string, look func() error) *cobra.Command {
	return &cobra.Command{Use: use, Short: short, Args: noArgs, RunE: func(*cobra.Command, []string) error { return x.run(false, look) }}
}

func (x *consents) waitingCommand() *cobra.Command {
	return x.view("waiting", "What waits for a review, the oldest first", x.waiting)
}

func (x *consents) waiting() error {
	list, err := x.ledger.Waiting(x.ctx)
	if err != nil {
		return err
	}
	if x.json {
		rows := []jsonWaiting{}
		for _, c := range list {
			rows = append(rows, jsonWaiting{c.Consent, x.rules.Weigh(c.Scopes), int64(x.now.Sub(c.Asked) / time.Second)})
		}
		return x.writeJSON(rows)
	}
	if len(list) == 0 {
		x.out.Println("Nothing waits for a review.")
		return nil
	}
	x.out.Printf("%s for a review, the oldest for %s.\n", x.paint.Bold(waits(len(list))), screen.Ago(x.now.Sub(list[0].Asked)))
	for _, c := range list {
		x.out.Printf("\n%s %s asks for %s, %s\n", x.paint.Bold(screen.Pad(c.ID.String(), 6)), x.paint.Amber(c.User), clientText(&c.Client, c.Client.ID), x.paint.Faint(screen.Ago(x.now.Sub(c.Asked))+" ago"))
		x.indented("to have, of %s, for %s:", c.App, holderOf(c.Consent))
		x.sets(c.Scopes)
		weight := x.rules.Weigh(c.Scopes)
		x.indented("weighs %d of 100; reviewed by %s", weight, c.Reviewers)
		x.lookAlikes(&c.Client, c.LookAlike, c.AllAlike)
	}
	return nil
}

func waits(n int) string {
	if n == 1 {
		return "1 request waits"
	}
	return spell.Plural(n, "request") + " wait"
}

// holderOf tells for whom a consent is, to somebody who reads who asked.
func holderOf(c *consent.Consent) string {
	if c.For == signon.ForSelf {
		return "this user alone"
	}
	if c.Owner == signon.Yes {
		return c.Holder() + ", as its owner"
	}
	return c.Holder()
}

func (x *consents) indented(format string, args ...any) {
	x.out.Printf("       %s\n", screen.Wrapped(fmt.Sprintf(format, args...), 7))
}

func (x *consents) warned(format string, args ...any) {
	x.out.Printf("       %s\n", x.paint.Amber(screen.Wrapped(fmt.Sprintf(format, args...), 7)))
}

// sets lists scopes by the sets that name them.
func (x *consents) sets(scopes []string) {
	const most = 12
	for _, c := range x.rules.Classify(scopes) {
		text := screen.Pad(c.String(), 24)
		x.out.Printf("         %s %s\n", x.paint.Faint(text), screen.Wrapped(spell.Few(c.Scopes, most), 34))
	}
}

func (x *consents) showCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "show ID|CLIENT",
		Short: "Everything about a consent, or about a client",
		RunE: func(_ *cobra.Command, args []string) error {
			if len(args) != 1 {
				return usage("say which one: brisk consent show c-17, or brisk consent show CLIENT")
			}
			return x.run(false, func() error { return x.show(args[0]) })
		},
	}
}

func (x *consents) show(name string) error {
	client := name
	var one *consent.Consent
	if id, err := consent.ParseID(name); err == nil {
		if one, err = x.ledger.Find(x.ctx, id); err != nil {
			return err
		}
		if one == nil {
			return fmt.Errorf("there is no consent %s", id)
		}
		client = one.Client
	}
	file, err := x.ledger.File(x.ctx, client)
	if err != nil {
		return err
	}
	if file == nil {
		known, err := x.clientNames()
		if err != nil {
			return err
		}
		return fmt.Errorf("the ledger knows no client %q%s", client, hint(client, known))
	}
	if x.json {
		return x.writeJSON(fileJSON(file, one))
	}
	if one != nil {
		x.consent(one, file)
		x.out.Println()
	}
	x.client(file)
	return nil
}

// consent tells everything about one.
func (x *consents) consent(c *consent.Consent, file *consent.File) {
	x.out.Printf("%s is %s: %s gave, or asked to give, %s data of %s, for %s\n", x.paint.Bold(c.ID.String()), x.state(c.State, file.Standing[c.ID], 0),
		c.User, c.Client, c.App, holderOf(c))
	x.indented("asked %s, decided by %s", x.minute(c.Asked), orImport(c.Policy))
	if c.By != "" {
		x.indented("%s %s by %s: %s", c.State, x.minute(c.Settled), c.By, c.Because)
	}
	if !c.Until.IsZero() {
		x.indented("up to %s", x.day(c.Until.Add(-time.Second)))
	}
	x.sets(c.Scopes)
	if len(c.Granted) > 0 && len(c.Granted) < len(c.Scopes) {
		x.indented("of these it was granted %s", spell.Few(c.Granted, 12))
	}
}

func orImport(policy string) string {
	if policy == "" {
		return "nobody here: it was imported"
	}
	return policy
}

func (x *consents) minute(t time.Time) string {
	return t.In(x.rules.Zone()).Format("Mon 2006-01-02 15:04")
}

// client tells everything about one.
func (x *consents) client(f *consent.File) {
	h := f.Holding
	x.out.Printf("%s\n", x.paint.Bold(clientText(&h.Client, h.ID)))
	if h.IsBanned() {
		x.out.Printf("       %s %s\n", x.paint.Red("banned"), screen.Wrapped(fmt.Sprintf("since %s by %s: %s", x.minute(h.Banned.Since), h.Banned.By, h.Banned.Because), 7))
	}
	x.lookAlikes(&h.Client, f.LookAlike, f.AllAlike)
	x.metadata(&h.Metadata)
	x.indented("%s, weighing %d of 100; held by %s; asked last %s", holdsText(h), h.Weight, holdersText(h), x.minute(h.Last))
	x.sets(h.Scopes)
	x.listed(f)
	x.history(f)
}

func (x *consents) metadata(m *consent.Metadata) {
	for _, row := range []struct{ label, value string }{
		{"website", m.URI}, {"contacts", strings.Join(m.Contacts, ", ")}, {"redirects to", strings.Join(m.Redirects, ", ")},
		{"terms", m.Terms}, {"privacy policy", m.Policy}, {"software", strings.TrimSpace(m.Software + " " + m.SoftwareVersion)},
		{"registered for the scopes", m.Scope},
	} {
		if row.value != "" {
			x.indented("%s: %s", row.label, row.value)
		}
	}
}

// lookAlikes names the clients that this one could be taken for, and the letters that an eye
// does not tell apart.
func (x *consents) lookAlikes(mine *consent.Client, others []consent.Client, all int) {
	if len(others) == 0 {
		return
	}
	var list []string
	letters := []string{mine.ID, mine.Name}
	for i := range others {
		list = append(list, clientText(&others[i], ""))
		letters = append(letters, others[i].ID, others[i].Name)
	}
	const most = 3
	text := "looks like, and is not: " + strings.Join(list[:min(len(list), most)], ", ")
	if all > most {
		text += fmt.Sprintf(" and %d more", all-most)
	}
	if foreign := spell.Foreign(letters...); len(foreign) > 0 {
		text += "; the " + spell.Few(foreign, 3)
	}
	x.warned("%s", text)
}

// listed lists the client's consents, the latest first.
func (x *consents) listed(f *consent.File) {
	const most = 12
	if len(f.Consents) == 0 {
		return
	}
	x.head(heading("Consents", min(len(f.Consents), most), len(f.Consents)))
	for i := range min(len(f.Consents), most) {
		c := f.Consents[len(f.Consents)-1-i]
		scopes := c.Granted
		if len(scopes) == 0 {
			scopes = c.Scopes
		}
		x.out.Printf("  %s %s %s %s\n", screen.Pad(c.ID.String(), 6), x.state(c.State, f.Standing[c.ID], 10), screen.Pad(screen.Cut(c.Holder(), 30), 24),
			screen.Wrapped(fmt.Sprintf("%s: %s", c.App, spell.Few(scopes, 6)), 44))
	}
}

// history lists what the journal has of the client, the latest last.
func (x *consents) history(f *consent.File) {
	const most = 8
	x.head(heading("Journal", min(len(f.Entries), most), len(f.Entries)))
	for _, e := range f.Entries[max(0, len(f.Entries)-most):] {
		x.entry(e)
	}
}

func (x *consents) entry(e *consent.Entry) {
	on := e.Client
	if e.Consent != 0 {
		on = e.Consent.String() + " " + on
	}
	x.out.Printf("  %5d  %s  %s %s %s: %s\n", e.Number, x.minute(e.Time), screen.Pad(e.Who, 18), x.paint.Bold(screen.Pad(e.What, 8)), on, screen.Wrapped(e.Why, 34))
}

// clientNames are the ids of all clients.
func (x *consents) clientNames() (ids []string, err error) {
	list, err := x.ledger.Clients(x.ctx)
	for _, c := range list {
		ids = append(ids, c.ID)
	}
	slices.Sort(ids)
	return ids, err
}
