package main

// Who watches devices, accounts and passwords, and tells the service by signals (RFC 8417, pushed by RFC 8935).

import (
	"crypto/ed25519"
	"crypto/rand"
	"encoding/json"
	"fmt"
	"net/http"
	"strings"

	"github.com/go-jose/go-jose/v4"
	"github.com/go-jose/go-jose/v4/jwt"
)

// fleet sends signals.
type fleet struct {
	h       *harbour
	public  ed25519.PublicKey
	private ed25519.PrivateKey
}

func newFleet(h *harbour) (*fleet, error) {
	public, private, err := ed25519.GenerateKey(rand.Reader)
	return &fleet{h, public, private}, err
}

func (f *fleet) keySet() []byte {
	data, err := json.Marshal(jose.JSONWebKeySet{Keys: []jose.JSONWebKey{{Key: f.public, KeyID: "fleet", Algorithm: string(jose.EdDSA), Use: "sig"}}})
	if err != nil {
		panic(err) // of a key that was just made
	}
	return data
}

// The events that it sends.
const (
	sessionRevoked       = "https://schemas.openid.net/secevent/caep/event-type/session-revoked"
	credentialCompromise = "https://schemas.openid.net/secevent/risc/event-type/credential-compromise"
)

// send sends a signal about a user. Once it returns, every decision obeys it.
func (f *fleet) send(user, event string, payload map[string]any) error {
	signer, err := jose.NewSigner(jose.SigningKey{Algorithm: jose.EdDSA, Key: jose.JSONWebKey{Key: f.private, KeyID: "fleet"}}, (&jose.SignerOptions{}).WithType("secevent+jwt"))
	if err != nil {
		return err
	}
	token, err := jwt.Signed(signer).Claims(map[string]any{"iss": "https://fleet.skerry.example", "aud": "brisk", "jti": newSecret(), "iat": f.h.now().Unix(),
		"sub_id": map[string]string{"format": "opaque", "id": user}, "events": map[string]any{event: payload}}).Serialize()
	if err != nil {
		return err
	}
	r, err := http.NewRequest(http.MethodPost, "http://"+f.h.listens["service"].Addr().String()+"/signals/v1/fleet", strings.NewReader(token))
	if err != nil {
		return err
	}
	r.Header.Set("Content-Type", "application/secevent+jwt")
	r.Header.Set("Authorization", "Bearer "+f.h.token("fleet"))
	answer, err := http.DefaultClient.Do(r)
	if err != nil {
		return err
	}
	answer.Body.Close()
	if answer.StatusCode != http.StatusAccepted {
		return fmt.Errorf("the signal is answered with %s", answer.Status)
	}
	return nil
}
