package spell_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"briskwarden.example/briskwarden/internal/spell"
)

func TestNearest(t *testing.T) {
	names := []string{"password", "passkey", "app-code", "pin", "push", "crew-roster", "terminals", "terminal", "ørnes"}
	for slip, want := range map[string]string{
		"pasword": "password", "passwrod": "password", "pass-key": "passkey", "pni": "pin", "crewroster": "crew-roster", "terminls": "terminals",
		"termina": "terminal", "ornes": "ørnes", "xyzzy": "", "p": "", "": "", "password": "", "entirely-else": "",
	} {
		require.Equal(t, want, spell.Nearest(slip, names), slip)
	}
	require.Empty(t, spell.Nearest("x", nil))
}

func FuzzNearest(f *testing.F) {
	f.Add("pasword", "password")
	f.Fuzz(func(t *testing.T, name, candidate string) {
		near := spell.Nearest(name, []string{candidate})
		if near != "" {
			require.Equal(t, candidate, near)
			require.NotEqual(t, name, near)
		}
	})
}
