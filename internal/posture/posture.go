// Package posture has devices as an inventory knows them.
package posture

import (
	"cmp"

	"briskwarden.example/briskwarden/signon"
)

// Record is what an inventory knows of a device.
type Record struct {
	signon.Device
	Owner string // a user's id; empty is unknown
	File  string // where it stands
	Line  int
}

// Words are the fields of a device that are words, by name.
func Words(d *signon.Device) map[string]*string {
	words := make(map[string]*string, len(signon.DeviceWords))
	for _, w := range signon.DeviceWords {
		words[w.Name] = w.Of(d)
	}
	return words
}

// Flags are the fields of a device that are yes or no, by name.
func Flags(d *signon.Device) map[string]*signon.YesNo {
	flags := make(map[string]*signon.YesNo, len(signon.DeviceFlags))
	for _, f := range signon.DeviceFlags {
		flags[f.Name] = f.Of(d)
	}
	return flags
}

// Fields are all fields of a record, by name.
var Fields = func() (names []string) {
	for _, w := range signon.DeviceWords {
		names = append(names, w.Name)
	}
	for _, f := range signon.DeviceFlags {
		names = append(names, f.Name)
	}
	return append(names, "reported", "owner")
}()

// Merge adds to what a sign-on states of a device what the inventory knows of it: of managed,
// compliant, registered and the owner the inventory's word stands; of every other field what
// the sign-on states wins. Attributes stay apart: which of them a sign-on may state is the
// rulebook's word.
func Merge(stated *signon.Device, known *Record) {
	for i := range signon.DeviceFlags {
		flag := &signon.DeviceFlags[i]
		if theirs := *flag.Of(&known.Device); theirs != signon.Unknown && (flag.Inventory || *flag.Of(stated) == signon.Unknown) {
			*flag.Of(stated) = theirs
		}
	}
	stated.OS = cmp.Or(stated.OS, known.OS)
	stated.Version = cmp.Or(stated.Version, known.Version)
	stated.Form = cmp.Or(stated.Form, known.Form)
	if stated.Reported.IsZero() {
		stated.Reported = known.Reported
	}
}
