package briskwarden

import (
	"briskwarden.example/briskwarden/internal/consent"
	"briskwarden.example/briskwarden/internal/store"
)

// Application consent: what client applications may do with whose data.
type (
	// Ledger answers the requests of client applications by a rulebook, lets reviewers settle
	// what waits, and keeps every change in a journal. It is safe for concurrent use.
	Ledger = consent.Ledger
	// ConsentStore keeps a ledger: what a program implements to keep it elsewhere.
	ConsentStore = consent.Store
	// ConsentTx is one transaction of a ConsentStore.
	ConsentTx = consent.Tx
	// ConsentSelection narrows down the consents that a ConsentTx gives.
	ConsentSelection = consent.Selection
	// Consent is what a person let a client application have, or asked to.
	Consent = consent.Consent
	// ConsentID numbers a consent, from 1; it is told as "c-17".
	ConsentID = consent.ID
	// Client is a client application, with the metadata of RFC 7591.
	Client = consent.Client
	// ConsentAnswer is what came of a request.
	ConsentAnswer = consent.Answer
	// Settlement is what a reviewer makes of a request.
	Settlement = consent.Settlement
	// ClientHolding is what a client holds, all its consents taken together.
	ClientHolding = consent.Holding
	// ClientFile is everything that there is about one client.
	ClientFile = consent.File
	// AuditFinding is a consent that holds, though the policies of today would not give it.
	AuditFinding = consent.Finding
	// JournalEntry is one change, as the journal keeps it.
	JournalEntry = consent.Entry
	// JournalFault says which entry of a journal does not hold, and why.
	JournalFault = consent.Fault
	// LedgerFile is a ConsentStore in a file, which several processes use at once.
	LedgerFile = store.File
)

// Ledger answers requests for consent by this rulebook, and keeps the answers in a store.
func (r *Rulebook) Ledger(s ConsentStore) *Ledger { return consent.New(s, r.engine) }

// NewConsentMemory returns an empty store in memory, for tests and for programs whose
// consents need not outlive them.
func NewConsentMemory() ConsentStore { return consent.NewMemory() }

// OpenLedgerFile opens the ledger in a file, an SQLite database, and begins one where there is
// none. The error says what is wrong with the file: it is no ledger, it was written by a newer
// release, or it cannot be read and written.
func OpenLedgerFile(name string) (*LedgerFile, error) { return store.Open(name) }

// VerifyJournal goes through the whole journal of a store, and holds the ledger against it.
// What is wrong is a [*JournalFault]; else it gives the number of entries, and the hash of the
// last, which is worth noting elsewhere: an end that was cut off shows by nothing else.
func VerifyJournal(s ConsentStore) (entries int64, head string, err error) {
	v, err := consent.Verify(s)
	return v.Entries, v.Head, err
}
