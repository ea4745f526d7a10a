// Package jwt verifies signed tokens (JWT, RFC 7519, in the compact serialization of RFC 7515) by the public keys of
// who signs (JWK sets, RFC 7517). What it does not understand to the letter does not verify.
package jwt

import (
	"bytes"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/elliptic"
	"crypto/rsa"
	"crypto/sha256"
	"crypto/x509"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/go-jose/go-jose/v4"
	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"
)

// Keys are public keys of one that signs.
type Keys struct {
	list  []key
	aside int
}

type key struct {
	id  string
	alg []jose.SignatureAlgorithm // that it may be used with
	key any
}

// MostBytes is how large a set of keys may be.
const MostBytes = 1 << 20

const mostKeys = 100

// ParseKeys reads a JWK set. Private and secret keys are errors, and so is a set without a key that can verify.
func ParseKeys(data []byte) (*Keys, error) {
	var doc struct {
		Keys []jsontext.Value `json:"keys"`
	}
	if len(data) > MostBytes {
		return nil, fmt.Errorf("a set of keys has at most %d bytes", MostBytes)
	}
	if err := json.Unmarshal(bytes.TrimPrefix(data, []byte("\ufeff")), &doc); err != nil {
		return nil, fmt.Errorf("it is no JWK set: %w", err)
	}
	if len(doc.Keys) > mostKeys {
		return nil, fmt.Errorf("it has more than %d keys", mostKeys)
	}
	set, ids := &Keys{}, map[string]bool{}
	for i, raw := range doc.Keys {
		k, err := parseKey(raw)
		switch {
		case err != nil:
			return nil, fmt.Errorf("its key %d: %w", i+1, err)
		case k == nil:
			set.aside++
			continue
		case k.id != "" && ids[k.id]:
			return nil, fmt.Errorf(`its key %d: another has the same "kid", %q`, i+1, k.id)
		}
		ids[k.id] = true
		set.list = append(set.list, *k)
	}
	if len(set.list) == 0 {
		return nil, errors.New("it has no key that can verify a signature: RSA, EC on the curve P-256, or OKP on Ed25519")
	}
	return set, nil
}

// Len is how many keys can verify; Aside is how many of the set cannot, being for another use or of another kind.
func (k *Keys) Len() int { return len(k.list) }

// Names tells the keys apart, whatever file they are in: by their id, and the SHA-256 of what they are.
func (k *Keys) Names() (list []string) {
	for _, one := range k.list {
		der, err := x509.MarshalPKIXPublicKey(one.key)
		if err != nil { // of kinds that are not read
			der = fmt.Append(nil, one.key)
		}
		list = append(list, strings.TrimSpace(fmt.Sprintf("%s sha256:%x", one.id, sha256.Sum256(der))))
	}
	return list
}

// Aside is how many keys of the set are not used.
func (k *Keys) Aside() int { return k.aside }

// parseKey reads one key; nil is one that is for something else.
func parseKey(raw jsontext.Value) (*key, error) {
	var about struct {
		Type       string         `json:"kty"`
		Use        string         `json:"use"`
		Operations []string       `json:"key_ops"`
		Algorithm  string         `json:"alg"`
		Private    jsontext.Value `json:"d"`
	}
	if err := json.Unmarshal(raw, &about); err != nil {
		return nil, err
	}
	switch {
	case about.Type == "oct":
		return nil, errors.New("a secret key (kty oct) verifies nothing here, and does not belong in a rulebook")
	case about.Private != nil:
		return nil, errors.New("it is a private key: only its public part belongs here")
	case about.Type != "RSA" && about.Type != "EC" && about.Type != "OKP", about.Use != "" && about.Use != "sig":
		return nil, nil
	case about.Operations != nil && !slices.Contains(about.Operations, "verify"):
		return nil, nil
	}
	var parsed jose.JSONWebKey
	if err := parsed.UnmarshalJSON(raw); err != nil {
		return nil, fmt.Errorf("it cannot be read: %w", err)
	}
	k := &key{id: parsed.KeyID, key: parsed.Key}
	switch p := parsed.Key.(type) {
	case *rsa.PublicKey:
		if n := p.N.BitLen(); n < 2048 || n > 8192 {
			return nil, fmt.Errorf("an RSA key has 2048 to 8192 bits, not %d", n)
		}
		k.alg = []jose.SignatureAlgorithm{jose.RS256, jose.PS256}
	case *ecdsa.PublicKey:
		if p.Curve != elliptic.P256() {
			return nil, nil
		}
		k.alg = []jose.SignatureAlgorithm{jose.ES256}
	case ed25519.PublicKey:
		k.alg = []jose.SignatureAlgorithm{jose.EdDSA}
	default:
		return nil, nil
	}
	if about.Algorithm != "" {
		if !slices.Contains(k.alg, jose.SignatureAlgorithm(about.Algorithm)) {
			return nil, nil
		}
		k.alg = []jose.SignatureAlgorithm{jose.SignatureAlgorithm(about.Algorithm)}
	}
	return k, nil
}
