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

// userHistory is what is kept of one user: the sign-ons by time, each property in a list of its
// own, so that going through one of them touches little memory.
type userHistory struct {
	first   int      // of the sign-ons that are kept in full
	begin   int      // of the window, when it was last looked for
	at      []int64  // microseconds since 1970
	clocks  []uint32 // seconds since midnight on the wall
	devices []uint64 // hashes; 0 is unknown
	wheres  []where

	forgotten *forgotten // what is left of sign-ons that are no longer in the lists; nil is that there are none
}

// entry is one sign-on that was learned.
type entry struct {
	at     int64
	clock  uint32
	device uint64
	where
}

// where is where a sign-on was from.
type where struct {
	lat, long int32  // in millionths of a degree
	accuracy  uint16 // in kilometres; noPosition where there is none
	country   uint16 // both letters; 0 is unknown
}

const noPosition = math.MaxUint16

func (t *userHistory) clone() userHistory {
	i := t.first
	return userHistory{0, 0, slices.Clone(t.at[i:]), slices.Clone(t.clocks[i:]), slices.Clone(t.devices[i:]), slices.Clone(t.wheres[i:]), t.forgotten.clone()}
}

// add puts the entry where its time belongs. The oldest goes when there are too many, or when it
// is too old to matter.
func (t *userHistory) add(e entry) {
	for n := len(t.at) - t.first; n == mostEntries || n >= fewEntries && t.at[t.first] < t.at[len(t.at)-1]-keptFor.Microseconds(); n-- {
		if t.forgotten == nil {
			t.forgotten = newForgotten()
		}
		t.forgotten.take(entry{at: t.at[t.first], device: t.devices[t.first], where: t.wheres[t.first]}, n == mostEntries)
		t.first++
	}
	if len(t.at) == cap(t.at) {
		t.makeRoom()
	}
	i := len(t.at)
	t.at, t.clocks = append(t.at, e.at), append(t.clocks, e.clock)
	t.devices, t.wheres = append(t.devices, e.device), append(t.wheres, e.where)
	for ; i > t.first && t.at[i-1] > e.at; i-- {
		t.swap(i, i-1)
	}
}

func (t *userHistory) swap(i, j int) {
	t.at[i], t.at[j] = t.at[j], t.at[i]
	t.clocks[i], t.clocks[j] = t.clocks[j], t.clocks[i]
	t.devices[i], t.devices[j] = t.devices[j], t.devices[i]
	t.wheres[i], t.wheres[j] = t.wheres[j], t.wheres[i]
}

// makeRoom moves the entries that are kept to the beginning of their lists, or to longer lists.
func (t *userHistory) makeRoom() {
	room := min(max(8, 2*cap(t.at)), mostEntries+spare)
	t.at, t.clocks = moved(t.at, t.first, room), moved(t.clocks, t.first, room)
	t.devices, t.wheres = moved(t.devices, t.first, room), moved(t.wheres, t.first, room)
	t.first = 0
}

// window is where the sign-ons before the end begin that are not before an instant. Time mostly
// goes on, so that it is looked for where it was.
func (t *userHistory) window(end int, from int64) int {
	i := min(max(t.begin, t.first), end)
	for i < end && t.at[i] < from {
		i++
	}
	for i > t.first && t.at[i-1] >= from {
		i--
	}
	t.begin = i
	return i
}

func moved[T any](list []T, first, room int) []T {
	if room > cap(list) {
		return append(make([]T, 0, room), list[first:]...)
	}
	return list[:copy(list[:cap(list)], list[first:])]
}
