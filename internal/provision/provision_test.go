package provision

import (
	"testing"

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
