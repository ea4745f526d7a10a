package rulebook_test

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// firm is a random organisation, and where each of its people and memberships is told.
type firm struct {
	r       *rand.Rand
	users   int
	groups  int
	in      [][]bool // by source and user: whether the source has the user
	within  [][]bool // by group and group: inner directly in outer
	member  [][]bool // by user and group: directly
	methods [][]string
	risk    []string

	csv, block strings.Builder
}

const (
	fromSCIM = iota
	fromCSV
	fromLDIF
	fromBlock
	sources
)

func newFirm(seed uint64) *firm {
	f := &firm{r: rand.New(rand.NewPCG(seed, 77))}
	f.users, f.groups = 1+f.r.IntN(8), 1+f.r.IntN(7)
	square := func(n, m int) [][]bool {
		list := make([][]bool, n)
		for i := range list {
			list[i] = make([]bool, m)
		}
		return list
	}
	f.in, f.within, f.member = square(sources, f.users), square(f.groups, f.groups), square(f.users, f.groups)
	for u := range f.users {
		f.in[f.r.IntN(sources)][u] = true
		for s := range sources {
			f.in[s][u] = f.in[s][u] || f.r.IntN(3) == 0
		}
		f.methods = append(f.methods, nil)
		f.risk = append(f.risk, []string{"", "low", "high"}[f.r.IntN(3)])
	}
	return f
}

// sourcesOf are the sources that have a user.
func (f *firm) sourcesOf(u int) (list []int) {
	for s := range sources {
		if f.in[s][u] {
			list = append(list, s)
		}
	}
	return list
}

// times is how often something is stated.
func (f *firm) times() int { return 1 + f.r.IntN(4) }

// state adds an item to what a source states, where it may stand already; a block would warn of that.
func state(source int, list *[]string, item string) {
	if source != fromBlock || !slices.Contains(*list, item) {
		*list = append(*list, item)
	}
}

// tell spreads memberships, methods and risks over the sources, and writes their files.
func (f *firm) tell() map[string]string {
	var userGroups [sources][][]string // the groups that the user's own record names
	var groupMembers [sources][][]string
	for s := range sources {
		userGroups[s], groupMembers[s] = make([][]string, f.users), make([][]string, f.groups)
	}
	methods := make([][sources][]string, f.users)
	risks := make([][sources]string, f.users)
	for u := range f.users {
		at := f.sourcesOf(u)
		pick := func() int { return at[f.r.IntN(len(at))] }
		for g := range f.groups {
			if f.r.IntN(3) > 0 {
				continue
			}
			f.member[u][g] = true
			for range f.times() {
				if s := pick(); f.r.IntN(2) == 0 && s != fromCSV {
					state(s, &groupMembers[s][g], fmt.Sprint("u", u))
				} else {
					state(s, &userGroups[s][u], fmt.Sprint("g", g))
				}
			}
		}
		for _, m := range []string{"password", "passkey", "push"} {
			for range f.r.IntN(5) {
				if s := pick(); s != fromLDIF {
					state(s, &methods[u][s], m)
					if !slices.Contains(f.methods[u], m) {
						f.methods[u] = append(f.methods[u], m)
					}
				}
			}
		}
		stated := ""
		for _, s := range at {
			if s != fromLDIF && f.r.IntN(2) == 0 { // all that state it agree
				risks[u][s], stated = f.risk[u], f.risk[u]
			}
		}
		f.risk[u] = stated
	}
	for outer := range f.groups {
		for inner := range outer {
			if f.r.IntN(4) == 0 {
				f.within[inner][outer] = true
				for range f.times() {
					s := []int{fromSCIM, fromLDIF, fromBlock}[f.r.IntN(3)]
					state(s, &groupMembers[s][outer], fmt.Sprint("g", inner))
				}
			}
		}
	}
	return f.files(&userGroups, &groupMembers, methods, risks)
}

