// Package posture has devices as an inventory knows them.
package posture

import "briskwarden.example/briskwarden/signon"

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

// Inventory looks devices up.
type Inventory interface {
	Device(id string) (Record, bool)
}

// Merge is what is known of a device that is in the inventory: of managed, compliant,
// registered and the owner the inventory's word stands; of every other field what the
// sign-on states wins. Attributes stay apart: which of them a sign-on may state is the
// rulebook's word.
func Merge(stated *signon.Device, known *Record) signon.Device {
	device := *stated
	overlay(&device, &known.Device)
	return device
}

func overlay(device, known *signon.Device) {
	for _, v := range [][2]*signon.YesNo{{&device.Managed, &known.Managed}, {&device.Compliant, &known.Compliant},
		{&device.Registered, &known.Registered}} {
		if *v[1] != signon.Unknown {
			*v[0] = *v[1]
		}
	}
	for _, v := range [][2]*signon.YesNo{{&device.Encrypted, &known.Encrypted}, {&device.Firewall, &known.Firewall},
		{&device.ScreenLock, &known.ScreenLock}, {&device.Jailbroken, &known.Jailbroken}} {
		if *v[0] == signon.Unknown {
			*v[0] = *v[1]
		}
	}
	for _, v := range [][2]*string{{&device.OS, &known.OS}, {&device.Version, &known.Version}, {&device.Form, &known.Form}} {
		if *v[0] == "" {
			*v[0] = *v[1]
		}
	}
	if device.Reported.IsZero() {
		device.Reported = known.Reported
	}
}
