package consent

// The ledger as programs use it.

import (
	"context"
	"iter"
	"maps"
	"slices"
	"time"

	"briskwarden.example/briskwarden"
	"briskwarden.example/briskwarden/internal/bridge"
	"briskwarden.example/briskwarden/internal/engine"
	"briskwarden.example/briskwarden/language/parser"
	"briskwarden.example/briskwarden/signon"
)

// Rules gives the rulebook that answers: a [*briskwarden.Rulebook] always gives itself, a
// [*briskwarden.Live] the one that it holds at the time.
type Rules interface {
	Rulebook() *briskwarden.Rulebook
}

// Ledger answers the requests of client applications by a rulebook, lets reviewers settle what
// waits, and keeps every change in a journal. It is safe for concurrent use.
//
// An error of the store, or of what is asked about people, is given back as it is, and nothing
// was changed then. Other errors say what stands against a change, in words for whoever asked for it.
type Ledger struct {
	store Store
	rules Rules
}

// New returns a ledger that keeps in a store what is decided by rules.
func New(store Store, rules Rules) *Ledger { return &Ledger{store, rules} }

// operation is one call of a ledger: by one rulebook, whatever is reloaded meanwhile.
type operation struct {
	ctx    context.Context // of the caller
	store  Store
	engine *engine.Engine
}

func (l *Ledger) operation(ctx context.Context) *operation {
	return &operation{ctx, l.store, bridge.Engine(l.rules.Rulebook())}
}

// Ask answers the request of a client application: by what it holds already, else by the
// policies, about the scopes that are new. A banned client is blocked. A [*signon.FieldError]
// says which field of the request cannot be; then nothing was decided.
func (l *Ledger) Ask(ctx context.Context, so signon.SignOn) (*Answer, error) {
	return l.operation(ctx).ask(so)
}

// Request reads a request that is told in the clauses of the command "brisk consent ask", such as
// "user mira.holt app crew-roster client tidy-notes scopes openid".
func (l *Ledger) Request(clauses string) (signon.SignOn, error) {
	tree, err := parser.Consent("clauses", clauses)
	if err != nil {
		return signon.SignOn{}, err
	}
	e := l.operation(context.Background()).engine
	return e.Rulebook().Tell(tree, e.Now())
}

// Settlement is what a reviewer makes of a request.
type Settlement struct {
	Grant   bool
	By      string    // the reviewer's user id
	Because string    // why, which the journal keeps
	Only    []string  // grants these of the scopes alone; empty is all
	Until   time.Time // the consent ends then; zero is never
}

// Settle grants or refuses a request that waits. The reviewer must be in the group that it waits
// for, and must not have asked for it herself.
func (l *Ledger) Settle(ctx context.Context, id ID, s Settlement) (*Consent, error) {
	return l.operation(ctx).settle(id, s)
}

// Withdraw ends a consent, or takes back a request that waits: by whoever gave it, or by a reviewer.
func (l *Ledger) Withdraw(ctx context.Context, id ID, by, because string) (*Consent, error) {
	return l.operation(ctx).withdraw(id, by, because)
}

// Forget withdraws all consents and requests of a user's own, since another may get the name, all in one transaction. By says
// whose doing it is.
func (l *Ledger) Forget(ctx context.Context, user, by string) error {
	return l.operation(ctx).forget(user, by)
}

// Ban blocks whatever a client asks for, and what it holds, until the ban is lifted.
func (l *Ledger) Ban(ctx context.Context, client, by, because string) (*Client, error) {
	return l.operation(ctx).ban(client, by, because)
}

// Unban lifts a ban. What the client held before holds again.
func (l *Ledger) Unban(ctx context.Context, client, by, because string) (*Client, error) {
	return l.operation(ctx).unban(client, by, because)
}

// Import takes clients and past consents into the ledger, all or none. From names where they come from.
func (l *Ledger) Import(ctx context.Context, clients []*Client, consents []*Consent, from string) (Imported, error) {
	return l.operation(ctx).importAll(clients, consents, from)
}

// Clients is the inventory of clients, the heaviest first. What a banned client would hold is
// counted, though it is of no use to it.
func (l *Ledger) Clients(ctx context.Context) ([]*Holding, error) {
	return l.operation(ctx).inventory()
}

// Waiting are the requests that wait for a review, the oldest first.
func (l *Ledger) Waiting(ctx context.Context) ([]Request, error) {
	return l.operation(ctx).requests()
}

// Find finds a consent; nil where there is none.
func (l *Ledger) Find(ctx context.Context, id ID) (*Consent, error) {
	return l.operation(ctx).find(id)
}

// File gathers everything about a client; nil where there is nothing.
func (l *Ledger) File(ctx context.Context, client string) (*File, error) {
	return l.operation(ctx).file(client)
}

// Audit decides anew on every consent that holds. One that a reviewer gave stands as long as
// the policies would still ask for a review by a group that she is in; a proof that the
// policies would ask for is taken as given.
func (l *Ledger) Audit(ctx context.Context) (checked int, found []Finding, err error) {
	return l.operation(ctx).auditAll()
}

// Journal gives the entries of the journal in order, as they were when it was begun. After an error there are no more.
func (l *Ledger) Journal(ctx context.Context) iter.Seq2[*Entry, error] {
	return func(yield func(*Entry, error) bool) {
		stopped := false
		err := l.store.View(ctx, func(tx Tx) error {
			for e, err := range tx.Entries() {
				if err != nil {
					return err
				}
				if stopped = !yield(e, nil); stopped {
					break
				}
			}
			return nil
		})
		if err != nil && !stopped {
			yield(nil, err)
		}
	}
}

// Apps are the names of the apps of the ledger's rulebook.
func (l *Ledger) Apps() []string {
	return slices.Sorted(maps.Keys(l.operation(context.Background()).engine.Rulebook().Apps))
}
