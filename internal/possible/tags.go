package possible

// How apps are told apart.

import (
	"fmt"
	"slices"

	"briskwarden.example/briskwarden/internal/fact"
)

// TagsOf tells apps apart as far as comparisons do: two with the same answer are alike in all facts.
func (w *World) TagsOf(app string) string {
	key := ""
	w.each(func(l *leaf) {
		if l.Fact.Slot != fact.Tag {
			return
		}
		a := l.side.rb.Apps[app]
		key += fmt.Sprint(a != nil && slices.ContainsFunc(l.Sets, func(id int) bool { return slices.Contains(a.Tags, id) }))
	})
	return key
}
