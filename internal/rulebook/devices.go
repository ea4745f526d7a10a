package rulebook

import (
	"errors"
	"fmt"
	"io"

	"briskwarden.example/briskwarden/internal/fact"
	"briskwarden.example/briskwarden/internal/posture"
	"briskwarden.example/briskwarden/language/ast"
)

// devices reads the inventories of devices: CSV by the name's ending, else JSON Lines.
func (r *resolver) devices(files []ast.Name) {
	r.rb.Devices = posture.Fleet{}
	for _, f := range files {
		r.each(f, func(file string, in io.Reader) error {
			read := posture.ReadJSONLines
			if formatOf(file) == ".csv" {
				read = posture.ReadCSV
			}
			return read(in, func(_ int, record posture.Record) error { return r.device(record) })
		})
	}
}

func (r *resolver) device(record posture.Record) error {
	if record.ID == "" {
		return errors.New("the device has no id")
	}
	if _, again := r.rb.Devices[record.ID]; again {
		return fmt.Errorf("the device %q stands twice", record.ID)
	}
	for name, stated := range record.Attributes {
		a, declared := r.rb.Facts.AttributeNamed("device." + name)
		if !declared {
			delete(record.Attributes, name)
			continue
		}
		v, err := r.listed(a, stated)
		if err != nil {
			return fmt.Errorf("%s: %w", name, err)
		}
		record.Attributes[name] = v
	}
	r.rb.Devices[record.ID] = record
	return nil
}

// listed reads the value of an attribute from a file, where a number or a yes may stand as text.
func (r *resolver) listed(a *fact.Attribute, stated any) (any, error) {
	text, isText := stated.(string)
	if !isText || a.Type == fact.Word {
		_, err := StatedValue(a, stated, r.rb.Zone)
		return stated, err
	}
	switch text {
	case "true":
		text = "yes"
	case "false":
		text = "no"
	}
	v, err := ReadValue(a.Type, text, r.rb.Zone)
	return v.JSON(a.Type), err
}
