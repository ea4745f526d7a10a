package consent_test

import (
	"testing"

	"briskwarden.example/briskwarden/consent"
	"briskwarden.example/briskwarden/consent/consenttest"
)

func TestMemory(t *testing.T) {
	consenttest.TestStore(t, func(*testing.T) consent.Store { return consent.NewMemory() })
}
