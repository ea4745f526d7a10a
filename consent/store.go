package consent

// What a store is, so that somebody else can write one.

import (
	"context"
	"iter"

	"briskwarden.example/briskwarden/signon"
)

// Store keeps consents, clients and the journal. It is safe for concurrent use. Package
// consenttest tests that a store is as this says.
type Store interface {
	// Update runs a change once, in a transaction that no other change runs beside: all of it is
	// kept, or nothing where the change or the keeping fails, or the context is done. The error is
	// the change's own, or else that of the keeping. What Update returned without error outlives
	// the process, if the store does.
	Update(ctx context.Context, change func(Tx) error) error
	// View runs a look once at one state of the store, which no change alters meanwhile. What
	// would change something in it fails with [ErrReadOnly].
	View(ctx context.Context, look func(Tx) error) error
}

// Checker is a [Store] that can find damage to what it goes by besides what it gives, such as
// an index. [Verify] asks it.
type Checker interface {
	Check(ctx context.Context) error
}

// Tx is a transaction, for one goroutine. It sees what it changed itself. What it gives is not to
// be changed; what it is given it does not hold on to. Ids and texts compare byte by byte. After
// an error a sequence gives nothing more.
type Tx interface {
	Consent(id ID) (*Consent, error)                  // nil where there is none
	Consents(of Selection) iter.Seq2[*Consent, error] // those selected, by ID
	PutConsent(c *Consent) error                      // in place of the one with its ID; one without gets the next, from 1
	Client(id string) (*Client, error)                // nil where there is none
	Clients() iter.Seq2[*Client, error]               // by ID
	PutClient(c *Client) error                        // in place of the one with its ID, if there is
	Entries() iter.Seq2[*Entry, error]                // by Number
	LastEntry() (*Entry, error)                       // that with the greatest Number; nil where there is none
	Append(e *Entry) error                            // with a Number greater than all; one that is taken fails
}

// Selection narrows down consents; what is empty narrows nothing.
type Selection struct {
	State  State
	Client string
	App    string
	User   string // those for this user alone, and those for groups and for everyone
}

// Selects reports whether the consent is among those.
func (s *Selection) Selects(c *Consent) bool {
	return (s.State == "" || c.State == s.State) && (s.Client == "" || c.Client == s.Client) && (s.App == "" || c.App == s.App) &&
		(s.User == "" || c.For != signon.ForSelf || c.User == s.User)
}
