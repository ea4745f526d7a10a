package directory_test

import (
	"encoding/base64"
	"fmt"
	"io"
	"math/rand/v2"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"briskwarden.example/briskwarden/internal/directory"
)

// told writes down what a reader hands on.
type told struct{ lines []string }

func (s *told) User(line int, u *directory.User) error {
	s.lines = append(s.lines, fmt.Sprintf("%d user %+v", line, *u))
	return nil
}

func (s *told) Group(line int, g *directory.Group) error {
	s.lines = append(s.lines, fmt.Sprintf("%d group %+v", line, *g))
	return nil
}

func (s *told) Aside(what string) { s.lines = append(s.lines, what) }
func (s *told) Listed(read, total int) {
	s.lines = append(s.lines, fmt.Sprint("listed ", read, " of ", total))
}

// stated is what was told without line numbers.
func (s *told) stated() (list []string) {
	for _, line := range s.lines {
		_, text, _ := strings.Cut(line, " ")
		list = append(list, text)
	}
	return list
}

// pair is a line of an LDIF record before it is written.
type pair struct{ name, value string }

// written writes records with lines folded anywhere, values in plain or base64, and comments between.
func written(dice *rand.Rand, records [][]pair) string {
	var b strings.Builder
	end := []string{"\n", "\r\n"}[dice.IntN(2)]
	fold := func(line string) {
		for len(line) > 0 {
			n := 1 + dice.IntN(len(line))
			b.WriteString(line[:n] + end)
			if line = line[n:]; line != "" {
				b.WriteString(" ")
			}
		}
	}
	b.WriteString("version: 1" + end + end)
	for _, record := range records {
		for _, p := range record {
			if dice.IntN(5) == 0 {
				fold("# uid: somebody-else")
			}
			switch {
			case dice.IntN(2) == 0:
				fold(p.name + "::" + strings.Repeat(" ", dice.IntN(3)) + base64.StdEncoding.EncodeToString([]byte(p.value)))
			default:
				fold(p.name + ":" + strings.Repeat(" ", dice.IntN(3)) + p.value)
			}
		}
		b.WriteString(strings.Repeat(end, 1+dice.IntN(2)))
	}
	return b.String()
}

// TestFoldedLDIFSaysTheSame writes random records in every form that RFC 2849 has: folded in the
// middle of a name, right before and after the colons, and within the values.
func TestFoldedLDIFSaysTheSame(t *testing.T) {
	for seed := range uint64(500) {
		dice := rand.New(rand.NewPCG(seed, 4))
		var records [][]pair
		for i := range 1 + dice.IntN(4) {
			if id := fmt.Sprintf("u%d", i); dice.IntN(3) > 0 {
				records = append(records, []pair{{"dn", "uid=" + id + ",dc=x"}, {"objectClass", "person"}, {"uid", id}, {"employeeType", []string{"contractor", "staff"}[dice.IntN(2)]},
					{"title;lang-no", "Styrmann"}, {"title", "First mate, ærlig"}, {"memberOf", "cn=deck,dc=x"}, {"jpegPhoto", "not read"}})
				continue
			}
			records = append(records, []pair{{"dn", fmt.Sprintf("cn=g%d,dc=x", i)}, {"objectClass", "groupOfNames"}, {"cn", fmt.Sprintf("g%d", i)}, {"cn", "another"},
				{"member", "uid=u0,dc=x"}, {"member", "uid=u1, DC=X"}})
		}
		var plain strings.Builder
		for _, record := range records {
			for _, p := range record {
				fmt.Fprintf(&plain, "%s: %s\n", p.name, p.value)
			}
			plain.WriteByte('\n')
		}
		var want, got told
		require.NoError(t, directory.ReadLDIF(strings.NewReader(plain.String()), &want))
		text := written(dice, records)
		require.NoError(t, directory.ReadLDIF(strings.NewReader(text), &got), "seed %d\n%s", seed, text)
		require.Len(t, want.lines, len(records))
		require.Equal(t, want.stated(), got.stated(), "seed %d\n%s", seed, text)
		for i, record := range records {
			if record[1].value == "person" {
				require.Contains(t, got.lines[i], "Value:First mate, ærlig}]")
				require.Contains(t, got.lines[i], map[string]string{"contractor": "Type:guest", "staff": "Type:employee"}[record[3].value])
				require.Contains(t, got.lines[i], "Groups:[{Key:cn=deck,dc=x Name:deck}]")
			}
		}
	}
}

