package jwt

// Reading a token, and verifying it.

import (
	"encoding/base64"
	"errors"
	"fmt"
	"math"
	"slices"
	"strings"
	"time"

	"github.com/go-jose/go-jose/v4"
	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"
)

// The reasons for which a token does not verify, beside that it cannot be read.
var (
	ErrKey      = errors.New("no key of who signed it verifies it")
	ErrIssuer   = errors.New("another has issued it")
	ErrAudience = errors.New("it is meant for somebody else")
	ErrTime     = errors.New("it counts no longer, or not yet")
)

// Skew is how far clocks may be apart.
const Skew = time.Minute

// mostToken is how long a token may be, in bytes.
const mostToken = 64 << 10

// algorithms are those of signatures that verify.
var algorithms = []jose.SignatureAlgorithm{jose.RS256, jose.PS256, jose.ES256, jose.EdDSA}

// Token is a token that was read. Nothing in it is true before it is verified.
type Token struct {
	Claims
	Type  string // its header's "typ", in small letters and without "application/"; empty where there is none
	KeyID string

	signed *jose.JSONWebSignature
	alg    jose.SignatureAlgorithm
}

// Claims are those of a token that this program reads.
type Claims struct {
	Issuer    string         `json:"iss"`
	Subject   *string        `json:"sub"`
	Audience  audience       `json:"aud"`
	ID        string         `json:"jti"`
	IssuedAt  *numericDate   `json:"iat"`
	NotBefore *numericDate   `json:"nbf"`
	Expires   *numericDate   `json:"exp"`
	Events    jsontext.Value `json:"events"`
	SubjectID jsontext.Value `json:"sub_id"`
	Happened  *numericDate   `json:"toe"`

	Session  string       `json:"sid"`
	AuthTime *numericDate `json:"auth_time"`
	Methods  []string     `json:"amr"`
}

// audience is one, or several.
type audience []string

func (a *audience) UnmarshalJSON(data []byte) error {
	var one string
	if json.Unmarshal(data, &one) == nil {
		*a = audience{one}
		return nil
	}
	return json.Unmarshal(data, (*[]string)(a))
}

// numericDate is a time in seconds since 1970 (RFC 7519, section 2).
type numericDate struct{ time.Time }

func (d *numericDate) UnmarshalJSON(data []byte) (err error) {
	d.Time, err = ParseTime(data)
	return err
}

// ParseTime reads a NumericDate.
func ParseTime(data []byte) (time.Time, error) {
	const lastSecond = 253402300799 // of the year 9999
	var seconds float64
	if err := json.Unmarshal(data, &seconds); err != nil {
		return time.Time{}, err
	}
	if math.Abs(seconds) > lastSecond {
		return time.Time{}, fmt.Errorf("%v is no time in seconds since 1970", seconds)
	}
	whole, part := math.Modf(seconds)
	return time.Unix(int64(whole), int64(part*1e9)).UTC(), nil
}

// Read reads a token without verifying it.
func Read(text string) (*Token, error) {
	if len(text) > mostToken {
		return nil, fmt.Errorf("a token has at most %d bytes", mostToken)
	}
	parts := strings.Split(text, ".")
	if len(parts) != 3 {
		return nil, errors.New("a token has three parts, with dots between")
	}
	header, err := base64.RawURLEncoding.Strict().DecodeString(parts[0])
	if err != nil {
		return nil, errors.New("its header is no base64url")
	}
	var h struct {
		Algorithm string         `json:"alg"`
		Type      string         `json:"typ"`
		KeyID     string         `json:"kid"`
		Critical  jsontext.Value `json:"crit"`
		Plain     jsontext.Value `json:"b64"`
	}
	if err := json.Unmarshal(header, &h); err != nil {
		return nil, fmt.Errorf("its header cannot be read: %w", err)
	}
	alg := jose.SignatureAlgorithm(h.Algorithm)
	switch {
	case h.Critical != nil || h.Plain != nil:
		return nil, errors.New(`its header has "crit" or "b64", which is not understood`)
	case !slices.Contains(algorithms, alg):
		return nil, fmt.Errorf("it is signed with %q: RS256, PS256, ES256 and EdDSA are read", h.Algorithm)
	}
	t := &Token{Type: strings.TrimPrefix(strings.ToLower(h.Type), "application/"), KeyID: h.KeyID, alg: alg}
	if t.signed, err = jose.ParseSignedCompact(text, []jose.SignatureAlgorithm{alg}); err != nil {
		return nil, fmt.Errorf("it cannot be read: %w", err)
	}
	if err := json.Unmarshal(t.signed.UnsafePayloadWithoutVerification(), &t.Claims); err != nil {
		return nil, fmt.Errorf("its claims cannot be read: %w", err)
	}
	return t, nil
}

// Expected is what a token must be to verify.
type Expected struct {
	Issuer   string
	Audience []string // one of them
	Keys     *Keys
}

// Verify verifies signature, issuer, audience and times. The error is one of those above.
func (t *Token) Verify(want Expected, now time.Time) error {
	if t.Issuer != want.Issuer {
		return ErrIssuer
	}
	if !want.Keys.verify(t) {
		return ErrKey
	}
	switch {
	case !t.IsFor(want.Audience...):
		return ErrAudience
	case t.Expires != nil && !now.Before(t.Expires.Add(Skew)),
		t.NotBefore != nil && now.Before(t.NotBefore.Add(-Skew)),
		t.IssuedAt != nil && now.Before(t.IssuedAt.Add(-Skew)):
		return ErrTime
	}
	return nil
}

// IsFor reports whether a token is for one of some audiences. It is for none that has no name.
func (t *Token) IsFor(audiences ...string) bool {
	return slices.ContainsFunc(audiences, func(a string) bool { return a != "" && slices.Contains(t.Audience, a) })
}

// Has reports whether there is a key that may have signed a token.
func (k *Keys) Has(t *Token) bool {
	return k != nil && slices.ContainsFunc(k.list, func(key key) bool { return key.fits(t) })
}

func (k *Keys) verify(t *Token) bool {
	return k != nil && slices.ContainsFunc(k.list, func(key key) bool {
		if !key.fits(t) {
			return false
		}
		_, err := t.signed.Verify(key.key)
		return err == nil
	})
}

func (k *key) fits(t *Token) bool {
	return (t.KeyID == "" || t.KeyID == k.id) && slices.Contains(k.alg, t.alg)
}
