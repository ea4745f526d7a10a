package posture

import (
	"bufio"
	"bytes"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"strings"

	"briskwarden.example/briskwarden/signon"
)

// Fleet is an inventory held in memory, by device id.
type Fleet map[string]Record

// Device finds a device by its id.
func (f Fleet) Device(id string) (Record, bool) {
	r, ok := f[id]
	return r, ok
}

// maxLine is the size in bytes of the longest line of an inventory.
const maxLine = 16 << 20

// ReadJSONLines reads an inventory of one device object a line: the device of a sign-on, with
// its id, and perhaps its owner. Each device goes to add; an error names the line.
func ReadJSONLines(in io.Reader, add func(line int, r Record) error) error {
	lines := bufio.NewScanner(in)
	lines.Buffer(make([]byte, 0, 4096), maxLine)
	n := 0
	for lines.Scan() {
		n++
		text := bytes.TrimSpace(bytes.TrimPrefix(lines.Bytes(), []byte("\ufeff")))
		if len(text) == 0 {
			continue
		}
		record, err := fromJSON(text)
		if err == nil {
			err = add(n, record)
		}
		if err != nil {
			return fmt.Errorf("line %d: %w", n, err)
		}
	}
	if err := lines.Err(); errors.Is(err, bufio.ErrTooLong) {
		return fmt.Errorf("line %d: longer than %d MiB", n+1, maxLine>>20)
	} else if err != nil {
		return fmt.Errorf("line %d: %w", n+1, err)
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
func ReadCSV(in io.Reader, add func(line int, r Record) error) error {
	r := csv.NewReader(in)
	header, err := r.Read()
	if errors.Is(err, io.EOF) {
		return errors.New("line 1: the header is missing: id, os, version, form, managed, …")
	}
	if err != nil {
		return err
	}
	header[0] = strings.TrimPrefix(header[0], "\ufeff")
	for i, name := range header {
		header[i] = strings.TrimSpace(name)
		for _, other := range header[:i] {
			if header[i] == other {
				return fmt.Errorf("line 1: the column %q stands twice", other)
			}
		}
	}
	for {
		cells, err := r.Read()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return err
		}
		line, _ := r.FieldPos(0)
		record, err := fromCells(header, cells)
		if err == nil {
			err = add(line, record)
		}
		if err != nil {
			return fmt.Errorf("line %d: %w", line, err)
		}
	}
}

func fromCells(header, cells []string) (r Record, err error) {
	words, flags := Words(&r.Device), Flags(&r.Device)
	words["owner"] = &r.Owner
	for i, name := range header {
		cell := strings.TrimSpace(cells[i])
		if cell == "" {
			continue
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
	switch strings.ToLower(cell) {
	case "yes", "true":
		return signon.Yes, nil
	case "no", "false":
		return signon.No, nil
	}
	return signon.Unknown, fmt.Errorf("%q is none of yes, no, true and false", cell)
}
