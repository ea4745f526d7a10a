package rulebook

// How the blocks that conditions and demands use are bound.

import (
	"errors"
	"fmt"
	"math"
	"reflect"
	"slices"
	"time"

	"briskwarden.example/briskwarden/internal/directory"
	"briskwarden.example/briskwarden/internal/fact"
	"briskwarden.example/briskwarden/internal/known"
	"briskwarden.example/briskwarden/internal/schedule"
)

// Bind binds the names of a person who comes from elsewhere. Groups, methods and attributes
// that the rulebook does not speak of are left aside.
func (rb *Rulebook) Bind(d directory.Person) (*Person, error) {
	p := &Person{ID: d.ID, Type: d.Type, Risk: d.Risk, Active: known.Of(!d.Disabled), Joined: d.Joined}
	if p.Type == "" {
		p.Type = fact.UserTypes[0]
	}
	if p.Risk == "" {
		p.Risk = fact.Levels[0]
	}
	switch {
	case !slices.Contains(fact.UserTypes, p.Type):
		return nil, fmt.Errorf("type %q is none of employee, guest and service", p.Type)
	case !slices.Contains(fact.Levels, p.Risk):
		return nil, fmt.Errorf("risk %q is none of none, low, medium and high", p.Risk)
	}
	p.setJoinedDay(rb.Zone)
	p.Groups = rb.closureOf(d.Groups)
	for _, name := range d.Methods {
		if m, ok := rb.Methods.Lookup(name); ok {
			p.Methods.Add(m.ID)
		}
	}
	return p, rb.bindAttributes(p, d.Attributes)
}

func (rb *Rulebook) bindAttributes(p *Person, values map[string]any) error {
	for name, stated := range values {
		if err := rb.bindAttribute(p, name, stated); err != nil {
			return fmt.Errorf("attribute user.%s: %w", name, err)
		}
	}
	return nil
}

// bindAttribute gives a person the value of an attribute, if it is declared.
func (rb *Rulebook) bindAttribute(p *Person, name string, stated any) error {
	a, declared := rb.Facts.AttributeNamed("user." + name)
	if !declared {
		return nil
	}
	v, err := StatedValue(a, stated, rb.Zone)
	if err != nil {
		return err
	}
	if p.Attributes == nil {
		p.Attributes = make([]fact.Value, rb.Facts.Users())
	}
	p.Attributes[a.Index] = v
	return nil
}

// closureOf are the groups that somebody is in who is directly in those of some names; what is no group here is left aside.
func (rb *Rulebook) closureOf(names []string) []int32 {
	var direct []int32
	for _, name := range names {
		if id, ok := rb.Groups.Lookup(name); ok {
			direct = append(direct, id)
		}
	}
	return rb.Groups.Closure(direct)
}

// setJoinedDay finds the day on which the person joined, if that is known.
func (p *Person) setJoinedDay(zone *time.Location) {
	if !p.Joined.IsZero() {
		p.JoinedDay = schedule.DateOf(p.Joined, zone).Start(zone)
	}
}

// StatedValue reads the value of an attribute as a program or request states it: a string,
// bool, float64 or int.
func StatedValue(a *fact.Attribute, stated any, zone *time.Location) (fact.Value, error) {
	switch v := stated.(type) {
	case string:
		switch a.Type {
		case fact.Word:
			return fact.Value{Known: true, Word: v}, nil
		case fact.Date:
			return ReadValue(fact.Date, v, zone)
		}
	case bool:
		if a.Type == fact.YesNo {
			return fact.Value{Known: true, YesNo: known.Of(v)}, nil
		}
	case float64:
		if math.IsNaN(v) || math.IsInf(v, 0) {
			return fact.Value{}, errors.New("is no finite number")
		}
		if a.Type == fact.Number {
			return fact.Value{Known: true, Number: v}, nil
		}
	case int, int8, int16, int32, int64, uint, uint8, uint16, uint32, uint64, float32:
		return StatedValue(a, reflect.ValueOf(v).Convert(reflect.TypeFor[float64]()).Float(), zone)
	}
	want := map[fact.Type]string{fact.Word: "a string", fact.Date: "a date as a string", fact.YesNo: "true or false", fact.Number: "a number"}
	return fact.Value{}, fmt.Errorf("expected %s, found %s", want[a.Type], found(stated))
}

func found(v any) string {
	switch v.(type) {
	case string:
		return "a string"
	case bool:
		return "true or false"
	case float64:
		return "a number"
	case []any:
		return "an array"
	}
	return "an object"
}
