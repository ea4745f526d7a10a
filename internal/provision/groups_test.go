package provision_test

import (
	"strings"
	"testing"

	"github.com/go-json-experiment/json"
	"github.com/stretchr/testify/require"

	"briskwarden.example/briskwarden/internal/provision"
)

// FuzzGroupPatches: a change of a group's members that is acknowledged names each by its value, and what it removes is gone. It
// makes no members that are groups, and no changes that the store refuses.
func FuzzGroupPatches(f *testing.F) {
	for _, change := range []string{`{"op":"remove","path":"members","value":[{"value":"a"}]}`, `{"op":"remove","path":"members","value":[{"display":"x"}]}`,
		`{"op":"Remove","path":"members[value eq \"b\"]"}`, `{"op":"replace","value":{"members":[{"value":"c"}],"Members":[]}}`, `{"op":"add","path":"members","value":{"$ref":"a"}}`,
		`{"op":"replace","path":"members","value":[{}]}`, `{"op":"remove","path":"members"},{"op":"add","path":"members","value":[{"value":"a"},{"value":"a"}]}`} {
		f.Add([]byte(change))
	}
	f.Fuzz(func(t *testing.T, change []byte) {
		operations, wrong := provision.ReadPatch([]byte(`{"schemas":["` + provision.PatchSchema + `"],"Operations":[` + string(change) + `]}`))
		if wrong != nil {
			return
		}
		before, wrong := provision.Groups.Read([]byte(`{"schemas":["` + provision.GroupSchema + `"],"displayName":"deck","members":[{"value":"a"},{"value":"b"}]}`))
		require.Nil(t, wrong)
		after, wrong := provision.Groups.Patch(before, operations)
		if wrong != nil {
			return
		}
		members := map[string]bool{}
		list, _ := after["members"].([]any)
		for _, m := range list {
			id, _ := m.(provision.Resource)["value"].(string)
			require.NotEmpty(t, id, "%s: %v", change, after)
			members[id] = true
		}
		if len(operations) != 1 || operations[0].Op != "remove" || operations[0].Path == nil || operations[0].Path.String() != "members" {
			return
		}
		stated, _ := operations[0].Value.([]any)
		for _, one := range stated {
			o, is := one.(map[string]any)
			require.True(t, is, "%s", change)
			text, err := json.Marshal(o)
			require.NoError(t, err)
			named := false
			for name, id := range o {
				if id, is := id.(string); is && strings.EqualFold(name, "value") {
					named = named || !members[id]
				}
			}
			require.True(t, named, "%s is acknowledged, and removes nobody", text)
		}
	})
}
