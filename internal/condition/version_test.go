package condition

import (
	"cmp"
	"math/big"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// naive compares dotted versions with numbers of any size; ok is false when either is none.
func naive(a, b string) (order int, ok bool) {
	as, bs := strings.Split(a, "."), strings.Split(b, ".")
	for i := range max(len(as), len(bs)) {
		x, y := new(big.Int), new(big.Int)
		for _, part := range []struct {
			list []string
			n    *big.Int
		}{{as, x}, {bs, y}} {
			if i >= len(part.list) {
				continue
			}
			if strings.Trim(part.list[i], "0123456789") != "" || part.list[i] == "" {
				return 0, false
			}
			part.n.SetString(part.list[i], 10)
		}
		if order == 0 {
			order = x.Cmp(y)
		}
	}
	return order, true
}

func FuzzVersions(f *testing.F) {
	for _, pair := range [][2]string{{"14.2", "14.10"}, {"14", "14.0.0"}, {"007.1", "7.01"}, {"1.x", "1"}, {"", "1"}, {"99999999999999999999", "1"},
		{"1..2", "1"}, {"0", "0.0.1"}, {"17.2", "17.2.0.0"}, {"1.2", "1"}, {"+1", "1"}} {
		f.Add(pair[0], pair[1])
	}
	f.Fuzz(func(t *testing.T, a, b string) {
		bound, ok := parseVersion(b)
		want, both := naive(a, b)
		if !ok {
			require.False(t, both)
			return
		}
		got, known := bound.compareTo(a)
		require.Equal(t, both, known, "%q %q", a, b)
		if both {
			require.Equal(t, want, cmp.Compare(got, 0), "%q against %q", a, b)
		}
	})
}

func TestNumbers(t *testing.T) {
	for text, want := range map[string]float64{"80": 80, "0.5": 0.5, "-3": -3, "+7": 7, "007": 7} {
		x, ok := ParseNumber(text)
		require.True(t, ok, text)
		require.InDelta(t, want, x, 0)
	}
	for _, text := range []string{"", "1e5", "0x10", "NaN", "inf", "1_000", "1.2.3", "--1", strings.Repeat("9", 400)} {
		_, ok := ParseNumber(text)
		require.False(t, ok, text)
	}
}
