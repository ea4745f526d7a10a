// Package state is what a decision service keeps beyond one request: a small store of versioned items, beside
// the ledger of consents. Package statetest tests that a store is as this says; store/sqlite keeps items in a
// file, store/postgres for many nodes.
package state

import (
	"context"
	"errors"
	"iter"
	"time"

	"briskwarden.example/briskwarden/consent"
)

// Store keeps items, and the consent ledger. It is safe for concurrent use, by several processes too.
//
// What a Write returned without error is on disk, and every Read that begins afterwards, in whatever process,
// gives it. A store that cannot do what it is asked says so, and never gives less than there is.
type Store interface {
	consent.Store
	// Read gives the items of the keys, one for each in their order, all as they are at one time after the
	// call began, and the time: the clock is read after the call began and before the items are, so that a
	// reading holds all that was written before its time.
	Read(ctx context.Context, keys []Key) (Reading, error)
	// Write makes changes. Each set is made whole or not at all, independent of the others: its error is nil,
	// [ErrConflict], or what kept the store from it, when it may or may not have been made.
	Write(ctx context.Context, sets ...[]Change) []error
	// List gives the items of a key's kind that come after it, in the order of owners and ids, byte by byte.
	List(ctx context.Context, after Key) iter.Seq2[Listed, error]
	// Sweep deletes items that may be deleted by then, at most so many, and tells how many.
	Sweep(ctx context.Context, by time.Time, most int) (int, error)
	// Close lets go of the store.
	Close() error
}

// ErrConflict says that an item has another version than a change was meant for: it is to be read again.
var ErrConflict = errors.New("the item has changed meanwhile")

// Kind is what an item is. Its numbers stay the same from release to release.
type Kind uint8

// The kinds, with what owner and id are.
const (
	Service    Kind = 1  // what concerns everybody; both empty
	Marks      Kind = 2  // of a user: when sessions and proofs were ended
	Ended      Kind = 3  // of a user: a session that was ended
	Proofs     Kind = 4  // of a user: what was proved to callers that share sessions, by their common word
	Session    Kind = 5  // of a user: a session, by that word, a zero byte and the session's id
	Past       Kind = 6  // of a user: what was before
	Person     Kind = 7  // of a user: what is provisioned, as decisions need it
	User       Kind = 8  // a resource of a provisioning service, by its id
	Group      Kind = 9  // the same
	UserName   Kind = 10 // the resource that has a user name, by that name in small letters
	GroupName  Kind = 11 // the resource that has a group's name
	Member     Kind = 12 // of a group, by the id of its resource: a member, by the id of its own
	Device     Kind = 13 // of a device: what signals said
	Signal     Kind = 14 // of a sender: a signal that was heard, by its id
	Poll       Kind = 15 // of a source of signals: when it was asked
	RiskHead   Kind = 17 // the last entry of the journal of risks; owner and id empty
	RiskEntry  Kind = 18 // an entry of it, by its number
	Outgoing   Kind = 19 // of a receiver, by its address: a message for it, by the message's id
	AlertGate  Kind = 20 // of an alert: how often it was sent, by for what it is counted
	Digest     Kind = 21 // of a digest: when it was sent last
	FormerName Kind = 23 // of a name, folded: the ids of users who were deleted
	Format     Kind = 22 // what the state says of itself: see [Begin]; owner and id empty
	Told       Kind = 16 // of a user: what it can be told of a decision, by the decision's id
)

// Key names an item.
type Key struct {
	Kind  Kind
	Owner string
	ID    string
	Known int64 // when reading: the version that is at hand already, whose value is left out; 0 is none
}

// Reading is what was read.
type Reading struct {
	At    time.Time // by the clock of the store
	Items []Item
}

// Item is a versioned value.
type Item struct {
	Version int64  // never again that of another value of the item; 0 is that there is none
	Value   []byte // nil where the version is the known one
}

// Change changes an item, if it still has a version.
type Change struct {
	Key
	If      int64     // the version; 0 is that there is no such item
	Value   []byte    // nil deletes it
	Expires time.Time // when it may be deleted; zero is never
}

// Listed is an item of a list.
type Listed struct {
	Key
	Item
}
