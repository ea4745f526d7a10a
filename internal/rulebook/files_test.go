package rulebook_test

import (
	"bytes"
	"compress/gzip"
	"net/netip"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/require"

	"briskwarden.example/briskwarden/internal/diag"
	"briskwarden.example/briskwarden/internal/posture"
	"briskwarden.example/briskwarden/internal/rulebook"
	"briskwarden.example/briskwarden/signon"
)

func gz(t *testing.T, text string) string {
	t.Helper()
	var b bytes.Buffer
	z := gzip.NewWriter(&b)
	_, err := z.Write([]byte(text))
	require.NoError(t, err)
	require.NoError(t, z.Close())
	return b.String()
}

func zst(t *testing.T, text string) string {
	t.Helper()
	z, err := zstd.NewWriter(nil)
	require.NoError(t, err)
	return string(z.EncodeAll([]byte(text), nil))
}

// load reads a rulebook whose top file holds the clauses, then the declarations, beside other files.
func load(clauses, declarations string, files map[string]string) *rulebook.Rulebook {
	fsys := fstest.MapFS{"rulebook.warden": {Data: []byte("rulebook r { " + clauses + " }\n" + declarations)}}
	for name, text := range files {
		fsys[name] = &fstest.MapFile{Data: []byte(text)}
	}
	return rulebook.Load(fsys, rulebook.Options{})
}

func TestGeofeeds(t *testing.T) {
	const first = "\ufeff# RFC 8805\r\n192.0.2.0/24,NO,NO-03,Norvik,\r\n192.0.2.128/25, se ,,\r\n198.51.100.0/24,,,,\r\n2001:db8::/32,DK,,,\r\n"
	const second = "198.51.100.0/24,PT\n203.0.113.0/24,PT\n\"203.0.113.9/32\",\"ES\",\"a, b\"\n"
	for name, pack := range map[string]func(*testing.T, string) string{"": func(_ *testing.T, s string) string { return s }, ".gz": gz, ".zst": zst} {
		rb := load(`geo "a.csv`+name+`", "b.csv"`, "", map[string]string{"a.csv" + name: pack(t, first), "b.csv": second})
		require.Empty(t, rb.Diagnostics, name)
		require.Equal(t, []rulebook.Tally{{N: 3, What: "located prefix"}}, rb.Loaded[1].Items)
		for addr, want := range map[string]string{"192.0.2.1": "NO", "192.0.2.200": "SE", "198.51.100.1": "", "2001:db8::1": "DK", "203.0.113.1": "PT", "203.0.113.9": "ES"} {
			at, known := rb.Atlas.Locate(netip.MustParseAddr(addr))
			require.True(t, known, addr)
			require.Equal(t, want, at.Country, addr)
		}
		_, known := rb.Atlas.Locate(netip.MustParseAddr("2001:db9::1"))
		require.False(t, known)
	}
}

func TestFleets(t *testing.T) {
	const attributes = "attribute device.team word\nattribute device.patched yes-no\nattribute device.score number from request\n"
	const lines = `{"id":"tab","os":"android","version":"14","managed":true,"owner":"ann","team":"deck","patched":true,"unheard":[1]}` + "\r\n\r\n" + `{"id":"lap","score":7}` + "\n"
	const cells = "\ufeffid,owner,managed,encrypted,reported,team,patched,score,colour\r\nbox,bob,yes,,2026-11-23T06:00:00Z,it,false,2.5,red\r\n\"a, b\",,,no,,,,,\r\n"
	rb := load(`devices "fleet/*"`, attributes, map[string]string{"fleet/a.jsonl.gz": gz(t, lines), "fleet/b.csv": cells})
	require.Empty(t, rb.Diagnostics)
	require.Len(t, rb.Devices, 4)
	require.Equal(t, &posture.Record{Owner: "ann", File: "fleet/a.jsonl.gz", Line: 1, Device: signon.Device{ID: "tab", OS: "android", Version: "14", Managed: signon.Yes,
		Attributes: map[string]any{"team": "deck", "patched": true}}}, rb.Devices["tab"])
	require.Equal(t, map[string]any{"score": 7.0}, rb.Devices["lap"].Attributes)
	box := rb.Devices["box"]
	require.Equal(t, "bob", box.Owner)
	require.Equal(t, map[string]any{"team": "it", "patched": false, "score": 2.5}, box.Attributes)
	require.Equal(t, signon.Yes, box.Managed)
	require.Equal(t, signon.Unknown, box.Encrypted)
	require.Equal(t, 2026, box.Reported.Year())
	require.Equal(t, signon.No, rb.Devices["a, b"].Encrypted)
}

