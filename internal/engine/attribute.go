package engine

// Declared attributes: what a sign-on states, else the directory or inventory, else the default.

import (
	"strings"

	"briskwarden.example/briskwarden/internal/fact"
	"briskwarden.example/briskwarden/internal/rulebook"
	"briskwarden.example/briskwarden/signon"
)

// attributeName is the name of an attribute without "user." or "device.".
func attributeName(a *fact.Attribute) string {
	_, name, _ := strings.Cut(a.Name, ".")
	return name
}

// stated is what the sign-on states of an attribute, or nil.
func (f *frame) stated(a *fact.Attribute) any {
	switch {
	case !a.OfDevice:
		return f.so.Properties[attributeName(a)]
	case f.so.Device != nil:
		return f.so.Device.Attributes[attributeName(a)]
	}
	return nil
}

// checkStated reports an attribute that the sign-on states with a value of another type.
func (f *frame) checkStated() error {
	if len(f.so.Properties) == 0 && (f.so.Device == nil || len(f.so.Device.Attributes) == 0) {
		return nil
	}
	for _, a := range f.rb.Facts.Attributes() {
		if !a.FromRequest {
			continue
		}
		if stated := f.stated(a); stated != nil {
			if _, err := rulebook.StatedValue(a, stated, f.rb.Zone); err != nil {
				field := "subject.properties." + attributeName(a)
				if a.OfDevice {
					field = "context.device." + attributeName(a)
				}
				return &signon.FieldError{Field: field, Msg: err.Error()}
			}
		}
	}
	return nil
}

// attribute gives a declared attribute: what the sign-on may state and does, else what the
// directory or inventory has, else its default.
func (f *frame) attribute(s fact.Slot) *fact.Value {
	if f.supposed != nil {
		if v, is := f.supposed[s]; is {
			return v
		}
	}
	a := f.rb.Facts.Attribute(s)
	if a == nil || a.OfDevice && !f.hasDevice {
		return &unknownValue
	}
	if a.FromRequest {
		if stated := f.stated(a); stated != nil {
			v, _ := rulebook.StatedValue(a, stated, f.rb.Zone)
			return &v
		}
	}
	switch {
	case a.OfDevice && f.record != nil:
		if stated := f.record.Attributes[attributeName(a)]; stated != nil {
			v, _ := rulebook.StatedValue(a, stated, f.rb.Zone)
			return &v
		}
	case !a.OfDevice && a.Index < len(f.person.Attributes) && f.person.Attributes[a.Index].Known:
		return &f.person.Attributes[a.Index]
	}
	return &a.Default
}