// TestLDIFThatIsNotRead: what cannot be understood is an error, wherever the line is folded.
func TestLDIFThatIsNotRead(t *testing.T) {
	const person = "dn: uid=a,dc=x\nobjectClass: person\nuid: a\n"
	const group = "dn: cn=a,dc=x\nobjectClass: groupOfNames\ncn: a\n"
	for text, want := range map[string]string{
		person + "title:< file:///etc/passwd\n":                                 "line 4: a value from a URL",
		person + "title:\n < file:///etc/passwd\n":                              "line 4: a value from a URL",
		person + "ti\n tle\n :\n <file:///etc/passwd\n":                         "line 4: a value from a URL",
		person + "jpegPhoto:<file:///dev/zero\n":                                "line 4: a value from a URL",
		"dn:\n < file:///etc/passwd\n":                                          "line 1: a value from a URL",
		person + "employeeType: staff\nemployeeType: contractor\n":              "employeeType is both employee and guest",
		person + "uid: b\n":                                                     `uid is both "a" and "b"`,
		person + "createTimestamp: 2024\n":                                      "is no time",
		person + "createTimestamp: 2024020109Z\ncreatetimestamp: 2025020109Z\n": "createTimestamp is both",
		person + "employeeType:: !!\n":                                          "no base64",
		person + "employeeType:: Y29udHJhY3Rvcg\n":                              "no base64",
		person + "dn: uid=b,dc=x\n":                                             "line 4: a second dn: stands in the same record",
		person + " \ndn: uid=b,dc=x\n":                                          "line 5: a second dn: stands in the same record",
		person + "changetype: delete\n":                                         "line 4: the record is a change",
		person + "employee type: guest\n":                                       "line 4: the record cannot be read",
		person + ": guest\n":                                                    "line 4: the record cannot be read",
		person + "\ttitle: x\n":                                                 "line 4: the record cannot be read",
		person + "employeeType: contractor\x00\n":                               "employeetype: a control character",
		person + "title: a\rb\n":                                                "title: a control character",
		person + "objectClass: groupOfNames\ncn: x\n":                           "a person and a group at once",
		" uid: a\n":              "line 1: the line goes on with one that is not there",
		person + "\n title: x\n": "line 5: the line goes on with one that is not there",
		group + "member;range=0-1499: uid=a,dc=x\n":                "cut into ranges",
		group + "cn: b\nmember: nonsense\n":                        `member: "nonsense" is no distinguished name (RFC 4514): "nonsense" is no type`,
		group + "cn: b\nmember: cn=#0203616e6e,dc=x\n":             `(RFC 4514): what stands after "#" is no text in BER`,
		group + "cn: b\nmember: cn=\\zz,dc=x\n":                    "(RFC 4514): a value holds a character that is to be escaped",
		"dn:\nobjectClass: person\nuid: a\n":                       `(RFC 4514): it is empty`,
		"dn: ou=a,dc=x\nobjectClass: groupOfNames\ncn: b\ncn: c\n": `cn is both "b" and "c"`,
		"version: 2\n\n" + person:                                  "only 1",
		person + "version: 1\n\nversion: 1\n":                      "missing 'dn:' before version",
		"dn:: \n" + person:                                         "a second dn",
	} {
		var s told
		require.ErrorContains(t, directory.ReadLDIF(strings.NewReader(text), &s), want, "%q", text)
		require.Empty(t, slices.DeleteFunc(s.lines, func(l string) bool { return strings.HasPrefix(l, "1 user") && strings.Contains(text, "\n\n") }))
	}
}

// TestOtherNamesOfAttributes: an attribute is the same by its number and by its other names.
func TestOtherNamesOfAttributes(t *testing.T) {
	var want, got told
	require.NoError(t, directory.ReadLDIF(strings.NewReader("dn: uid=a,dc=x\nobjectClass: person\nuid: a\nemployeeType: guest\ntitle: Mate\n"), &want))
	require.NoError(t, directory.ReadLDIF(strings.NewReader("dn: uid=a,dc=x\n2.5.4.0: person\nUserID: a\n2.16.840.1.113730.3.1.4: guest\n2.5.4.12;binary: Mate\n"), &got))
	require.Equal(t, want, got)
	var g told
	require.NoError(t, directory.ReadLDIF(strings.NewReader("dn: cn=a,dc=x\nobjectClass: groupOfUniqueNames\ncn: a\nuniqueMember: cn=b\\#'x,dc=x\nuniqueMember: cn=c,dc=x#'01'B\n"), &g))
	require.Contains(t, g.lines[0], "Name:b#'x}")
	require.Contains(t, g.lines[0], "{Key:cn=c,dc=x Name:c}")
}