func TestBadFilesNameTheLine(t *testing.T) {
	bomb := gz(t, strings.Repeat("0", 20<<20))
	for _, c := range []struct{ clause, file, text, says string }{
		{`geo "f.csv"`, "f.csv", "192.0.2.0/24,NO\n192.0.2.1/24,NO\n", "f.csv:2:1: error: \"192.0.2.1/24\" has bits set"},
		{`geo "f.csv"`, "f.csv", "192.0.2.0/24,XX\n", `f.csv:1:1: error: there is no country "XX"`},
		{`geo "f.csv"`, "f.csv", "192.0.2.0/24,NO\n192.0.2.0/24,SE\n", "f.csv:2:1: error: 192.0.2.0/24 stands twice, in SE here and in NO on line 1"},
		{`geo "f.csv"`, "f.csv", "192.0.2.0/33,NO\n", "f.csv:1:1: error: \"192.0.2.0/33\" is no prefix: the length"},
		{`geo "f.csv"`, "f.csv", "192.0.2.1-192.0.2.9,NO\n", "a geofeed has no ranges"},
		{`geo "f.csv"`, "f.csv", "prefix,country\n", "f.csv:1:1: error: \"prefix\" is no address"},
		{`geo "f.csv"`, "f.csv", strings.Repeat("x", 2<<20), "f.csv:1:1: error: the line is longer than 4096 bytes"},
		{`geo "f.csv.gz"`, "f.csv.gz", "192.0.2.0/24,NO\n", "is no gzip file"},
		{`geo "f.csv.gz"`, "f.csv.gz", gz(t, "192.0.2.0/24,NO\n")[:20], "cannot be read on"},
		{`geo "f.csv.zst"`, "f.csv.zst", "192.0.2.0/24,NO\n", "f.csv.zst:1:1: error: cannot be read on"},
		{`geo "f.mmdb"`, "f.mmdb", "192.0.2.0/24,NO\n", "f.mmdb cannot be read: is no MaxMind DB"},
		{`devices "f.jsonl"`, "f.jsonl", `{"id":"a"}` + "\n" + `{"id":"a"}`, `f.jsonl:2:1: error: the device "a" stands twice`},
		{`devices "f.jsonl"`, "f.jsonl", `{"os":"ios"}`, ":1:1: error: the device has no id"},
		{`devices "f.jsonl"`, "f.jsonl", `{"id":"a","managed":"yes"}`, ":1:1: error: managed: expected true or false, found a string"},
		{`devices "f.jsonl"`, "f.jsonl", `{"id":"a","owner":5}`, ":1:1: error: owner: expected a user's id"},
		{`devices "f.jsonl"`, "f.jsonl", "{\"id\":\"a\xff\"}", "is not UTF-8"},
		{`devices "f.jsonl"`, "f.jsonl", `{"id":"a","n":"many"}`, `:1:1: error: n: "many" is no number`},
		{`devices "f.jsonl.gz"`, "f.jsonl.gz", bomb, "longer than 16 MiB"},
		{`devices "f.csv"`, "f.csv", "", ":1:1: error: the header is missing"},
		{`devices "f.csv"`, "f.csv", "id,os,id\n", `the column "id" stands twice`},
		{`devices "f.csv"`, "f.csv", "id,managed\na,perhaps\n", `:2:1: error: managed: "perhaps" is none of yes, no`},
		{`devices "f.csv"`, "f.csv", "id,os\na\n", "not as many cells"},
		{`devices "f.csv"`, "f.csv", "id,reported\na,today\n", ":2:1: error: reported: \"today\" is no RFC 3339 time"},
	} {
		rb := load(c.clause, "attribute device.n number\n", map[string]string{c.file: c.text})
		require.Positive(t, rb.Diagnostics.Count(diag.Error), "%s %.40q", c.clause, c.text)
		require.ErrorContains(t, rb.Diagnostics.Err(), c.says, "%s %.40q", c.clause, c.text)
	}
	rb := load("", "network n from \"f.txt.gz\"\n", map[string]string{"f.txt.gz": gz(t, strings.Repeat("#\n", 40<<20))})
	require.ErrorContains(t, rb.Diagnostics.Err(), "unpacks to more than")
}
