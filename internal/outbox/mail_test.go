package outbox

import (
	"testing"

	"github.com/stretchr/testify/require"
)

// TestMailLeavesTheMachineEncrypted or not at all.
func TestMailLeavesTheMachineEncrypted(t *testing.T) {
	for server, policy := range map[string]string{"mail.skerry.example:25": "TLSMandatory", "192.0.2.7:587": "TLSMandatory", "localhost.skerry.example:25": "TLSMandatory",
		"localhost:25": "TLSOpportunistic", "127.0.0.1:25": "TLSOpportunistic", "[::1]:25": "TLSOpportunistic"} {
		c, err := (&Mail{Server: server, From: "brisk@skerry.example"}).client()
		require.NoError(t, err)
		require.Equal(t, policy, c.TLSPolicy(), server)
	}
	for _, m := range []Mail{{"mail.skerry.example", "a@b.example"}, {":25", "a@b.example"}, {"h:0", "a@b.example"}, {"h:x", "a@b.example"}, {"h:25", "nobody"}, {"h:25", "a@b.example\r\nBcc: x@y.example"},
		{"h:25", "A <a@b.example>"}} {
		require.Error(t, m.Check(), m)
	}
	require.NoError(t, (&Mail{}).Check())
}