func (f *firm) files(userGroups, groupMembers *[sources][][]string, methods [][sources][]string, risks [][sources]string) map[string]string {
	var scim, ldif []string
	f.csv.WriteString("risk,methods,id,groups\n")
	quoted := func(list []string, form string) string {
		for i := range list {
			list[i] = fmt.Sprintf(form, list[i], list[i])
		}
		return strings.Join(list, ",")
	}
	for u := range f.users {
		if f.in[fromSCIM][u] {
			scim = append(scim, fmt.Sprintf(`{"id":"id-u%d","userName":"u%d","groups":[%s],"urn:brisk-warden:params:scim:schemas:SignOn":{"methods":[%s],"risk":%q}}`, u, u,
				quoted(slices.Clone(userGroups[fromSCIM][u]), `{"value":"id-%s","display":"%s"}`), quoted(methods[u][fromSCIM], `"%s"%.0s`), risks[u][fromSCIM]))
		}
		if f.in[fromCSV][u] {
			fmt.Fprintf(&f.csv, "%s,%s,u%d,%s\n", risks[u][fromCSV], strings.Join(methods[u][fromCSV], ";"), u, strings.Join(userGroups[fromCSV][u], ";"))
		}
		if f.in[fromLDIF][u] {
			entry := fmt.Sprintf("dn: uid=u%d,dc=x\nobjectClass: person\nuid: u%d\n", u, u)
			for _, g := range userGroups[fromLDIF][u] {
				entry += "memberOf: CN=" + g + ", dc=x\n"
			}
			ldif = append(ldif, entry)
		}
		if f.in[fromBlock][u] {
			fmt.Fprintf(&f.block, "user u%d {", u)
			if g := userGroups[fromBlock][u]; len(g) > 0 {
				fmt.Fprintf(&f.block, " groups %s", strings.Join(g, ", "))
			}
			if m := methods[u][fromBlock]; len(m) > 0 {
				fmt.Fprintf(&f.block, " methods %s", strings.Join(m, ", "))
			}
			if risks[u][fromBlock] != "" {
				fmt.Fprintf(&f.block, " risk %s", risks[u][fromBlock])
			}
			f.block.WriteString(" }\n")
		}
	}
	for g := range f.groups {
		if f.r.IntN(2) == 0 || len(groupMembers[fromSCIM][g]) > 0 || f.referred(fromSCIM, g, groupMembers) {
			scim = append(scim, fmt.Sprintf(`{"schemas":["urn:ietf:params:scim:schemas:core:2.0:Group"],"id":"id-g%d","displayName":"g%d","members":[%s]}`, g, g,
				quoted(slices.Clone(groupMembers[fromSCIM][g]), `{"value":"id-%s","display":"%s"}`)))
		}
		if len(groupMembers[fromLDIF][g]) > 0 || f.referred(fromLDIF, g, groupMembers) {
			entry := fmt.Sprintf("dn: cn=g%d,dc=x\nobjectClass: groupOfNames\ncn: g%d\n", g, g)
			for _, m := range groupMembers[fromLDIF][g] {
				kind := map[bool]string{true: "uid", false: "cn"}[m[0] == 'u']
				entry += "member: " + kind + "=" + strings.ToUpper(m) + ",DC=x\n"
			}
			ldif = append(ldif, entry)
		}
		fmt.Fprintf(&f.block, "group g%d {", g)
		for i, m := range groupMembers[fromBlock][g] {
			fmt.Fprintf(&f.block, "%s %s %s", map[bool]string{true: ",", false: ""}[i > 0], map[bool]string{true: "user", false: "group"}[m[0] == 'u'], m)
		}
		f.block.WriteString(" }\n")
	}
	f.r.Shuffle(len(scim), func(i, j int) { scim[i], scim[j] = scim[j], scim[i] })
	f.r.Shuffle(len(ldif), func(i, j int) { ldif[i], ldif[j] = ldif[j], ldif[i] })
	return map[string]string{"a.jsonl": strings.Join(scim, "\n"), "b.csv": f.csv.String(), "c.ldif": "version: 1\n\n" + strings.Join(ldif, "\n")}
}

// referred reports whether a source names the group as a member, and so must have it.
func (f *firm) referred(source, g int, groupMembers *[sources][][]string) bool {
	return slices.ContainsFunc(groupMembers[source], func(list []string) bool { return slices.Contains(list, fmt.Sprint("g", g)) })
}

// TestCensusAgreesWithTheFirm spreads random organisations over SCIM, CSV, LDIF and blocks, in any
// order and stating everything up to four times, and expects them whole again.
func TestCensusAgreesWithTheFirm(t *testing.T) {
	for seed := range uint64(400) {
		f := newFirm(seed)
		files := f.tell()
		order := []string{`"a.jsonl"`, `"b.csv"`, `"c.ldif"`}
		f.r.Shuffle(3, func(i, j int) { order[i], order[j] = order[j], order[i] })
		rb := load("directory "+strings.Join(order, ", "), f.block.String(), files)
		require.NoError(t, rb.Diagnostics.Err(), "seed %d\n%v\n%s", seed, files, f.block.String())
		require.Empty(t, rb.Diagnostics, "seed %d: nobody is missing\n%v", seed, files)
		for range f.groups { // the transitive closure
			for a := range f.groups {
				for b := range f.groups {
					for c := range f.groups {
						f.within[a][c] = f.within[a][c] || f.within[a][b] && f.within[b][c]
					}
				}
			}
		}
		require.Len(t, rb.People, f.users)
		for u := range f.users {
			id := fmt.Sprint("u", u)
			var want []string
			for g := range f.groups {
				holds := f.member[u][g]
				for inner := range f.groups {
					holds = holds || f.member[u][inner] && f.within[inner][g]
				}
				if holds {
					want = append(want, fmt.Sprint("g", g))
				}
			}
			slices.Sort(want)
			require.Equal(t, want, groupsOf(rb, id), "seed %d, %s\n%v\n%s", seed, id, files, f.block.String())
			require.ElementsMatch(t, f.methods[u], methodsOf(rb, id))
			if f.risk[u] == "" {
				f.risk[u] = "none"
			}
			require.Equal(t, f.risk[u], rb.People[id].Risk)
		}
	}
}
