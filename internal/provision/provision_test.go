package provision

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	scim "github.com/scim2/filter-parser/v2"
	"github.com/stretchr/testify/require"
)

// FuzzResources states, changes and selects resources by anything: what is accepted can be told, changed to itself, and
// read again.
func FuzzResources(f *testing.F) {
	const user = `{"schemas":["urn:ietf:params:scim:schemas:core:2.0:User"],"userName":"ann","active":true,"emails":[{"value":"a@x.example","type":"work","primary":true}],
	 "urn:brisk-warden:params:scim:schemas:SignOn":{"methods":["password"]}}`
	f.Add(user, `{"schemas":["urn:ietf:params:scim:api:messages:2.0:PatchOp"],"Operations":[{"op":"replace","path":"emails[type eq \"work\"].value","value":"b"},{"op":"add","value":{"nickName":"x"}}]}`, `userName eq "ann"`)
	f.Add(user, `{"schemas":["urn:ietf:params:scim:api:messages:2.0:PatchOp"],"Operations":[{"op":"remove","path":"emails"},{"op":"add","path":"emails","value":{"value":"x"}}]}`, `not (emails[type eq "work" and value co "@"]) or meta.created gt "2020-01-01T00:00:00Z"`)
	f.Add(user, `{"Operations":[{"op":"add","path":"urn:ietf:params:scim:schemas:extension:enterprise:2.0:User:manager.value","value":"7"}]}`, `groups.display pr`)
	f.Fuzz(func(t *testing.T, body, patch, filter string) {
		r, err := Users.Read([]byte(body))
		if err != nil {
			return
		}
		tell := func(r Resource) Resource {
			return Users.Tell(&Found{ID: "1", Version: 1, Resource: r}, "https://x.example")
		}
		if selects, err := Users.ParseFilter(filter); err == nil {
			selects.Selects(tell(r))
		}
		if operations, err := ReadPatch([]byte(patch)); err == nil {
			if changed, err := Users.Patch(r, operations); err == nil {
				r = changed
			}
		}
		again, err := Users.canonical(tell(r))
		require.Nil(t, err)
		require.Equal(t, r, again)
	})
}

// TestLongLists adds to long lists, and takes out of them, in a time that grows with their length.
func TestLongLists(t *testing.T) {
	timed := func(n int) time.Duration {
		var list, other []any
		for i := range n {
			list = append(list, map[string]any{"value": fmt.Sprint(i)})
			other = append(other, map[string]any{"value": fmt.Sprint(i + n/2)})
		}
		shortest := time.Hour
		for range 5 {
			begun := time.Now()
			r, err := Groups.Patch(Resource{"displayName": "crew"}, []Operation{{Op: "add", Value: map[string]any{"members": list}}, {Op: "add", Value: map[string]any{"members": other}}})
			require.Nil(t, err)
			require.Len(t, r["members"], n+n/2)
			path, wrong := scim.ParsePath([]byte("members"))
			require.NoError(t, wrong)
			r, err = Groups.Patch(r, []Operation{{Op: "remove", Path: &path, Value: slices.Clone(list)}})
			require.Nil(t, err)
			require.Len(t, r["members"], n/2)
			shortest = min(shortest, time.Since(begun))
		}
		return shortest
	}
	small := timed(2000)
	require.Less(t, timed(8000), 10*small, "four times as long a list")
}

// TestResourcesAreBounded grows a resource, change by change, until it is refused.
func TestResourcesAreBounded(t *testing.T) {
	r := Resource{"userName": "ann"}
	var many []any
	for i := range mostValues {
		many = append(many, map[string]any{"value": fmt.Sprint(i)})
	}
	r, err := Users.Patch(r, []Operation{{Op: "add", Value: map[string]any{"emails": many}}})
	require.Nil(t, err)
	_, err = Users.Patch(r, []Operation{{Op: "add", Value: map[string]any{"emails": []any{map[string]any{"value": "more"}}}}})
	require.ErrorContains(t, err, "more than 1000 values")
	long := strings.Repeat("x", mostText)
	_, err = Users.Patch(r, []Operation{{Op: "add", Value: map[string]any{"title": long + "x"}}})
	require.ErrorContains(t, err, "longer than")
	for i := range 40 {
		photo := []Operation{{Op: "add", Value: map[string]any{"photos": []any{map[string]any{"value": fmt.Sprint(i, long[20:])}}}}}
		changed, err := Users.Patch(r, photo)
		if err != nil {
			require.Equal(t, 413, err.Status)
			return
		}
		r = changed
	}
	t.Error("it grew to more than 1 MiB")
}
