// Package consent keeps what client applications may do with whose data: it asks the policies
// about new requests, lets reviewers settle what waits, and writes every change into a
// journal whose entries are chained by their hashes.
//
//	ledger := consent.New(consent.NewMemory(), rules)
//	answer, err := ledger.Ask(ctx, signon.SignOn{User: "mira.holt", App: "crew-roster",
//		Consent: &signon.Consent{Client: "tidy-notes", Scopes: []string{"openid", "roster.read"}}})
//
// A [Store] keeps what the ledger knows: in memory, in a file (package store/sqlite), or in a store of
// one's own, which package consenttest tests.
package consent

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"briskwarden.example/briskwarden/signon"
)

// State is how far a consent is.
type State string

// The states of a consent.
const (
	Waiting   State = "waiting" // for a review
	Granted   State = "granted"
	Refused   State = "refused"
	Withdrawn State = "withdrawn"
)

// ID numbers a consent, from 1.
type ID int64

// String gives "c-17".
func (id ID) String() string { return "c-" + strconv.FormatInt(int64(id), 10) }

// ParseID reads "c-17".
func ParseID(text string) (ID, error) {
	n, err := strconv.ParseInt(strings.TrimPrefix(text, "c-"), 10, 64)
	if err != nil || n < 1 || !strings.HasPrefix(text, "c-") {
		return 0, fmt.Errorf("%q is no consent's id, such as c-17", text)
	}
	return ID(n), nil
}

// Consent is what a person let a client application have, or asked to.
type Consent struct {
	ID        ID                `json:"id"`
	State     State             `json:"state"`
	User      string            `json:"user"` // who asked, and gives it
	App       string            `json:"app"`  // whose data it is about
	Client    string            `json:"client"`
	Scopes    []string          `json:"scopes"`            // that were asked for
	Granted   []string          `json:"granted,omitempty"` // that it holds
	For       signon.ConsentFor `json:"for"`
	Group     string            `json:"group,omitzero"` // where it is for one
	Owner     signon.YesNo      `json:"owner,omitzero"` // whether the user was said to own that group
	Asked     time.Time         `json:"asked"`
	Policy    string            `json:"policy,omitzero"`    // and case, that decided when it was asked
	Reviewers string            `json:"reviewers,omitzero"` // the group that may settle it
	By        string            `json:"by,omitzero"`        // who settled or withdrew it
	Settled   time.Time         `json:"settled,omitzero"`
	Because   string            `json:"because,omitzero"`
	Until     time.Time         `json:"until,omitzero"` // it ends at this instant; zero is never
}

// Holder tells for whom the consent is: a user, "group G" or "everyone".
func (c *Consent) Holder() string {
	switch c.For {
	case signon.ForGroup:
		return "group " + c.Group
	case signon.ForEveryone:
		return "everyone"
	}
	return c.User
}

// Client is a client application.
type Client struct {
	ID        string       `json:"id"`
	Name      string       `json:"name,omitzero"`
	Publisher string       `json:"publisher,omitzero"`
	Verified  signon.YesNo `json:"verified,omitzero"` // whether the publisher is
	Metadata  Metadata     `json:"metadata,omitzero"`
	Banned    Ban          `json:"banned,omitzero"`
}

// Metadata is what is registered of a client besides, in the terms of RFC 7591.
type Metadata struct {
	URI             string   `json:"client_uri,omitzero"`
	Policy          string   `json:"policy_uri,omitzero"`
	Terms           string   `json:"tos_uri,omitzero"`
	Contacts        []string `json:"contacts,omitempty"`
	Redirects       []string `json:"redirect_uris,omitempty"`
	Scope           string   `json:"scope,omitzero"` // what it may ask for, with spaces between
	Software        string   `json:"software_id,omitzero"`
	SoftwareVersion string   `json:"software_version,omitzero"`
}

// Ban says since when a client is blocked, whatever the policies say. The zero Ban is none.
type Ban struct {
	By      string    `json:"by,omitzero"`
	Because string    `json:"because,omitzero"`
	Since   time.Time `json:"since,omitzero"`
}

// IsBanned reports whether the client is.
func (c *Client) IsBanned() bool { return c != nil && !c.Banned.Since.IsZero() }

// MostScopes is how many scopes one request may ask for.
const MostScopes = 1000

// checkScopes checks that scopes are some, and not too many. Each is a scope by [signon.SignOn.Validate].
func checkScopes(field string, scopes []string) error {
	switch {
	case len(scopes) == 0:
		return &signon.FieldError{Field: field, Msg: "is missing: a client application asks for scopes"}
	case len(scopes) > MostScopes:
		return &signon.FieldError{Field: field, Msg: fmt.Sprintf("asks for %d scopes; %d are the most that anybody could review", len(scopes), MostScopes)}
	}
	return nil
}

// without are the scopes that are not among others, each once, in their order.
func without(scopes, others []string) (rest []string) {
	seen := make(map[string]bool, len(others))
	for _, s := range others {
		seen[s] = true
	}
	for _, s := range scopes {
		if !seen[s] {
			seen[s] = true
			rest = append(rest, s)
		}
	}
	return rest
}

// union are the scopes of both, each once.
func union(a, b []string) []string { return append(slices.Clone(a), without(b, a)...) }
