package signon

// The same JSON for programs that use encoding/json, which knows nothing of MarshalJSONTo.

import (
	"bytes"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"
)

// MarshalJSON writes the sign-on as a request; what is unknown is left out.
func (s SignOn) MarshalJSON() ([]byte, error) { return json.Marshal(s) }

// UnmarshalJSON reads a request as [Decode] does.
func (s *SignOn) UnmarshalJSON(data []byte) error { return unmarshal(data, s.UnmarshalJSONFrom) }

// MarshalJSON writes the sign-on as a line of a log, with its outcome in context.outcome.
func (l Logged) MarshalJSON() ([]byte, error) { return json.Marshal(l) }

// UnmarshalJSON reads a line of a log as [DecodeLogged] does.
func (l *Logged) UnmarshalJSON(data []byte) error { return unmarshal(data, l.UnmarshalJSONFrom) }

// MarshalJSON writes the decision as a response of the AuthZEN API.
func (d Decision) MarshalJSON() ([]byte, error) { return json.Marshal(d) }

// UnmarshalJSON reads a response of the AuthZEN API.
func (d *Decision) UnmarshalJSON(data []byte) error { return unmarshal(data, d.UnmarshalJSONFrom) }

// MarshalJSON writes a truth value; what is unknown is null.
func (y YesNo) MarshalJSON() ([]byte, error) { return json.Marshal(y) }

// UnmarshalJSON reads a truth value, or null.
func (y *YesNo) UnmarshalJSON(data []byte) error { return unmarshal(data, y.UnmarshalJSONFrom) }

// UnmarshalJSON reads a kind of client, or null.
func (c *Client) UnmarshalJSON(data []byte) error { return unmarshal(data, c.UnmarshalJSONFrom) }

// UnmarshalJSON reads for whom a consent is, or null.
func (c *ConsentFor) UnmarshalJSON(data []byte) error { return unmarshal(data, c.UnmarshalJSONFrom) }

func unmarshal(data []byte, from func(*jsontext.Decoder) error) error {
	return from(jsontext.NewDecoder(bytes.NewReader(data)))
}
