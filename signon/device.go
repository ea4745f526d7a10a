package signon

// Devices, and the tables of their fields.

import "time"

// Device is what a sign-on states of the device that it comes from.
type Device struct {
	ID         string
	OS         string
	Version    string // dotted, compared number by number
	Form       string // such as desktop, laptop, tablet, mobile
	Managed    YesNo
	Compliant  YesNo
	Registered YesNo
	Encrypted  YesNo
	Firewall   YesNo
	ScreenLock YesNo
	Jailbroken YesNo
	Reported   time.Time      // when the device last reported this
	Attributes map[string]any // values (string, bool, float64) for device attributes declared "from request"
}

// DeviceFlag is a yes-no field of a device.
type DeviceFlag struct {
	Name string // in JSON, and behind "device." in the language
	Of   func(*Device) *YesNo

	// Inventory says that the inventory's word stands against the sign-on's, and that the field is no
	// where neither says anything of a device.
	Inventory bool
}

// DeviceFlags are all yes-no fields of a device.
var DeviceFlags = [...]DeviceFlag{
	{"managed", func(d *Device) *YesNo { return &d.Managed }, true},
	{"compliant", func(d *Device) *YesNo { return &d.Compliant }, true},
	{"registered", func(d *Device) *YesNo { return &d.Registered }, true},
	{"encrypted", func(d *Device) *YesNo { return &d.Encrypted }, false},
	{"firewall", func(d *Device) *YesNo { return &d.Firewall }, false},
	{"screenlock", func(d *Device) *YesNo { return &d.ScreenLock }, false},
	{"jailbroken", func(d *Device) *YesNo { return &d.Jailbroken }, false},
}

// DeviceWord is a field of a device that is a word.
type DeviceWord struct {
	Name string // in JSON, and behind "device." in the language
	Of   func(*Device) *string
}

// DeviceWords are all fields of a device that are words, its id first.
var DeviceWords = [...]DeviceWord{
	{"id", func(d *Device) *string { return &d.ID }},
	{"os", func(d *Device) *string { return &d.OS }},
	{"version", func(d *Device) *string { return &d.Version }},
	{"form", func(d *Device) *string { return &d.Form }},
}

// words are what stands in the fields of DeviceWords, in their order: quicker than to ask each for its own.
func (d *Device) words() [len(DeviceWords)]string { return [...]string{d.ID, d.OS, d.Version, d.Form} }

// flags are what stands in the fields of DeviceFlags, in their order.
func (d *Device) flags() [len(DeviceFlags)]YesNo {
	return [...]YesNo{d.Managed, d.Compliant, d.Registered, d.Encrypted, d.Firewall, d.ScreenLock, d.Jailbroken}
}
