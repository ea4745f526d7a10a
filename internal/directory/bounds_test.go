package directory

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestAttributeTypes goes to the ends of the characters that a name may have.
func TestAttributeTypes(t *testing.T) {
	for _, c := range "09azAZ-._" {
		require.True(t, isAttributeType(string(c)), "%c", c)
		require.False(t, notInName(c) && c != '.' && c != '-' && c != '_', "%c", c)
	}
	for _, c := range "/:`{@[ é=;*" {
		require.False(t, isAttributeType(string(c)), "%c", c)
		require.False(t, isAttributeType("a"+string(c)), "%c", c)
	}
	require.False(t, isAttributeType(""))
	for _, c := range "/:`{@[ é" {
		require.True(t, notInName(c), "%c", c)
	}
	for _, c := range "09azAZ-.;=*_" {
		require.False(t, notInName(c), "%c", c)
	}
}

// TestOctets reads values in BER: lengths of every form, and none that says other than there is.
func TestOctets(t *testing.T) {
	x := func(n int) string { return strings.Repeat("58", n) } // n times X
	for octets, want := range map[string]int{
		"0400": 0, "0c0158": 1, "047f" + x(127): 127, "048180" + x(128): 128, "04820100" + x(256): 256, "0483000101" + x(1+0): -1, "0483000100" + x(256): 256,
		"": -1, "04": -1, "0402" + x(1): -1, "0401" + x(2): -1, "0480": -1, "0480" + x(1): -1, "0481": -1, "048401000000": -1, "0484000000" + "01" + x(1): -1,
		"1f0158": -1, "240158": -1, "5f0158": -1, "0": -1, "zz": -1, "020158": -1, "180158": -1, "1e0158": -1, "840158": -1,
		"130158": 1, "1302585f": -1, "160158": 1, "16027f58": -1, "1603c3a558": -1, "0c02ff58": -1,
	} {
		got, err := berString(octets)
		if want < 0 {
			require.Error(t, err, octets[:min(len(octets), 12)])
			continue
		}
		require.NoError(t, err, octets[:min(len(octets), 12)])
		require.Equal(t, strings.Repeat("X", want), got)
	}
}

// TestTextsOfTypes tries the characters at the ends of what each type of string may hold.
func TestTextsOfTypes(t *testing.T) {
	for tag, texts := range map[string][2]string{"13": {"09azAZ '()+,-./:=?", "\x1f!\"*;@[`{_é"}, "16": {" ~", "\x1f\x7fé"}} {
		for i, list := range texts {
			for _, c := range list {
				_, err := berString(fmt.Sprintf("%s%02x%x", tag, len(string(c)), string(c)))
				require.Equal(t, i == 0, err == nil, "%s %q", tag, c)
			}
		}
	}
}

// TestEscapes writes values so that they read the same again, and in one way.
func TestEscapes(t *testing.T) {
	for value, want := range map[string]string{
		"a b": "a b", " a": `\ a`, "a ": `a\ `, " ": `\ `, "#a": `\#a`, "a#": "a#", "a,b+c;d<e>f\\\"": `a\,b\+c\;d\<e\>f\\\"`,
		"\x1f": `\1f`, "\x7f": `\7f`, "~": "~", "!": "!", "é": "é", "\xff": `\ff`, "\ufffd": "\ufffd",
	} {
		require.Equal(t, want, escapeValue(value))
		again, err := parseValue(want)
		require.NoError(t, err, want)
		require.Equal(t, value, again)
	}
}

// TestTimesAtTheEnds reads times at the ends of the years, and their zones.
func TestTimesAtTheEnds(t *testing.T) {
	for text, want := range map[string]string{
		"00010101000000Z": "0001-01-01T00:00:00Z", "0001010100+01": "", "0001010101+01": "0001-01-01T00:00:00Z", "00001231230000-0100": "",
		"Z": "", "20240201090060Z": "2024-02-01T09:00:59Z", "2024020109.5Z": "2024-02-01T09:30:00Z", "2024020109.Z": "", "99991231235959Z": "9999-12-31T23:59:59Z",
	} {
		got, err := generalizedTime(text)
		require.Equal(t, want == "", err != nil, "%s: %v", text, got)
		if want != "" {
			require.Equal(t, want, got.Format("2006-01-02T15:04:05Z07:00"), text)
		}
	}
}
