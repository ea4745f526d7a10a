package posture

// Inventories of devices, as JSON Lines and CSV.

import (
	"errors"
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"

	"briskwarden.example/briskwarden/internal/known"
	"briskwarden.example/briskwarden/internal/lines"
	"briskwarden.example/briskwarden/internal/spell"
	"briskwarden.example/briskwarden/signon"
)

// Fleet is an inventory held in memory, by device id.
type Fleet map[string]*Record

// Device finds a device by its id; nil is none.
func (f Fleet) Device(id string) *Record { return f[id] }

// ReadJSONLines reads an inventory of one device object a line: the device of a sign-on, with
// its id, and perhaps its owner. Each device goes to add; an error names the line.
func ReadJSONLines(in io.Reader, declared func(attribute string) bool, add func(line int, r Record) error) error {
	return lines.Each(in, func(n int, text []byte) error {
		if text = lines.Trimmed(text); len(text) == 0 {
			return nil
		}
		record, err := fromJSON(text)
		if err == nil {
			err = record.check(declared)
		}
		if err != nil {
			return err
		}
		return add(n, record)
	})
}

// check reports a name with blanks at its ends, and a field that is like a known one and none.
func (r *Record) check(declared func(attribute string) bool) error {
	words := Words(&r.Device)
	words["owner"] = &r.Owner
	for _, field := range Fields {
		if word := words[field]; word != nil && lines.Padded(*word) {
			return fmt.Errorf("%s: %q has blanks at its ends: take them away", field, *word)
		}
	}
	for _, name := range slices.Sorted(maps.Keys(r.Attributes)) {
		if like := spell.Like(name, Fields); like != "" && !declared(name) {
			return fmt.Errorf("a device has no field %q: did you mean %q?", name, like)
		}
	}
	return nil
}

func fromJSON(text []byte) (r Record, err error) {
	if r.Device, err = signon.DecodeDevice(text); err != nil {
		return r, err
	}
	if stated := r.Attributes["owner"]; stated != nil {
		owner, isText := stated.(string)
		if !isText {
			return r, errors.New("owner: expected a user's id as a string")
		}
		r.Owner = owner
	}
	delete(r.Attributes, "owner")
	return r, nil
}

// ReadCSV reads an inventory with the fields of a device in its header (RFC 4180). Yes-no is
// yes, no, true or false; an empty cell is not stated; further columns are attributes.
func ReadCSV(in io.Reader, declared func(attribute string) bool, add func(line int, r Record) error) error {
	return lines.EachRow(in, lines.Header{Needs: "id", Known: Fields, Free: declared}, func(t *lines.Table) error {
		record, err := fromCells(t)
		if err != nil {
			return err
		}
		return add(t.Line, record)
	})
}

func fromCells(t *lines.Table) (r Record, err error) {
	words, flags := Words(&r.Device), Flags(&r.Device)
	words["owner"] = &r.Owner
	for i, name := range t.Columns {
		cell := strings.Clone(t.Cell(i))
		if cell == "" {
			continue
		}
		if slices.Contains(Fields, name) {
			if _, err := t.Name(i); err != nil {
				return r, err
			}
		}
		switch {
		case words[name] != nil:
			*words[name] = cell
		case flags[name] != nil:
			if *flags[name], err = yesNo(cell); err != nil {
				return r, fmt.Errorf("%s: %w", name, err)
			}
		case name == "reported":
			if r.Reported, err = signon.ParseTime(cell); err != nil {
				return r, fmt.Errorf("reported: %w", err)
			}
		default:
			if r.Attributes == nil {
				r.Attributes = map[string]any{}
			}
			r.Attributes[name] = cell
		}
	}
	return r, nil
}

func yesNo(cell string) (signon.YesNo, error) {
	t, ok := known.Parse(cell)
	if !ok {
		return signon.Unknown, fmt.Errorf("%q is none of yes, no, true and false", cell)
	}
	return signon.IsYes(t == known.True), nil
}
