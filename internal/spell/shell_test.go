package spell_test

import (
	"os/exec"
	"testing"

	"github.com/stretchr/testify/require"

	"briskwarden.example/briskwarden/internal/spell"
)

// TestShell has a shell read what it is given, whatever anybody named.
func TestShell(t *testing.T) {
	for _, name := range []string{"ann", "", "ann@skerry.example", "O'Neill", "`id`", "$(id)", "a b", "a\nb", "#x", "~", "*", "a[b]?", `a\b`, "!x", "a=b", "é…", "a;b", "{a,b}", "\u202ea", "-n"} {
		out, err := exec.Command("sh", "-c", "printf '%s|' "+spell.Shell([]string{name, "end"})).Output()
		require.NoError(t, err)
		require.Equal(t, name+"|end|", string(out), "%q", name)
	}
	require.Equal(t, "about user ann", spell.Shell([]string{"about", "user", "ann"}), "without need nothing is quoted")
}
