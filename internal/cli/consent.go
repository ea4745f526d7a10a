package cli

// brisk consent: its ledger, ask and import.

import (
	"errors"
	"fmt"
	"path/filepath"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"briskwarden.example/briskwarden"
	"briskwarden.example/briskwarden/consent"
	"briskwarden.example/briskwarden/explain"
	"briskwarden.example/briskwarden/internal/screen"
	"briskwarden.example/briskwarden/internal/spell"
	"briskwarden.example/briskwarden/signon"
	"briskwarden.example/briskwarden/store/sqlite"
)

// ledgerFile is the ledger beside a rulebook.
const ledgerFile = "consent.ledger"

// consents is a session with a ledger.
type consents struct {
	*session
	file   string // --ledger
	ledger *consent.Ledger
	store  consent.Store
	rules  *briskwarden.Rulebook
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
	c.PersistentFlags().StringVar(&x.file, "ledger", "", "the ledger: a file, or postgres://… (default: "+ledgerFile+" in the rulebook's folder)")
	c.AddCommand(x.askCommand(), x.waitingCommand(), x.showCommand(), x.settleCommand(), x.withdrawCommand(), x.clientsCommand(),
		x.banCommand(), x.unbanCommand(), x.auditCommand(), x.journalCommand(), x.importCommand())
	return c
}

// open opens the ledger. What only looks does not begin one.
func (x *consents) open(changes bool) (done func(), err error) {
	if x.rules, x.now, err = x.session.rules(); err != nil {
		return nil, err
	}
	name := x.file
	if name == "" {
		name = filepath.Join(x.opened, ledgerFile)
	}
	x.store, done = consent.NewMemory(), func() {}
	if changes || isDatabase(name) || sqlite.Exists(name) {
		file, err := x.openStore(name)
		if err != nil {
			return nil, err
		}
		x.store, done = file, func() { file.Close() }
	}
	x.ledger = consent.New(x.store, x.rules)
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

func (x *consents) askCommand() *cobra.Command {
	var request string
	c := &cobra.Command{
		Use:   "ask CLAUSES",
		Short: "Ask for a consent, in clauses or with --request FILE, and keep the answer",
		Long: `ask decides on the request of a client application, told in the clauses of "brisk decide", and keeps
the answer. What it holds already is not asked for again.

  user U   app A   client ID   publisher NAME [verified]   scopes S, …   for self|everyone|group G [owner]
  presenting METHOD, …   having …   ip ADDRESS   at INSTANT   and so on`,
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
	if err == nil && request == "" {
		err = x.oneInstant(&so)
	}
	if err != nil {
		return err
	}
	answer, err := x.ledger.Ask(x.ctx, so)
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
		return x.told(x.ledger.Request, commandLine, joinWords(words))
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
	o := explain.Options{Colour: bool(x.paint), Brief: true}
	row := func(label, format string, args ...any) {
		x.out.Print(screen.Styled(explain.Row(label, fmt.Sprintf(format, args...), o)))
	}
	x.out.Print(screen.Styled(explain.Head(*so, d.Outcome, o)))
	row("Client", "%s", clientText(a.Client, so.Consent.Client))
	switch {
	case a.Client.IsBanned():
		b := a.Client.Banned
		row("Banned", "by %s since %s: %s", b.By, x.day(b.Since), b.Because)
		return
	case a.Again:
		row("Waits", "since %s as %s, for a review by group %s", x.day(a.Consent.Asked), a.Consent.ID, a.Consent.Reviewers)
		return
	case a.Decision == nil:
		row("Held", "already, by %s: nothing was asked anew", idsOf(a.Held))
		return
	}
	if len(a.Held) > 0 {
		row("Held", "%s, by %s; only the rest was asked", spell.Few(heldOf(a, so), 8), idsOf(a.Held))
	}
	if c := a.Consent; c != nil && c.State == consent.Granted {
		row("Kept", "as %s, for %s", c.ID, c.Holder())
	} else if c != nil {
		row("Kept", "as %s, until somebody of %s settles it", c.ID, c.Reviewers)
	}
	so.Consent.Scopes = a.New
	x.out.Print(screen.Styled(explain.Reasons(x.rules, *so, *d, o)))
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
	return spell.Few(ids, 4)
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
	return t.In(x.rules.Zone()).Format("Mon 2006-01-02")
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
	x.out.Printf("Took in %s and %s; %d stood in the ledger already.\n", spell.Plural(total.Clients, "client"), spell.Plural(total.Consents, "consent"), total.Same)
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
		past, err = consent.ReadPast(in, x.rules.Zone(), x.ledger.Apps())
	case ".json", ".jsonl":
		clients, err = consent.ReadClients(in)
	default:
		err = errors.New("is neither .json or .jsonl (clients) nor .csv (past consents)")
	}
	if err != nil {
		return n, err
	}
	return x.ledger.Import(x.ctx, clients, past, name)
}
