package service

// Who a person is, by the token that an issuer gave.

import (
	"context"
	"errors"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"

	"briskwarden.example/briskwarden/internal/appurl"
	"briskwarden.example/briskwarden/internal/jwt"
	"briskwarden.example/briskwarden/internal/rulebook"
)

// bearer is a person, by a token that verifies.
type bearer struct {
	*jwt.Token
	issuer *rulebook.Issuer
	person *rulebook.Person // as the rulebook has it; nil where only a provisioning service knows it
	cookie bool             // it came in a cookie, and so from a browser
}

func (b *bearer) user() string { return *b.Subject }

// word is what callers and issuers have in common that share sessions.
func (b *bearer) word() string {
	if b.issuer.Sessions != "" {
		return "word " + b.issuer.Sessions
	}
	return "issuer " + b.issuer.Name
}

// The reasons for which nobody is known to ask.
var (
	errNoToken  = errors.New("no token")
	errBadToken = errors.New("the token does not verify")
)

// cookieTwice says that a browser sent a cookie twice. Whoever signs on again gets a third, so that the desk has to know.
type cookieTwice struct{ issuer *rulebook.Issuer }

func (*cookieTwice) Error() string { return "the cookie with the token came twice" }

// presented finds the one token of a request: in the header, or in the cookie of an issuer.
func presented(r *http.Request, rb *rulebook.Rulebook) (token string, cookies []string, err error) {
	var tokens []string
	var twice *rulebook.Issuer
	for _, header := range r.Header.Values("Authorization") {
		if scheme, t, ok := strings.Cut(header, " "); ok && strings.EqualFold(scheme, "Bearer") {
			tokens = append(tokens, t)
		}
	}
	inHeader := len(tokens)
	for _, i := range rb.Issuers {
		if i.Cookie == "" || slices.Contains(cookies, i.Cookie) {
			continue
		}
		of := r.CookiesNamed(i.Cookie)
		if len(of) > 1 {
			twice = i
		}
		for _, c := range of {
			tokens, cookies = append(tokens, c.Value), append(cookies, i.Cookie)
		}
	}
	switch {
	case len(tokens) == 0:
		return "", nil, errNoToken
	case twice != nil:
		return "", nil, &cookieTwice{twice}
	case len(tokens) > 1 || inHeader == 1 && len(r.Header.Values("Authorization")) > 1:
		return "", nil, errBadToken
	}
	return tokens[0], cookies, nil
}

// bearer finds out who asks, by a token for one of the issuer's audiences that count. The issuer that is given back is the
// one whose token it seems to be, verified or not.
func (s *Service) bearer(ctx context.Context, r *http.Request, rb *rulebook.Rulebook, audiences func(*rulebook.Issuer) []string) (*bearer, *rulebook.Issuer, error) {
	text, cookies, err := presented(r, rb)
	var twice *cookieTwice
	switch {
	case errors.As(err, &twice):
		return nil, twice.issuer, err
	case err != nil:
		return nil, nil, err
	}
	t, err := jwt.Read(text)
	if err != nil {
		return nil, nil, errBadToken
	}
	i := slices.IndexFunc(rb.Issuers, func(i *rulebook.Issuer) bool { return i.URL == t.Issuer })
	if i < 0 {
		return nil, nil, errBadToken
	}
	b := &bearer{Token: t, issuer: rb.Issuers[i], cookie: len(cookies) > 0}
	return b, b.issuer, s.verify(ctx, b, cookies, rb, audiences(b.issuer))
}

// verify verifies a person's token: its type, who issued it to whom, and that the issuer speaks for the person.
func (s *Service) verify(ctx context.Context, b *bearer, cookies []string, rb *rulebook.Rulebook, audiences []string) error {
	switch {
	case !slices.Contains([]string{"", "jwt", "at+jwt"}, b.Type), b.Expires == nil, b.Events != nil, b.Subject == nil || b.user() == "" || len(b.user()) > mostID,
		len(b.Session) > mostID, b.cookie && cookies[0] != b.issuer.Cookie:
		return errBadToken
	}
	keys, err := s.keys.of(ctx, &b.issuer.Keys, b.Token)
	if err != nil {
		return err
	}
	if b.Verify(jwt.Expected{Issuer: b.issuer.URL, Audience: audiences, Keys: keys}, s.Clock()) != nil {
		return errBadToken
	}
	if b.AuthTime != nil && b.AuthTime.After(s.Clock().Add(jwt.Skew)) {
		return errBadToken // when that was proved is not known
	}
	if b.person = rb.People[b.user()]; b.person != nil && rb.IssuerFor(b.person) != b.issuer {
		return errBadToken
	}
	return nil
}

// given is when the person proved something; zero is unknown.
func (b *bearer) given() time.Time {
	if b.AuthTime == nil {
		return time.Time{}
	}
	return b.AuthTime.Time
}

// signOnURL is where a person signs on, and from where she comes back to an address of an app of the rulebook.
func signOnURL(rb *rulebook.Rulebook, issuer *rulebook.Issuer, to appurl.Address, query string, more map[string]string) string {
	if issuer == nil {
		if len(rb.Issuers) == 0 {
			return ""
		}
		issuer = rb.Issuers[0]
	}
	at, err := url.Parse(issuer.SignOn)
	if err != nil {
		return ""
	}
	back := to.String()
	if query != "" {
		back += "?" + query
	}
	values := at.Query()
	values.Set("return", back)
	for name, value := range more {
		if value != "" {
			values.Set(name, value)
		}
	}
	at.RawQuery = values.Encode()
	return at.String()
}
