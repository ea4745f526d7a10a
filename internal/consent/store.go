package consent

import (
	"iter"

	"briskwarden.example/briskwarden/signon"
)

// Store keeps consents, clients and the journal. It is safe for concurrent use.
type Store interface {
	// Update runs a change in a transaction of its own: all of it is kept, or nothing where
	// the change or the keeping fails. What Update returned without error outlives the process.
	Update(change func(Tx) error) error
	// View runs a look at one state of the store.
	View(look func(Tx) error) error
}

// Checker is a [Store] that can find damage to what it goes by besides what it gives, such as
// an index. [Verify] asks it.
type Checker interface{ Check() error }

// Tx is a transaction. What it gives is not to be changed, and lives no longer than it.
type Tx interface {
	Consent(id ID) (*Consent, error)                  // nil where there is none
	Consents(of Selection) iter.Seq2[*Consent, error] // by ID
	PutConsent(c *Consent) error                      // one without ID gets the next
	Client(id string) (*Client, error)                // nil where there is none
	Clients() iter.Seq2[*Client, error]               // by ID
	PutClient(c *Client) error
	Entries() iter.Seq2[*Entry, error] // by Number
	LastEntry() (*Entry, error)        // nil where there is none
	Append(e *Entry) error
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
