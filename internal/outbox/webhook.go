package outbox

// Messages to programs, as Standard Webhooks 1.0 describes: JSON, signed by a shared secret.

import (
	"bytes"
	"context"
	"encoding/base64"
	"fmt"
	"io"
	"net/http"
	"os"
	"strconv"
	"strings"
	"time"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"
	standardwebhooks "github.com/standard-webhooks/standard-webhooks/libraries/go"
)

// Webhook is the body of a message to a program.
type Webhook struct {
	Type      string         `json:"type"`
	Timestamp time.Time      `json:"timestamp"` // when the message was made
	Data      jsontext.Value `json:"data"`
}

// The lengths in bytes that a secret may have.
const (
	shortestSecret = 24
	longestSecret  = 64
)

// signer signs by the secret in a variable of the environment: base64, behind "whsec_" or bare.
func signer(variable string) (*standardwebhooks.Webhook, error) {
	secret := os.Getenv(variable)
	if secret == "" {
		return nil, fmt.Errorf("the environment has no %s, which holds the secret that signs it", variable)
	}
	key, err := base64.StdEncoding.DecodeString(strings.TrimPrefix(secret, "whsec_"))
	if err != nil || len(key) < shortestSecret || len(key) > longestSecret {
		return nil, fmt.Errorf("%s in the environment is no secret of Standard Webhooks: whsec_ and %d to %d random bytes in base64", variable, shortestSecret, longestSecret)
	}
	return standardwebhooks.NewWebhookRaw(key)
}

// mostAnswered is how much of an answer is read, so that the connection serves again.
const mostAnswered = 64 << 10

// post sends a message to a program. An answer that is not 2xx is an error, redirects included.
func post(ctx context.Context, client *http.Client, m *Message, now time.Time) error {
	body, err := json.Marshal(Webhook{m.Type, m.Created, m.Data})
	if err != nil {
		return err
	}
	r, err := http.NewRequestWithContext(ctx, http.MethodPost, m.To, bytes.NewReader(body))
	if err != nil {
		return err
	}
	r.Header.Set("Content-Type", "application/json")
	r.Header.Set("User-Agent", "brisk")
	r.Header.Set(standardwebhooks.HeaderWebhookID, m.ID)
	r.Header.Set(standardwebhooks.HeaderWebhookTimestamp, strconv.FormatInt(now.Unix(), 10))
	if m.SecretIn != "" {
		s, err := signer(m.SecretIn)
		if err != nil {
			return err
		}
		signature, err := s.Sign(m.ID, now, body)
		if err != nil {
			return err
		}
		r.Header.Set(standardwebhooks.HeaderWebhookSignature, signature)
	}
	answer, err := client.Do(r)
	if err != nil {
		return err
	}
	defer answer.Body.Close()
	_, _ = io.CopyN(io.Discard, answer.Body, mostAnswered)
	if answer.StatusCode < 200 || answer.StatusCode > 299 {
		return fmt.Errorf("the answer is %s", answer.Status)
	}
	return nil
}
