package search

// What a witness can do without.

import (
	"maps"
	"slices"

	"briskwarden.example/briskwarden/signon"
)

// simplify leaves out what can be left out while the sign-on comes to the same, and has the person prove
// herself by what she is enrolled in where that does as well.
func (h *Hit) simplify(enrolled []string, same func(*signon.SignOn) bool) {
	try := func(edit func(*signon.SignOn)) {
		so := clone(&h.SignOn)
		if edit(&so); same(&so) {
			h.SignOn = so
		}
	}
	for i := len(h.SignOn.Evidence) - 1; i >= 0; i-- {
		try(func(so *signon.SignOn) { so.Evidence = slices.Delete(so.Evidence, i, i+1) })
	}
	for i := len(h.SignOn.Evidence) - 1; i >= 0; i-- {
		try(func(so *signon.SignOn) {
			so.Presented = append(so.Presented, so.Evidence[i].Method)
			slices.Sort(so.Presented)
			so.Evidence = slices.Delete(so.Evidence, i, i+1)
		})
	}
	for i := len(h.SignOn.Presented) - 1; i >= 0; i-- {
		try(func(so *signon.SignOn) { so.Presented = slices.Delete(so.Presented, i, i+1) })
	}
	for i, method := range h.SignOn.Presented {
		for _, own := range enrolled {
			if slices.Contains(enrolled, method) || slices.Contains(h.SignOn.Presented, own) {
				continue
			}
			try(func(so *signon.SignOn) { so.Presented[i] = own })
			if h.SignOn.Presented[i] == own {
				break
			}
		}
	}
	slices.Sort(h.SignOn.Presented)
	try(func(so *signon.SignOn) { so.Session = signon.Session{} })
	if h.SignOn.Device != nil {
		try(func(so *signon.SignOn) { so.Device = nil })
	}
	if h.SignOn.Device != nil {
		h.simplifyDevice(try)
	}
	for _, name := range slices.Sorted(maps.Keys(h.SignOn.Properties)) {
		try(func(so *signon.SignOn) { delete(so.Properties, name) })
	}
	try(func(so *signon.SignOn) { so.Client = "" })
	try(func(so *signon.SignOn) { so.Risk = nil })
	try(func(so *signon.SignOn) { so.Country = "" })
	for _, name := range slices.Sorted(maps.Keys(h.SignOn.Suppose)) {
		if h.SignOn.Suppose[name] == nil {
			try(func(so *signon.SignOn) { delete(so.Suppose, name) })
		}
	}
}

func (h *Hit) simplifyDevice(try func(func(*signon.SignOn))) {
	for i := range signon.DeviceFlags {
		try(func(so *signon.SignOn) { *signon.DeviceFlags[i].Of(so.Device) = signon.Unknown })
	}
	try(func(so *signon.SignOn) { so.Device.OS = "" })
	try(func(so *signon.SignOn) { so.Device.Version = "" })
	try(func(so *signon.SignOn) { so.Device.Form = "" })
	for _, name := range slices.Sorted(maps.Keys(h.SignOn.Device.Attributes)) {
		try(func(so *signon.SignOn) { delete(so.Device.Attributes, name) })
	}
}

// clone copies a sign-on, so that the copy can be changed.
func clone(so *signon.SignOn) signon.SignOn {
	c := *so
	c.Evidence, c.Presented = slices.Clone(so.Evidence), slices.Clone(so.Presented)
	c.Properties, c.Suppose = maps.Clone(so.Properties), maps.Clone(so.Suppose)
	if so.Device != nil {
		d := *so.Device
		d.Attributes = maps.Clone(d.Attributes)
		c.Device = &d
	}
	return c
}
