// Package chain seals the entries of journals, each of which carries the hash of the one before.
package chain

import (
	"crypto/sha256"
	"encoding/hex"

	"github.com/go-json-experiment/json"
)

// Hash is SHA-256, in hexadecimal, over an entry's JSON with its maps sorted. The entry's own hash is empty then.
func Hash(entry any) (string, error) {
	data, err := json.Marshal(entry, json.Deterministic(true))
	if err != nil {
		return "", err
	}
	sum := sha256.Sum256(data)
	return hex.EncodeToString(sum[:]), nil
}
