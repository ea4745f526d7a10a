package possible

// On which devices.

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"briskwarden.example/briskwarden/internal/fact"
	"briskwarden.example/briskwarden/internal/posture"
	"briskwarden.example/briskwarden/signon"
)

// findDevices finds a device of each kind: none, one without an id, those of the inventories that
// nothing tells apart, and one that no inventory has.
func (w *World) findDevices() {
	a := w.axis(deviceAxis)
	a.add(true, func(*signon.SignOn) {})
	consider := func(id string) {
		a.add(false, func(so *signon.SignOn) { so.Device = &signon.Device{ID: id} })
	}
	consider("")
	named, ids := map[string]bool{}, map[string]bool{}
	var asked []*leaf // about what inventories have
	w.each(func(l *leaf) {
		switch {
		case l.Fact.Slot == fact.DeviceID:
			for _, id := range l.Words {
				named[id], ids[id] = true, true
			}
		case strings.HasPrefix(l.Fact.Name, "device."):
			asked = append(asked, l)
			w.owned = w.owned || l.Fact.Slot == fact.DeviceOwned
		}
	})
	var list []string
	for _, s := range w.sides {
		for id := range s.rb.Devices {
			ids[id] = true
		}
	}
	seen := map[string]bool{}
	for _, id := range append(sorted(ids), unheardOf(ids)) {
		key := ""
		if named[id] {
			key = id
		}
		for _, s := range w.sides {
			r := s.rb.Devices[id]
			if r == nil {
				key += ";unlisted"
				continue
			}
			for _, l := range asked {
				key += ";" + fieldOf(r, l.Fact.Name)
			}
			if w.owned {
				key += ";" + r.Owner
			}
		}
		if !seen[key] {
			seen[key] = true
			list = append(list, id)
		}
	}
	for _, id := range list {
		consider(id)
	}
}

// device is the device of a cell; nil for none.
func (w *World) device(cell int) *signon.Device {
	so := signon.SignOn{}
	w.byName[deviceAxis].cells[cell].put(&so)
	return so.Device
}

// identified tells whether the device of a cell has an id.
func (w *World) identified(cell int) string {
	d := w.device(cell)
	return toldIf(d != nil && d.ID != "")
}

// listed tells what the inventories have of a field of the device of a cell.
func (w *World) listed(cell int, field string) string {
	d := w.device(cell)
	if d == nil {
		return "no device"
	}
	key := ""
	for _, s := range w.sides {
		if r := s.rb.Devices[d.ID]; r != nil && d.ID != "" {
			key += ";" + fieldOf(r, field)
		} else {
			key += ";unlisted"
		}
	}
	return key
}

// fieldOf is what an inventory has of a field, in words.
func fieldOf(r *posture.Record, field string) string {
	_, name, _ := strings.Cut(field, ".")
	if i := slices.IndexFunc(signon.DeviceFlags[:], func(f signon.DeviceFlag) bool { return f.Name == name }); i >= 0 {
		return fmt.Sprint(*signon.DeviceFlags[i].Of(&r.Device))
	}
	if i := slices.IndexFunc(signon.DeviceWords[:], func(f signon.DeviceWord) bool { return f.Name == name }); i >= 0 {
		return fmt.Sprintf("%q", *signon.DeviceWords[i].Of(&r.Device))
	}
	switch name {
	case "reported":
		return r.Reported.UTC().Format(time.RFC3339Nano)
	case "owned":
		return r.Owner
	}
	return fmt.Sprintf("%#v", r.Attributes[name])
}
