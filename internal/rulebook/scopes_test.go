package rulebook_test

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/require"

	"briskwarden.example/briskwarden/internal/rulebook"
)

// TestScopesAgainstModel puts random scopes to random sets, and works out by the reference
// which set names what, and what they weigh.
func TestScopesAgainstModel(t *testing.T) {
	words := []string{"a.read", "a.write", "a.", "a", "ab.read", "b.read", "b.*x", "mail"}
	patterns := append([]string{"a.*", "a*", "b.*", "*"}, words...)
	for seed := range uint64(200) {
		dice := rand.New(rand.NewPCG(seed, 9))
		type set struct {
			items  []string
			weight int
		}
		sets, text := map[string]*set{}, "rulebook r { }\n"
		own := 100
		for i := range 1 + dice.IntN(4) {
			s := &set{weight: 20}
			var quoted []string
			for range 1 + dice.IntN(3) {
				if item := patterns[dice.IntN(len(patterns))]; !slices.Contains(s.items, item) && !strings.Contains(strings.TrimSuffix(item, "*"), "*") {
					s.items = append(s.items, item)
					quoted = append(quoted, fmt.Sprintf("%q", item))
				}
			}
			weight := ""
			if dice.IntN(2) == 0 {
				s.weight = dice.IntN(101)
				weight = fmt.Sprintf("weight %d ", s.weight)
			}
			if len(quoted) == 0 {
				continue
			}
			name := fmt.Sprintf("s%d", i)
			sets[name] = s
			text += fmt.Sprintf("scopes %s %s{ %s }\n", name, weight, strings.Join(quoted, ", "))
		}
		if dice.IntN(3) == 0 {
			own = dice.IntN(101)
			text += fmt.Sprintf("scopes unclassified weight %d { }\n", own)
		}
		rb := rulebook.Load(fstest.MapFS{"rulebook.warden": {Data: []byte(text)}}, rulebook.Options{})
		require.NoError(t, rb.Diagnostics.Err(), text)
		var asked []string
		for range dice.IntN(5) {
			asked = append(asked, words[dice.IntN(len(words))])
		}
		names := func(s *set, scope string) bool {
			return slices.ContainsFunc(s.items, func(item string) bool {
				stem, ending := strings.CutSuffix(item, "*")
				return item == scope || ending && strings.HasPrefix(scope, stem)
			})
		}
		want, weight := map[string][]string{}, 0
		for _, scope := range asked {
			classified := false
			for name, s := range sets {
				if names(s, scope) {
					want[name] = append(want[name], scope)
					classified = true
				}
			}
			if !classified {
				want["unclassified"] = append(want["unclassified"], scope)
			}
		}
		for name := range want {
			if name == "unclassified" {
				weight += own
			} else {
				weight += sets[name].weight
			}
		}
		got := map[string][]string{}
		list := rb.Classify(asked)
		for i, c := range list {
			got[c.Name] = c.Scopes
			require.True(t, c.Name != "unclassified" || i == len(list)-1, "what no set names comes last")
		}
		require.Equal(t, want, got, "%s\n%v", text, asked)
		require.Equal(t, min(weight, 100), rb.Weigh(asked), "%s\n%v", text, asked)
	}
}
