package history

// What is kept of one user.

import (
	"math"
	"slices"
	"time"
)

// The bounds of what is kept of one user in full: the last sign-ons; when there are more than a
// few, those alone that are not much older than the last one.
const (
	mostEntries = 2048
	fewEntries  = 512
	keptFor     = Window + 30*24*time.Hour
)

// spare is the room beyond the last sign-ons: once it is used up, they move to a new list.
const spare = 64

// BytesPerUser is the most memory that the history of one user takes, its id not counted: of
// one who signs on more than seventeen times a day.
const BytesPerUser = (mostEntries+spare)*entrySize + forgottenSize

const entrySize = 32 // held to the structs by a test

// userHistory is what is kept of one user.
type userHistory struct {
	first   int     // of the sign-ons that are kept in full
	begin   int     // of the window, when it was last looked for
	entries []entry // by time

	forgotten *forgotten // what is left of sign-ons that are no longer in the list; nil is that there are none
}

// entry is one sign-on that was learned.
type entry struct {
	at     int64  // microseconds since 1970
	device uint64 // a hash; 0 is unknown
	where
	clock uint32 // seconds since midnight on the wall
}

// where is where a sign-on was from.
type where struct {
	lat, long int32  // in millionths of a degree
	accuracy  uint16 // in kilometres; noPosition where there is none
	country   uint16 // both letters; 0 is unknown
}

const noPosition = math.MaxUint16

func (t *userHistory) clone() userHistory {
	return userHistory{entries: slices.Clone(t.entries[t.first:]), forgotten: t.forgotten.clone()}
}

// add puts the entry where its time belongs. The oldest goes when there are too many, or when it
// is too old to matter.
func (t *userHistory) add(e entry) {
	for n := len(t.entries) - t.first; n == mostEntries || n >= fewEntries && t.entries[t.first].at < t.entries[len(t.entries)-1].at-keptFor.Microseconds(); n-- {
		if t.forgotten == nil {
			t.forgotten = newForgotten()
		}
		t.forgotten.take(t.entries[t.first], n == mostEntries)
		t.first++
	}
	if len(t.entries) == cap(t.entries) {
		t.makeRoom()
	}
	i := len(t.entries)
	t.entries = append(t.entries, e)
	for ; i > t.first && t.entries[i-1].at > e.at; i-- {
		t.entries[i], t.entries[i-1] = t.entries[i-1], t.entries[i]
	}
}

// makeRoom moves the entries that are kept to the beginning of their list, or to a longer one.
func (t *userHistory) makeRoom() {
	kept := t.entries[t.first:]
	if room := min(max(8, 2*cap(t.entries)), mostEntries+spare); room > cap(t.entries) {
		t.entries = append(make([]entry, 0, room), kept...)
	} else {
		t.entries = t.entries[:copy(t.entries, kept)]
	}
	t.first, t.begin = 0, 0
}

// window is where the sign-ons before the end begin that are not before an instant. Time mostly
// goes on, so that it is looked for where it was.
func (t *userHistory) window(end int, from int64) int {
	i := min(max(t.begin, t.first), end)
	for i < end && t.entries[i].at < from {
		i++
	}
	for i > t.first && t.entries[i-1].at >= from {
		i--
	}
	t.begin = i
	return i
}
