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
	return map[string]*string{"id": &d.ID, "os": &d.OS, "version": &d.Version, "form": &d.Form}
}

// Flags are the fields of a device that are yes or no, by name.
func Flags(d *signon.Device) map[string]*signon.YesNo {
	return map[string]*signon.YesNo{"managed": &d.Managed, "compliant": &d.Compliant, "registered": &d.Registered,
		"encrypted": &d.Encrypted, "firewall": &d.Firewall, "screenlock": &d.ScreenLock, "jailbroken": &d.Jailbroken}
}

// Fields are all fields of a record, by name.
var Fields = []string{"id", "os", "version", "form", "managed", "compliant", "registered", "encrypted", "firewall", "screenlock", "jailbroken",
	"reported", "owner"}

// Merge adds to what a sign-on states of a device what the inventory knows of it: of managed,
// compliant, registered and the owner the inventory's word stands; of every other field what
// the sign-on states wins. Attributes stay apart: which of them a sign-on may state is the
// rulebook's word.
func Merge(stated *signon.Device, known *Record) {
	stated.Managed = cmp.Or(known.Managed, stated.Managed)
	stated.Compliant = cmp.Or(known.Compliant, stated.Compliant)
	stated.Registered = cmp.Or(known.Registered, stated.Registered)
	stated.Encrypted = cmp.Or(stated.Encrypted, known.Encrypted)
	stated.Firewall = cmp.Or(stated.Firewall, known.Firewall)
	stated.ScreenLock = cmp.Or(stated.ScreenLock, known.ScreenLock)
	stated.Jailbroken = cmp.Or(stated.Jailbroken, known.Jailbroken)
	stated.OS = cmp.Or(stated.OS, known.OS)
	stated.Version = cmp.Or(stated.Version, known.Version)
	stated.Form = cmp.Or(stated.Form, known.Form)
	if stated.Reported.IsZero() {
		stated.Reported = known.Reported
	}
}
