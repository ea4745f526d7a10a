package cli

import (
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"briskwarden.example/briskwarden/internal/consent"
	"briskwarden.example/briskwarden/internal/diag"
	"briskwarden.example/briskwarden/internal/engine"
	"briskwarden.example/briskwarden/internal/schedule"
	"briskwarden.example/briskwarden/internal/spell"
	"briskwarden.example/briskwarden/internal/store"
	"briskwarden.example/briskwarden/language/parser"
	"briskwarden.example/briskwarden/signon"
)

// ledgerFile is the ledger beside a rulebook.
const ledgerFile = "consent.ledger"

// consents is a session with a ledger.
type consents struct {
	*session
	file   string // --ledger
	ledger *consent.Ledger
	store  consent.Store
	engine *engine.Engine
	now    time.Time
}

func (s *session) consentCommand() *cobra.Command {
	c := &cobra.Command{
		Use:   "consent",
		Short: "What client applications may do with whose data: ask, settle what waits, look, ban",
		Long: "consent decides what client applications are let have, and keeps it in a ledger: a file beside the\n" +
			"rulebook, or where --ledger says. Every change stands in its journal.",
		Args: knownCommand,
		RunE: help,
	}
	x := &consents{session: s}
	c.PersistentFlags().StringVar(&x.file, "ledger", "", "the ledger's file (default: "+ledgerFile+" in the rulebook's folder)")
	c.AddCommand(x.askCommand(), x.waitingCommand(), x.showCommand(), x.settleCommand(), x.withdrawCommand(), x.clientsCommand(),
		x.banCommand(), x.unbanCommand(), x.auditCommand(), x.journalCommand(), x.importCommand())
	return c
}

// open opens the ledger. What only looks does not begin one.
func (x *consents) open(changes bool) (done func(), err error) {
	if x.engine, x.now, err = x.session.engine(); err != nil {
		return nil, err
	}
	name := x.file
	if name == "" {
		name = filepath.Join(x.opened, ledgerFile)
	}
	x.store, done = consent.NewMemory(), func() {}
	if changes || store.Exists(name) {
		file, err := store.Open(name)
		if err != nil {
			return nil, usage("%w", err)
		}
		x.store, done = file, func() { file.Close() }
	}
	x.ledger = consent.New(x.store, x.engine)
	return done, nil
}

// run opens the ledger for a command.
func (x *consents) run(changes bool, command func() error) error {
	done, err := x.open(changes)
	if err != nil {
		return err
	}
	defer done()
	if err = command(); err != nil {
		var e *exit
		if !errors.As(err, &e) {
			err = usage("%w", err)
		}
	}
	return err
}

// reasoned are the options of a change: who makes it, and why.
type reasoned struct{ by, because string }

func (r *reasoned) add(c *cobra.Command) {
	c.Flags().StringVar(&r.by, "by", "", "who does it: a user")
	c.Flags().StringVar(&r.because, "because", "", "why: the journal keeps it")
}

func (x *consents) askCommand() *cobra.Command {
	var request string
	c := &cobra.Command{
		Use:   "ask CLAUSES",
		Short: "Ask for a consent, in clauses or with --request FILE, and keep the answer",
		Long: `ask decides on the request of a client application, told in the clauses of "brisk decide", and keeps
the answer. What it holds already is not asked for again.

  user U   app A   client ID   publisher NAME [verified]   scopes S, …   for self|everyone|group G [owner]
  presenting METHOD, …   having …   ip ADDRESS   at INSTANT   and so on`,
		Example: `  brisk consent ask user mira.holt app crew-roster client tidy-notes scopes openid, roster.read presenting password`,
		RunE: func(_ *cobra.Command, words []string) error {
			if (request == "") == (len(words) == 0) {
				return usage("tell the request in clauses, or give --request FILE")
			}
			return x.run(true, func() error { return x.ask(words, request) })
		},
	}
	c.Flags().StringVar(&request, "request", "", "the request in a JSON file (- is standard input)")
	return c
}

func (x *consents) ask(words []string, request string) error {
	so, err := x.read(words, request)
	if err != nil {
		return err
	}
	answer, err := x.ledger.Ask(so)
	if err != nil {
		return err
	}
	if x.json {
		return x.writeJSON(answerJSON(answer))
	}
	if so.Action == "" {
		so.Action = "consent"
	}
	x.answered(&so, answer)
	return nil
}

// read reads a request, in clauses or from a file.
func (x *consents) read(words []string, request string) (so signon.SignOn, err error) {
	if request == "" {
		return x.told(x.engine.Rulebook(), parser.Consent, commandLine, joinWords(words), x.now)
	}
	data, err := x.requestIn(request)
	if err != nil {
		return so, err
	}
	if so, err = signon.Decode(data); err != nil {
		err = fmt.Errorf("%s: %w", request, err)
	}
	return so, err
}

