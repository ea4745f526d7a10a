package fastlog

// Memory that is handed out in pieces, and given back as a whole.

import (
	"slices"
	"strings"

	"briskwarden.example/briskwarden/signon"
)

// Arena is memory for what lines read by a [Reader] point to, handed out piece by piece and given back
// as a whole. Its zero value is ready for use.
type Arena struct {
	devices  slab[signon.Device]
	methods  slab[string]
	evidence slab[signon.Evidence]
	texts    *strings.Builder // of many texts
}

// Free lets the arena serve again: nothing that was read into it is used any more.
func (a *Arena) Free() {
	a.devices.free, a.methods.free, a.evidence.free = a.devices.all, a.methods.all, a.evidence.all
}

// slab hands out values of a kind from memory that it asks for in ever larger pieces.
type slab[T any] struct{ all, free []T }

// take hands out some values, which may hold anything.
func (s *slab[T]) take(n int) []T {
	if n > len(s.free) {
		const least = 64
		s.all = make([]T, max(least, n, 2*len(s.all)))
		s.free = s.all
	}
	given := s.free[:n:n]
	s.free = s.free[n:]
	return given
}

func (s *slab[T]) copies(list []T) []T {
	copied := s.take(len(list))
	copy(copied, list)
	return copied
}

func (a *Arena) device() *signon.Device {
	if a == nil {
		return new(signon.Device)
	}
	d := &a.devices.take(1)[0]
	*d = signon.Device{}
	return d
}

func (a *Arena) copyMethods(list []string) []string {
	if a == nil {
		return slices.Clone(list)
	}
	return a.methods.copies(list)
}

func (a *Arena) copyEvidence(list []signon.Evidence) []signon.Evidence {
	if a == nil {
		return slices.Clone(list)
	}
	return a.evidence.copies(list)
}

// text is a string of these characters. It does not serve again, but shares its memory with others.
func (a *Arena) text(b []byte) string {
	const piece = 4 << 10
	if a == nil || len(b) > piece/8 {
		return string(b)
	}
	if a.texts == nil || a.texts.Cap()-a.texts.Len() < len(b) {
		a.texts = &strings.Builder{}
		a.texts.Grow(piece)
	}
	n := a.texts.Len()
	a.texts.Write(b)
	return a.texts.String()[n:]
}
