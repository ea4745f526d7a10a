package memory

// The order in which the state wrote things about a user. Clocks are set, and differ from each other: of two things that the
// state wrote itself, it counts which was first. A time alone counts where a stranger stated it.

import (
	"time"

	"briskwarden.example/briskwarden/internal/provision"
)

// rank is where in the order something was written: after the last mark that there was, of the user and of everybody. Zero is
// unknown, as it is of what an earlier version wrote.
type rank struct {
	User int64 `json:"n,omitempty"`
	All  int64 `json:"all_n,omitempty"`
}

// now is the rank after all marks that there are.
func (m *marks) now(all *provision.Everybody) rank {
	return rank{max(m.Count, 1), max(all.VoidedN, 1)}
}

// earlier is the earlier of two ranks, an unknown one before all others.
func (p rank) earlier(q rank) rank { return rank{min(p.User, q.User), min(p.All, q.All)} }

// next is the number of the next mark. It is taken from the clock where that is ahead, so that it comes again neither where an
// earlier version dropped the count nor where a backup was brought back.
func next(count int64, at time.Time) int64 { return max(count+1, at.UnixMicro()) }

// moment is when something was: where in the order, and by which time.
type moment struct {
	n      int64
	at     time.Time
	stated bool // the time is a stranger's, so that it counts beside the order
}

// precedes reports whether something was before a mark, or at the same time.
func (m moment) precedes(n int64, at time.Time) bool {
	if m.n > 0 && n > 0 && (m.n < n || !m.stated) {
		return m.n < n
	}
	return !m.at.IsZero() && !m.at.After(at)
}

// Stated is a time that somebody else stated, as it is kept and compared: never later than the time at which the state was read.
func Stated(at, read time.Time) time.Time {
	if at.After(read) {
		return read
	}
	return at
}