// answered tells the answer to a request: the outcome, what is kept, and what decided.
func (x *consents) answered(so *signon.SignOn, a *consent.Answer) {
	d := a.Decision
	if d == nil {
		d = &signon.Decision{Outcome: a.Outcome, Explanation: &signon.Explanation{}}
	}
	v := &verdict{out: x.out, paint: x.paint, rb: x.engine.Rulebook(), so: so, d: d, brief: true}
	v.head()
	v.row("Client", "%s", clientText(a.Client, so.Consent.Client))
	switch {
	case a.Client.IsBanned():
		b := a.Client.Banned
		v.row("Banned", "by %s since %s: %s", b.By, x.day(b.Since), b.Because)
		return
	case a.Again:
		v.row("Waits", "since %s as %s, for a review by group %s", x.day(a.Consent.Asked), a.Consent.ID, a.Consent.Reviewers)
		return
	case a.Decision == nil:
		v.row("Held", "already, by %s: nothing was asked anew", idsOf(a.Held))
		return
	}
	if len(a.Held) > 0 {
		v.row("Held", "%s, by %s; only the rest was asked", diag.Few(heldOf(a, so), 8), idsOf(a.Held))
	}
	if c := a.Consent; c != nil && c.State == consent.Granted {
		v.row("Kept", "as %s, for %s", c.ID, c.Holder())
	} else if c != nil {
		v.row("Kept", "as %s, until somebody of %s settles it", c.ID, c.Reviewers)
	}
	so.Consent.Scopes = a.New
	v.why()
}

// heldOf are the scopes asked for that are held already.
func heldOf(a *consent.Answer, so *signon.SignOn) (held []string) {
	asked := map[string]bool{}
	for _, s := range a.New {
		asked[s] = true
	}
	for _, s := range so.Consent.Scopes {
		if !asked[s] {
			held = append(held, s)
		}
	}
	return held
}

func idsOf(list []*consent.Consent) string {
	var ids []string
	for _, c := range list {
		ids = append(ids, c.ID.String())
	}
	return diag.Few(ids, 4)
}

// clientText names a client and its publisher.
func clientText(c *consent.Client, id string) string {
	if c == nil {
		return id + ", which the ledger does not know"
	}
	text := c.ID
	if c.Name != "" && c.Name != c.ID {
		text = fmt.Sprintf("%s (%s)", c.Name, c.ID)
	}
	return text + ", " + publisherText(c)
}

func publisherText(c *consent.Client) string {
	verified := map[signon.YesNo]string{signon.Yes: "verified", signon.No: "not verified", signon.Unknown: "not known to be verified"}[c.Verified]
	if c.Publisher == "" {
		return "publisher unknown"
	}
	return "by " + c.Publisher + ", " + verified
}

// day tells a date on the rulebook's clock.
func (x *consents) day(t time.Time) string {
	return t.In(x.engine.Rulebook().Zone).Format("Mon 2006-01-02")
}

func (x *consents) settleCommand() *cobra.Command {
	var r reasoned
	var only, until string
	c := &cobra.Command{
		Use:   "settle ID grant|refuse",
		Short: "Grant or refuse a request that waits",
		RunE: func(_ *cobra.Command, args []string) error {
			if len(args) != 2 || args[1] != "grant" && args[1] != "refuse" {
				return usage("say which one and how: brisk consent settle c-17 grant --by USER --because TEXT")
			}
			return x.run(true, func() error { return x.settle(args[0], args[1] == "grant", r, only, until) })
		},
	}
	r.add(c)
	c.Flags().StringVar(&only, "only", "", "grant these of the scopes alone, with commas or spaces between")
	c.Flags().StringVar(&until, "until", "", "the last day of the consent")
	return c
}

func (x *consents) settle(name string, grant bool, r reasoned, only, until string) error {
	id, err := consent.ParseID(name)
	if err != nil {
		return err
	}
	s := consent.Settlement{Grant: grant, By: r.by, Because: r.because,
		Only: strings.FieldsFunc(only, func(c rune) bool { return c == ',' || c == ' ' })}
	if until != "" {
		d, err := schedule.ParseDate(until)
		if err != nil {
			return fmt.Errorf("--until: %w", err)
		}
		s.Until = d.Next().Start(x.engine.Rulebook().Zone)
	}
	settled, err := x.ledger.Settle(id, s)
	if err != nil {
		return err
	}
	return x.changed(settled)
}

func (x *consents) withdrawCommand() *cobra.Command {
	var r reasoned
	c := &cobra.Command{
		Use:   "withdraw ID",
		Short: "End a consent, or take a request back: by whoever gave it, or by a reviewer",
		RunE: func(_ *cobra.Command, args []string) error {
			if len(args) != 1 {
				return usage("say which one: brisk consent withdraw c-17 --by USER --because TEXT")
			}
			return x.run(true, func() error {
				id, err := consent.ParseID(args[0])
				if err != nil {
					return err
				}
				withdrawn, err := x.ledger.Withdraw(id, r.by, r.because)
				if err != nil {
					return err
				}
				return x.changed(withdrawn)
			})
		},
	}
	r.add(c)
	return c
}

