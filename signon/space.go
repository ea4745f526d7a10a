package signon

import (
	"slices"
	"strings"
)

// Space is memory for what requests read by a [Reader] point to. Its zero value is ready for use.
type Space struct {
	devices  slab[Device]
	methods  slab[string]
	evidence slab[Evidence]
	texts    *strings.Builder // of many texts
}

// Free lets the space serve again: nothing that was read into it is used any more.
func (s *Space) Free() {
	s.devices.free, s.methods.free, s.evidence.free = s.devices.all, s.methods.all, s.evidence.all
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

func (s *Space) device() *Device {
	if s == nil {
		return new(Device)
	}
	d := &s.devices.take(1)[0]
	*d = Device{}
	return d
}

func (s *Space) copyMethods(list []string) []string {
	if s == nil {
		return slices.Clone(list)
	}
	return s.methods.copies(list)
}

func (s *Space) copyEvidence(list []Evidence) []Evidence {
	if s == nil {
		return slices.Clone(list)
	}
	return s.evidence.copies(list)
}

// text is a string of these characters. It does not serve again, but shares its memory with others.
func (s *Space) text(b []byte) string {
	const piece = 4 << 10
	if s == nil || len(b) > piece/8 {
		return string(b)
	}
	if s.texts == nil || s.texts.Cap()-s.texts.Len() < len(b) {
		s.texts = &strings.Builder{}
		s.texts.Grow(piece)
	}
	n := s.texts.Len()
	s.texts.Write(b)
	return s.texts.String()[n:]
}
