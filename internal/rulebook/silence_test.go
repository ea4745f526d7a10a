package rulebook_test

import (
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"briskwarden.example/briskwarden/internal/rulebook"
)

// TestNothingIsPassedOver lists what readers once passed over, or took for something else,
// without a word. Each is an error or a warning that names it.
func TestNothingIsPassedOver(t *testing.T) {
	const person = "dn: uid=ann,dc=x\nobjectClass: person\nuid: ann\n"
	for _, c := range []struct{ clause, file, text, says string }{
		{`directory "f.csv"`, "f.csv", "id,Active\nann,no\n", `f.csv:1:1: error: there is no column "Active": did you mean "active"?`},
		{`directory "f.csv"`, "f.csv", "id,group\nann,x\n", `did you mean "groups"?`},
		{`directory "f.csv"`, "f.csv", "id,groups\nann,a; b\n", `f.csv:2:1: error: the user "ann": groups: " b" has blanks at its ends`},
		{`directory "f.csv"`, "f.csv", "id,methods\nann,password ;pin\n", `there is no method "password ": did you mean "password"?`},
		{`directory "f.csv"`, "f.csv", "id,methods\nann,pin; password\n", `there is no method " password"`},
		{`directory "f.csv"`, "f.csv", "id\nann\u00a0\n", `id: "ann\u00a0" has blanks at its ends`},
		{`directory "f.csv"`, "f.csv", "id,contract-end\nann, 2026-12-31\n", "contract-end: "},
		{`directory "f.jsonl"`, "f.jsonl", `{"userName":"ann "}`, `the user's id "ann " has blanks at its ends`},
		{`directory "f.jsonl"`, "f.jsonl", `{"displayName":"\u200bdeck","schemas":[]}`, `the group's name "\u200bdeck" has blanks`},
		{`directory "f.jsonl"`, "f.jsonl", `{"active":true,"Active":false,"userName":"ann"}`, "duplicate"},
		{`directory "f.json"`, "f.json", `[{"Resources":[{"userName":"ann"}]}]`, "a list of resources stands inside another list"},
		{`directory "f.json"`, "f.json", `{"totalResults":3,"Resources":[{"userName":"ann"}]}`, "f.json:1:1: warning: the export is cut short: it lists 1 of 3 resources"},
		{`directory "f.json"`, "f.json", `{"schemas":["urn:ietf:params:scim:api:messages:2.0:ListResponse"],"totalResults":3}`, "it lists 0 of 3"},
		{`directory "f.json"`, "f.json", `{"Resources":{"userName":"ann"}}`, "expected an array, found an object"},
		{`directory "f.jsonl"`, "f.jsonl", `{"userName":"ann","groups":[{"value":"g9"}]}` + "\n" + `{"userName":"bob","groups":[{"value":"g9","display":"deck"}]}`, "the user ann is in a group that no file has: g9"},
		{`directory "f.jsonl"`, "f.jsonl", `{"userName":"ann","groups":[{"value":"g9","display":"deck"}]}` + "\n" + `{"userName":"bob","groups":[{"value":"g9","display":"crew"}]}`, `the group g9 is called "crew" here, and "deck" by another user`},
		{`directory "f.ldif"`, "f.ldif", person + "title: A\ntitle: B\n", "title is both A and B"},
		{`directory "f.ldif"`, "f.ldif", strings.Replace(person, "uid: ann", "uid:: YW5uIA==", 1), `the user's id "ann " has blanks`},
		{`devices "f.csv"`, "f.csv", "id,Managed\na,no\n", `there is no column "Managed": did you mean "managed"?`},
		{`devices "f.csv"`, "f.csv", "id,owner\na,ann \n", `owner: "ann " has blanks at its ends`},
		{`devices "f.csv"`, "f.csv", "id,os\na, android\n", `os: " android" has blanks at its ends`},
		{`devices "f.jsonl"`, "f.jsonl", `{"id":"a","Compliant":false}`, `a device has no field "Compliant": did you mean "compliant"?`},
		{`devices "f.jsonl"`, "f.jsonl", `{"id":"a","jail-broken":true}`, `did you mean "jailbroken"?`},
		{`devices "f.jsonl"`, "f.jsonl", `{"id":"a","form":"mobile\t"}`, `form: "mobile\t" has blanks`},
		{`devices "f.jsonl"`, "f.jsonl", "\u00a0\n" + `{"id":"a"}`, "f.jsonl:1:1: error: "},
		{`geo "f.csv"`, "f.csv", "192.0.2.0/24,\u00a0NO\n", `there is no country`},
		{"", "policies.Warden", "policy p { }", "policies.Warden: error: is not read: files of a rulebook end in .warden"},
	} {
		rb := load(c.clause, declared+"attribute user.title word\n", map[string]string{c.file: c.text})
		require.Contains(t, listed(rb), c.says, "%s %q", c.clause, c.text)
	}
}

// TestNoGroupIsNamedByItsMembers: what a list of members shows names nobody's group.
func TestNoGroupIsNamedByItsMembers(t *testing.T) {
	const files = `{"id":"g1","displayName":"deck","members":[{"value":"g9","display":"admins"}]}` + "\n" +
		`{"userName":"ann","groups":[{"value":"g9"}]}` + "\n" + `{"userName":"bob","groups":[{"value":"g9","display":"crew"}]}`
	rb := load(`directory "f.jsonl"`, "", map[string]string{"f.jsonl": files})
	require.NoError(t, rb.Diagnostics.Err())
	require.Empty(t, groupsOf(rb, "ann"))
	require.Equal(t, []string{"crew", "deck"}, groupsOf(rb, "bob"))
	_, known := rb.Groups.Lookup("admins")
	require.False(t, known)
}

// TestLinksAndPipes: a linked folder outside would take its files with it, and a pipe would never end.
func TestLinksAndPipes(t *testing.T) {
	outside, dir := t.TempDir(), t.TempDir()
	write := func(name, text string) { require.NoError(t, os.WriteFile(name, []byte(text), 0o600)) }
	write(filepath.Join(outside, "blocks.warden"), "app secret { }\n")
	write(filepath.Join(dir, "rulebook.warden"), "rulebook r { directory \"people.csv\" }\n")
	require.NoError(t, os.Symlink(outside, filepath.Join(dir, "policies")))
	require.NoError(t, os.Symlink("nowhere", filepath.Join(dir, "more")))
	require.NoError(t, syscall.Mkfifo(filepath.Join(dir, "people.csv"), 0o600))
	require.NoError(t, syscall.Mkfifo(filepath.Join(dir, "late.warden"), 0o600))
	root, err := os.OpenRoot(dir)
	require.NoError(t, err)
	defer root.Close()
	done := make(chan string, 1)
	go func() { done <- listed(rulebook.Load(root.FS(), rulebook.Options{})) }()
	select {
	case found := <-done:
		require.Contains(t, found, "policies: error: cannot be read: a link leads out of the rulebook's folder")
		require.Contains(t, found, "more: warning: the link leads nowhere")
		require.Contains(t, found, "late.warden: error: cannot be read: is no regular file")
		require.Contains(t, found, "people.csv cannot be read: is no regular file")
	case <-time.After(10 * time.Second):
		t.Fatal("a pipe hangs the reading")
	}
}

// listed is everything that was found, a line each.
func listed(rb *rulebook.Rulebook) string {
	var b strings.Builder
	for _, d := range rb.Diagnostics {
		b.WriteString(d.String() + "\n")
	}
	return b.String()
}