// changed tells what became of a consent.
func (x *consents) changed(c *consent.Consent) error {
	if x.json {
		return x.writeJSON(c)
	}
	x.out.printf("%s is %s, by %s: %s\n", x.paint.bold(c.ID.String()), x.state(c.State, string(c.State), 0), c.By, wrapped(c.Because, 4))
	if c.State == consent.Granted {
		until := ""
		if !c.Until.IsZero() {
			until = ", up to " + x.day(c.Until.Add(-time.Second))
		}
		x.out.printf("    %s\n", wrapped(fmt.Sprintf("%s now holds %s for %s%s", c.Client, diag.Few(c.Granted, 12), c.Holder(), until), 4))
	}
	return nil
}

// state tells how a consent stands, in a column of that width without why.
func (x *consents) state(s consent.State, standing string, width int) styled {
	word, _, _ := strings.Cut(standing, ":")
	text := pad(word, width)
	if width == 0 {
		text = clean(standing)
	}
	if word != string(s) { // it has ended
		return x.paint.faint(text)
	}
	switch s {
	case consent.Granted:
		return x.paint.green(text)
	case consent.Waiting:
		return x.paint.amber(text)
	case consent.Refused, consent.Withdrawn:
		return x.paint.red(text)
	}
	return text
}

func (x *consents) banCommand() *cobra.Command {
	return x.banning("ban CLIENT", "Block whatever a client asks for and holds, whatever the policies say",
		func(client string, r reasoned) (*consent.Client, error) { return x.ledger.Ban(client, r.by, r.because) })
}

func (x *consents) unbanCommand() *cobra.Command {
	return x.banning("unban CLIENT", "Lift the ban of a client; what it held before holds again",
		func(client string, r reasoned) (*consent.Client, error) {
			return x.ledger.Unban(client, r.by, r.because)
		})
}

func (x *consents) banning(use, short string, set func(client string, r reasoned) (*consent.Client, error)) *cobra.Command {
	var r reasoned
	c := &cobra.Command{
		Use:   use,
		Short: short,
		RunE: func(_ *cobra.Command, args []string) error {
			if len(args) != 1 {
				return usage("name the client: brisk consent %s --by USER --because TEXT", use)
			}
			return x.run(true, func() error {
				known, err := x.ledger.ClientNames()
				if err != nil {
					return err
				}
				client, err := set(args[0], r)
				if err != nil {
					return err
				}
				if !slices.Contains(known, client.ID) {
					x.err.printf("brisk: nothing is known of a client %q; its ban holds for whatever asks by that name%s\n", client.ID, hint(client.ID, known))
				}
				return x.banned(client)
			})
		},
	}
	r.add(c)
	return c
}

// banned tells whether a client is, and what hangs on it.
func (x *consents) banned(c *consent.Client) error {
	if x.json {
		return x.writeJSON(c)
	}
	file, err := x.ledger.File(c.ID)
	if err != nil {
		return err
	}
	holds := spell.Plural(file.Holding.Holds, "consent")
	if !c.IsBanned() {
		x.out.printf("%s is %s; %s again.\n", x.paint.bold(c.ID), x.paint.green("no longer banned"), holdAgain(file.Holding.Holds))
		return nil
	}
	x.out.printf("%s is %s, by %s: %s\n", x.paint.bold(c.ID), x.paint.red("banned"), c.Banned.By, wrapped(c.Banned.Because, 4))
	x.out.printf("    What it holds, %s of %s, is of no use for as long as it is.\n", holds, spell.Plural(file.Holding.People, "person"))
	return nil
}

func holdAgain(n int) string {
	if n == 1 {
		return "1 consent holds"
	}
	return spell.Plural(n, "consent") + " hold"
}

func (x *consents) importCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "import FILE…",
		Short: "Take in client metadata (RFC 7591, .json or .jsonl), or past consents (.csv)",
		RunE: func(_ *cobra.Command, files []string) error {
			if len(files) == 0 {
				return usage("name a file: clients.json, or consents.csv")
			}
			return x.run(true, func() error { return x.importFiles(files) })
		},
	}
}

func (x *consents) importFiles(files []string) error {
	var total consent.Imported
	for _, name := range files {
		n, err := x.importFile(name)
		if err != nil {
			return fmt.Errorf("%s: %w", name, err)
		}
		total.Clients += n.Clients
		total.Consents += n.Consents
		total.Same += n.Same
	}
	if x.json {
		return x.writeJSON(total)
	}
	x.out.printf("Took in %s and %s; %d stood in the ledger already.\n", spell.Plural(total.Clients, "client"), spell.Plural(total.Consents, "consent"), total.Same)
	return nil
}

func (x *consents) importFile(name string) (n consent.Imported, err error) {
	in, err := x.session.open(name)
	if err != nil {
		return n, err
	}
	defer in.Close()
	var clients []*consent.Client
	var past []*consent.Consent
	switch strings.ToLower(filepath.Ext(name)) {
	case ".csv":
		past, err = consent.ReadPast(in, x.engine.Rulebook().Zone, x.ledger.Apps())
	case ".json", ".jsonl":
		clients, err = consent.ReadClients(in)
	default:
		err = errors.New("is neither .json or .jsonl (clients) nor .csv (past consents)")
	}
	if err != nil {
		return n, err
	}
	return x.ledger.Import(clients, past, name)
}
