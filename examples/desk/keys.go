package desk

// Signing tokens.

import (
	"crypto/rand"
	"crypto/rsa"
	"errors"
	"net/http"
	"time"

	"github.com/go-jose/go-jose/v4"
	"github.com/go-jose/go-jose/v4/jwt"
)

// signer signs tokens with a key that is as old as the desk.
type signer struct {
	public jose.JSONWebKey
	key    jose.SigningKey
}

func newSigner() (*signer, error) {
	key, err := rsa.GenerateKey(rand.Reader, 2048)
	if err != nil {
		return nil, err
	}
	id := randomID()[:16]
	return &signer{
		public: jose.JSONWebKey{Key: &key.PublicKey, KeyID: id, Algorithm: string(jose.RS256), Use: "sig"},
		key:    jose.SigningKey{Algorithm: jose.RS256, Key: jose.JSONWebKey{Key: key, KeyID: id}},
	}, nil
}

// numericDate is a time in seconds since 1970, with its fraction: a session that begins in the second in which others
// were ended has begun after them.
func numericDate(t time.Time) float64 { return float64(t.UnixMicro()) / 1e6 }

// claims are those of a token.
type claims = map[string]any

// sign signs a token of a type ("at+jwt", "JWT", "logout+jwt").
func (s *signer) sign(kind string, c claims) (string, error) {
	signs, err := jose.NewSigner(s.key, (&jose.SignerOptions{}).WithType(jose.ContentType(kind)))
	if err != nil {
		return "", err
	}
	return jwt.Signed(signs).Claims(c).Serialize()
}

// KeySet is the set of the desk's public keys (RFC 7517).
func (d *Desk) KeySet() jose.JSONWebKeySet {
	return jose.JSONWebKeySet{Keys: []jose.JSONWebKey{d.keys.public}}
}

func (d *Desk) keySet(w http.ResponseWriter, _ *http.Request) {
	writeJSON(w, http.StatusOK, d.KeySet())
}

// verify verifies a token that the desk has signed itself.
func (s *signer) verify(token, kind, issuer, audience string, now time.Time) (claims, error) {
	t, err := jwt.ParseSigned(token, []jose.SignatureAlgorithm{jose.RS256})
	if err != nil {
		return nil, err
	}
	var all claims
	var known jwt.Claims
	if err := t.Claims(s.public.Key, &all, &known); err != nil {
		return nil, err
	}
	if len(t.Headers) != 1 || t.Headers[0].ExtraHeaders[jose.HeaderType] != kind {
		return nil, errors.New("the token is of another type")
	}
	return all, known.Validate(jwt.Expected{Issuer: issuer, AnyAudience: jwt.Audience{audience}, Time: now})
}
