package spell_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"briskwarden.example/briskwarden/internal/spell"
)

func TestAlike(t *testing.T) {
	alike := func(a, b string) bool { return spell.Skeleton(a) == spell.Skeleton(b) }
	for _, pair := range [][2]string{
		{"tidy-notes", "tіdy-notes"}, // a Cyrillic i
		{"Tidy Notes", "tidynotes"}, {"tidy-notes", "tidy_notes"}, {"notes", "n0tes"}, {"bill", "biII"}, {"bill", "b1l1"},
		{"pay", "рау"}, {"wide", "ｗｉｄｅ"}, {"cafe", "café"}, {"no\u200btes", "notes"}, {"νοtes", "votes"},
	} {
		require.True(t, alike(pair[0], pair[1]), "%q and %q", pair[0], pair[1])
		require.True(t, alike(pair[1], pair[0]))
	}
	for _, pair := range [][2]string{{"notes", "note"}, {"tidy-notes", "tide-notes"}, {"pay", "bay"}, {"日本", "日木"}} {
		require.False(t, alike(pair[0], pair[1]), "%q and %q", pair[0], pair[1])
	}
}
