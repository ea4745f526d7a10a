package service

import "time"

// Hasten has all services of the process try messages again, and take over those of other processes, after a short time.
func Hasten(after time.Duration) {
	pause, left = func(int) time.Duration { return after }, after
}

// BreakReaders has whatever reads a request panic.
func (s *Service) BreakReaders() {
	for range cap(s.readers) {
		<-s.readers
		s.readers <- nil
	}
}
