package directory

import (
	"regexp"
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/go-ldap/ldap/v3"
	"github.com/stretchr/testify/require"
)

// typeless is a value without a type, or with one that is escaped.
var typeless = regexp.MustCompile(`(^|[,+;])([^=]*\\| *=)`)

// FuzzDN holds the reader of distinguished names against that of an LDAP library.
func FuzzDN(f *testing.F) {
	for _, text := range []string{"", "uid=a,dc=x", " CN = Ann \\, B + UID=b ; dc = x ", `cn=\20a\20,o=\c3\98`, "cn=#0403414243,dc=x", "cn=#0403414243 ,x=", "cn=a=b", `cn=a\`,
		`cn="a"`, "cn=a,", "cn", "+", "cn=#04814141", "2.5.4.3=x", "cn=\\ ", "cn= \\20 ", "0=#1800", "cn=#0c01ff", "cn=#130140", "cn=#16017f"} {
		f.Add(text)
	}
	f.Fuzz(func(t *testing.T, text string) {
		if !utf8.ValidString(text) {
			return
		}
		want, wrong := ldap.ParseDN(text)
		got, err := parseDN(text)
		if err != nil {
			if wrong == nil { // what the library takes beyond the standard
				odd := strings.Contains(text, "#") || typeless.MatchString(text)
				for _, rdn := range want.RDNs {
					for _, a := range rdn.Attributes {
						odd = odd || !isAttributeType(a.Type)
					}
				}
				require.True(t, odd, "%q is a name to the library: %v", text, err)
			}
			return
		}
		if wrong != nil {
			require.Contains(t, text, ";") // which the library wants escaped within a value, and takes between names
			return
		}
		require.Len(t, got, len(want.RDNs))
		for i, rdn := range want.RDNs {
			require.Len(t, got[i], len(rdn.Attributes))
			for j, a := range rdn.Attributes {
				require.Equal(t, namingValue{a.Type, a.Value}, got[i][j], "%q", text)
			}
		}
		again, err := parseDN(got.key())
		require.NoError(t, err)
		require.Equal(t, got.key(), again.key(), "%q", text)
	})
}

// TestNamesAreComparedAlike whatever way they are written, and no other name is taken for one.
func TestNamesAreComparedAlike(t *testing.T) {
	key := func(text string) string {
		dn, err := parseDN(text)
		require.NoError(t, err, text)
		return dn.key()
	}
	const name = `cn=Åse \, Holt+uid=a,dc=x`
	for _, same := range []string{`UID=A + CN=åse \2c holt , DC=X`, `cn=\c3\85se \, Holt + uid=a;dc=x`, `cn=#0c0bc3857365202c20486f6c74+uid=a,dc=x`} {
		require.Equal(t, key(name), key(same))
	}
	for _, other := range []string{`cn=Åse \, Holt,uid=a,dc=x`, `cn=Åse \, Holt+uid=a`, `cn=Åse  \, Holt+uid=a,dc=x`, `cn=Åse \, Holt\+uid\=a,dc=x`} {
		require.NotEqual(t, key(name), key(other))
	}
}