func TestGeneralizedTimes(t *testing.T) {
	for text, want := range map[string]string{
		"20240201090000Z": "2024-02-01T09:00:00Z", "202611200900+0000": "2026-11-20T09:00:00Z", "2026112009+01": "2026-11-20T08:00:00Z",
		"202611200900-0330": "2026-11-20T12:30:00Z", "2026112009.5Z": "2026-11-20T09:30:00Z", "202611200900,25Z": "2026-11-20T09:00:15Z",
		"20261120090000.125+01": "2026-11-20T08:00:00.125Z", "20161231235960Z": "2016-12-31T23:59:59Z",
		"20240201090000": "", "2024020109": "", "20240201Z": "", "20241301090000Z": "", "20240230090000Z": "", "2024020109.Z": "", "2024020109.1.2Z": "",
		"00000101000000Z": "", "00010101000000+0100": "", "20240201090000+1": "", "20240201090000Z0": "", "20240201 90000Z": "", "2024020190000Z": "", "2024020109.+1Z": "", "": "",
	} {
		var s told
		err := directory.ReadLDIF(strings.NewReader("dn: uid=a,dc=x\nobjectClass: person\nuid: a\ncreateTimestamp: "+text+"\n"), &s)
		if want == "" && text != "" {
			require.ErrorContains(t, err, "is no time", text)
			continue
		}
		require.NoError(t, err, text)
		if text != "" {
			at, err := time.Parse(time.RFC3339Nano, want)
			require.NoError(t, err)
			require.Contains(t, s.lines[0], at.UTC().String(), text)
		}
	}
}

// endOfLine is what ends a line, with whatever stands before it that would end one once more.
var endOfLine = regexp.MustCompile("\r*\n")

// FuzzLDIF holds what is read against the same text with every line unfolded beforehand.
func FuzzLDIF(f *testing.F) {
	f.Add("version: 1\ndn: uid=a,dc=x\nobjectClass: person\nuid: a\nemployeeType:\n  contractor\n\n# c\n d\ndn: cn=g,dc=x\nobjectClass: posixGroup\ncn:: Zw==\nmemberUid: a\n")
	f.Add("\r\r\n ")
	f.Add("\ufeff\ufeff\n #")
	f.Fuzz(func(t *testing.T, text string) {
		text = strings.TrimLeft(endOfLine.ReplaceAllString(text, "\n"), "\ufeff")
		var folded, unfolded told
		err := directory.ReadLDIF(strings.NewReader(text), &folded)
		if strings.Contains("\n\n"+text, "\n\n ") {
			require.Error(t, err)
			return
		}
		again := directory.ReadLDIF(strings.NewReader(strings.ReplaceAll(text, "\n ", "")), &unfolded)
		require.Equal(t, err == nil, again == nil, "%v, %v", err, again)
		if err == nil {
			require.Equal(t, folded.stated(), unfolded.stated())
		}
	})
}

// FuzzPeopleCSV reads people and, where that succeeds, whatever is read of the same without its order of columns.
func FuzzPeopleCSV(f *testing.F) {
	f.Add("\ufeffid,groups,grade\na,x;y,3\n")
	f.Add("\ufeff\"id\",type\n\"a\",guest\n")
	f.Fuzz(func(t *testing.T, text string) {
		var s told
		err := directory.ReadCSV(strings.NewReader(text), func(string) bool { return false }, &s)
		var again told
		require.Equal(t, err, directory.ReadCSV(io.MultiReader(strings.NewReader(text)), func(string) bool { return false }, &again))
		require.Equal(t, s, again)
		for _, line := range s.lines {
			require.NotContains(t, line, "ID: ", "no id begins with a blank")
		}
	})
}

func TestPeopleCSVIsExact(t *testing.T) {
	declared := func(name string) bool { return name == "Active-since" || name == "method" }
	for text, want := range map[string]string{
		"\ufeff\"id\",\"type\"\n\"ann\",guest\n": "user {ID:ann Key: Type:guest",
		"id,grade\nann, 3 \n":                    "Attributes:[{Name:grade Value: 3 }]",
		"id,method\nann,x\n":                     "Attributes:[{Name:method Value:x}]",
		"id,Active-since\nann,x\n":               "Attributes:[{Name:Active-since Value:x}]",
		"id,Active\nann,no\n":                    `error: line 1: there is no column "Active": did you mean "active"?`,
		"id, active\nann,no\n":                   `error: line 1: there is no column " active": did you mean "active"?`,
		"id,group\nann,no\n":                     `did you mean "groups"?`,
		"id,Risk\nann,high\n":                    `did you mean "risk"?`,
		"ID\nann\n":                              `did you mean "id"?`,
		"id,type\nann ,guest\n":                  `error: line 2: id: "ann " has blanks at its ends`,
		"id,groups\nann,a; b\n":                  "Groups:[{Key: Name:a} {Key: Name: b}]", // which the rulebook refuses
		"id,active\nann,no\u00a0\n":              `error: line 2: active: "no\u00a0" has blanks`,
		"id,x,y\nann,\xc3,\xa5\n":                "error: line 2: is not UTF-8",
		"id,type\nann,\u200bguest\n":             `type: "\u200bguest" has blanks`,
	} {
		var s told
		got := ""
		if err := directory.ReadCSV(strings.NewReader(text), declared, &s); err != nil {
			got = "error: " + err.Error()
		}
		require.Contains(t, got+strings.Join(s.lines, ""), want, "%q", text)
	}
}
