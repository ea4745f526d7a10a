package service

// Who asks, and what it may.

import (
	"cmp"
	"crypto/sha256"
	"crypto/subtle"
	"net"
	"net/http"
	"net/netip"
	"strings"
	"time"

	"briskwarden.example/briskwarden/internal/rulebook"
)

// caller is a program that asks.
type caller struct{ *rulebook.Caller }

// word is what callers have in common that share sessions.
func (c *caller) word() string {
	if c.Sessions != "" {
		return "word " + c.Sessions
	}
	return "caller " + c.Name
}

// may reports whether the caller has a right.
func (c *caller) may(right rulebook.Right) bool { return c.May&right != 0 }

// callers are those of a rulebook, by what they prove themselves with.
type callers struct {
	rb           *rulebook.Rulebook
	tokens       map[rulebook.Digest]*rulebook.Caller
	certificates map[rulebook.Digest][]*rulebook.Caller
}

// callersOf are the callers of a rulebook.
func (s *Service) callersOf(rb *rulebook.Rulebook) *callers {
	if c := s.callers.Load(); c != nil && c.rb == rb {
		return c
	}
	c := &callers{rb, map[rulebook.Digest]*rulebook.Caller{}, map[rulebook.Digest][]*rulebook.Caller{}}
	for _, one := range rb.Callers {
		for _, t := range one.Tokens {
			c.tokens[t.Digest] = one
		}
		for _, d := range one.Certificates {
			c.certificates[d] = append(c.certificates[d], one)
		}
	}
	s.callers.Store(c)
	return c
}

// anybody is who asks a service that is open.
var anybody = &rulebook.Caller{Name: "open", May: ^rulebook.Right(0)}

// identify finds who asks. The refusal says why it is nobody who may.
func (s *Service) identify(r *http.Request, tokenIn string, rb *rulebook.Rulebook) (*caller, *refusal) {
	address := addressOf(r)
	if s.Open {
		if !address.IsLoopback() || !isLoopback(r.Host) {
			return nil, refuse(http.StatusForbidden, "the service is open to this machine alone, by an address such as localhost")
		}
		return &caller{anybody}, nil
	}
	c := s.callersOf(rb)
	found, known := c.byToken(r, tokenIn, s.Clock())
	if !known {
		found = c.byCertificate(r)
	}
	switch {
	case found == nil:
		return nil, unproved(tokenIn)
	case len(found.Certificates) > 0 && !hasCertificate(r, found, s.Clock()):
		return nil, unproved(tokenIn)
	case s.BehindProxy && len(found.From) > 0:
		return nil, refuse(http.StatusForbidden, "the service is behind a proxy, and cannot tell from where the caller asks")
	case !fromNetwork(rb, found, address):
		return nil, refuse(http.StatusForbidden, "the caller may not ask from this address")
	}
	return &caller{found}, nil
}

// unproved is the answer to a caller that proves nothing. Where the token has a header of its own, the request is about
// somebody else, whom a 401 or a 403 would concern: it is a bad request of the caller.
func unproved(tokenIn string) *refusal {
	if tokenIn != "" {
		return refuse(http.StatusBadRequest, "%s: it has no token of a caller that is valid now; the caller sends its own, or a client certificate", tokenIn)
	}
	return &refusal{status: http.StatusUnauthorized, message: "a caller proves itself by its token: Authorization: Bearer TOKEN"}
}

// byToken finds the caller by its token. Known is false where none is presented.
//
// The digest of what is presented is looked up: how long that takes tells of the digest alone, and from a digest
// nobody finds a token. What is found is compared once more, in constant time.
func (c *callers) byToken(r *http.Request, tokenIn string, now time.Time) (found *rulebook.Caller, known bool) {
	header := r.Header.Values(cmp.Or(tokenIn, "Authorization"))
	if len(header) == 0 {
		return nil, false
	}
	scheme, token := "Bearer", header[0]
	if tokenIn == "" {
		scheme, token, _ = strings.Cut(token, " ")
	}
	if len(header) > 1 || !strings.EqualFold(scheme, "Bearer") || token == "" {
		return nil, true
	}
	digest := rulebook.Digest(sha256.Sum256([]byte(token)))
	found = c.tokens[digest]
	if found == nil {
		return nil, true
	}
	for _, t := range found.Tokens {
		if subtle.ConstantTimeCompare(t.Digest[:], digest[:]) == 1 && (t.Until.IsZero() || now.Before(t.Until)) {
			return found, true
		}
	}
	return nil, true
}

// byCertificate finds the caller that a client certificate alone proves.
func (c *callers) byCertificate(r *http.Request) *rulebook.Caller {
	if r.TLS == nil || len(r.TLS.PeerCertificates) == 0 {
		return nil
	}
	for _, one := range c.certificates[sha256.Sum256(r.TLS.PeerCertificates[0].Raw)] {
		if len(one.Tokens) == 0 {
			return one
		}
	}
	return nil
}

// hasCertificate reports whether the connection proved one of the caller's certificates.
func hasCertificate(r *http.Request, c *rulebook.Caller, now time.Time) bool {
	if r.TLS == nil || len(r.TLS.PeerCertificates) == 0 {
		return false
	}
	presented := r.TLS.PeerCertificates[0]
	if now.Before(presented.NotBefore) || now.After(presented.NotAfter) {
		return false
	}
	digest := sha256.Sum256(presented.Raw)
	for _, d := range c.Certificates {
		if subtle.ConstantTimeCompare(d[:], digest[:]) == 1 {
			return true
		}
	}
	return false
}

// fromNetwork reports whether the caller may ask from an address.
func fromNetwork(rb *rulebook.Rulebook, c *rulebook.Caller, from netip.Addr) bool {
	if len(c.From) == 0 {
		return true
	}
	in := rb.Networks.Table.Networks(from)
	for _, id := range c.From {
		if in.Has(id) {
			return true
		}
	}
	return false
}

// addressOf is the other end of the connection.
func addressOf(r *http.Request) netip.Addr {
	from, err := netip.ParseAddrPort(r.RemoteAddr)
	if err != nil {
		return netip.Addr{}
	}
	return from.Addr().WithZone("").Unmap()
}

// isLoopback reports whether a Host names this machine.
func isLoopback(host string) bool {
	if name, _, err := net.SplitHostPort(host); err == nil {
		host = name
	}
	if host == "localhost" {
		return true
	}
	a, err := netip.ParseAddr(strings.Trim(host, "[]"))
	return err == nil && a.Unmap().IsLoopback()
}
