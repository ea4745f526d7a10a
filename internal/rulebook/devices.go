package rulebook

// Inventories, bound to the declared attributes.

import (
	"errors"
	"fmt"
	"io"

	"briskwarden.example/briskwarden/internal/fact"
	"briskwarden.example/briskwarden/internal/known"
	"briskwarden.example/briskwarden/internal/lines"
	"briskwarden.example/briskwarden/internal/posture"
	"briskwarden.example/briskwarden/language/ast"
)

// devices reads the inventories of devices: CSV by the name's ending, else JSON Lines.
func (r *resolver) devices(files []ast.Name) {
	r.rb.Devices = posture.Fleet{}
	for _, f := range files {
		r.each(f, func(file string, in io.Reader) error {
			read := posture.ReadJSONLines
			if lines.Format(file) == ".csv" {
				read = posture.ReadCSV
			}
			loaded := r.loading(file)
			declared := func(name string) bool { _, ok := r.rb.Facts.AttributeNamed("device." + name); return ok }
			return read(in, declared, func(line int, record posture.Record) error {
				loaded.add(1, "device")
				record.Line = line
				return r.device(record, loaded)
			})
		})
	}
}

func (r *resolver) device(record posture.Record, loaded *Loaded) error {
	if record.ID == "" {
		return errors.New("the device has no id")
	}
	record.File = loaded.File
	if first, again := r.rb.Devices[record.ID]; again {
		return fmt.Errorf("the device %q stands twice, first at %s:%d", record.ID, first.File, first.Line)
	}
	for name, stated := range record.Attributes {
		a, declared := r.rb.Facts.AttributeNamed("device." + name)
		if !declared {
			delete(record.Attributes, name)
			loaded.aside(1, "undeclared device."+name)
			continue
		}
		v, err := r.listed(a, stated)
		if err != nil {
			return fmt.Errorf("%s: %w", name, err)
		}
		record.Attributes[name] = v.JSON(a.Type)
	}
	r.rb.Devices[record.ID] = &record
	return nil
}

// listed reads the value of an attribute from a file, where a number or a yes may stand as text.
func (r *resolver) listed(a *fact.Attribute, stated any) (fact.Value, error) {
	text, isText := stated.(string)
	if !isText || a.Type == fact.Word {
		return StatedValue(a, stated, r.rb.Zone)
	}
	if t, ok := known.Parse(text); ok && a.Type == fact.YesNo {
		return fact.Value{Known: true, YesNo: t}, nil
	}
	return ReadValue(a.Type, text, r.rb.Zone)
}
