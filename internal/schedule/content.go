package schedule

// iCalendar as text (RFC 5545, section 3.1): lines are unfolded, then become properties and
// components. Names, parameters and the values that are read here compare in any case, and
// come out in capitals.

import (
	"cmp"
	"errors"
	"fmt"
	"io"
	"strings"

	"briskwarden.example/briskwarden/internal/lines"
	"briskwarden.example/briskwarden/internal/spell"
)

// property is a content line.
type property struct {
	name   string
	params map[string][]string
	value  string
	line   int
}

// component is what stands between BEGIN and END.
type component struct {
	name       string
	line       int
	properties []property
	parts      []*component
}

// The limits of a calendar.
const (
	mostCalendar = 64 << 20 // bytes
	mostNested   = 8        // components within each other
)

// contentReader puts content lines and components together.
type contentReader struct {
	take func(*component) error // takes what is outermost
	text []byte                 // the content line that is not ended yet
	at   int                    // where it begins; 0 is none
	open []*component
	size int
}

// readComponents calls take with each outermost component. An error is a [*lines.Error].
func readComponents(in io.Reader, take func(*component) error) error {
	r := &contentReader{take: take}
	last := 0
	err := lines.EachOfAny(in, func(n int, text []byte) error {
		last = n
		return r.physical(n, text)
	})
	if err == nil {
		err = r.endLine()
	}
	switch {
	case err != nil:
		return err
	case len(r.open) > 0:
		return lines.At(last, fmt.Errorf("the file ends before END:%s", r.open[0].name))
	}
	return nil
}

// physical takes a line of the file, which may go on with the one before.
func (r *contentReader) physical(n int, text []byte) error {
	if r.size += len(text); r.size > mostCalendar {
		return fmt.Errorf("the calendar is larger than %d MiB", mostCalendar>>20)
	}
	if r.at > 0 && len(text) > 0 && (text[0] == ' ' || text[0] == '\t') {
		r.text = append(r.text, text[1:]...)
		return nil
	}
	if err := r.endLine(); err != nil {
		return err
	}
	if len(lines.Trimmed(text)) > 0 {
		r.text, r.at = append(r.text[:0], text...), n
	}
	return nil
}

func (r *contentReader) endLine() error {
	at := r.at
	if r.at = 0; at == 0 {
		return nil
	}
	p, err := parseProperty(string(r.text), at)
	switch {
	case len(r.open) == 0 && (err != nil || p.name != "BEGIN" || p.value != "VCALENDAR"):
		err = cmp.Or(notText(err), errors.New("expected BEGIN:VCALENDAR"))
	case err == nil:
		err = r.put(p)
	}
	return lines.At(at, err)
}

// notText is an error that says of a line that it is no text.
func notText(err error) error {
	if errors.Is(err, lines.ErrNotUTF8) {
		return err
	}
	return nil
}

// put puts a property into the component that is open; BEGIN and END open and close one.
func (r *contentReader) put(p property) error {
	switch p.name {
	case "BEGIN":
		if len(r.open) == mostNested {
			return fmt.Errorf("components stand more than %d deep within each other", mostNested)
		}
		r.open = append(r.open, &component{name: p.value, line: p.line})
		return nil
	case "END":
		inner := r.open[len(r.open)-1]
		if p.value != inner.name {
			return fmt.Errorf("END:%s does not end BEGIN:%s on line %d", p.value, inner.name, inner.line)
		}
		r.open = r.open[:len(r.open)-1]
		if len(r.open) == 0 {
			r.size = 0
			return r.take(inner)
		}
		outer := r.open[len(r.open)-1]
		outer.parts = append(outer.parts, inner)
		return nil
	}
	c := r.open[len(r.open)-1]
	c.properties = append(c.properties, p)
	return nil
}

// folded are the properties whose values compare in any case.
var folded = map[string]bool{"BEGIN": true, "END": true, "STATUS": true, "DTSTART": true, "DTEND": true, "DURATION": true, "RRULE": true,
	"RDATE": true, "EXDATE": true, "RECURRENCE-ID": true, "TZOFFSETFROM": true, "TZOFFSETTO": true}

// parseProperty reads a content line.
func parseProperty(text string, line int) (p property, err error) {
	if strings.ContainsFunc(text, func(r rune) bool { return r < ' ' && r != '\t' || r == 0x7f }) {
		return p, errors.New("a control character stands in the line")
	}
	if text != strings.ToValidUTF8(text, "") {
		return p, lines.ErrNotUTF8
	}
	p.line = line
	name, rest := nameOf(text)
	p.name = name
	for strings.HasPrefix(rest, ";") {
		var param string
		if param, rest = nameOf(rest[1:]); param == "" || !strings.HasPrefix(rest, "=") {
			return p, fmt.Errorf("%s has a parameter that is not \"NAME=value\"", spell.Clip(name))
		}
		for more := true; more; more = strings.HasPrefix(rest, ",") {
			var value string
			if value, rest, err = paramValue(rest[1:]); err != nil {
				return p, fmt.Errorf("%s;%s: %w", spell.Clip(name), spell.Clip(param), err)
			}
			if p.params == nil {
				p.params = map[string][]string{}
			}
			p.params[param] = append(p.params[param], value)
		}
	}
	if name == "" || !strings.HasPrefix(rest, ":") {
		return p, fmt.Errorf("expected a property such as DTSTART:20261225, found %q", spell.Clip(text))
	}
	if p.value = rest[1:]; folded[name] {
		p.value = strings.ToUpper(strings.Trim(p.value, " \t"))
	}
	return p, nil
}

// nameOf takes a name off the beginning of a text, in capitals.
func nameOf(text string) (name, rest string) {
	i := strings.IndexFunc(text, func(c rune) bool {
		return (c < '0' || c > '9') && (c < 'a' || c > 'z') && (c < 'A' || c > 'Z') && c != '-'
	})
	if i < 0 {
		i = len(text)
	}
	return strings.ToUpper(text[:i]), text[i:]
}

// paramValue takes the value of a parameter off the beginning of a text, without its quotes.
func paramValue(text string) (value, rest string, err error) {
	if quoted, isQuoted := strings.CutPrefix(text, `"`); isQuoted {
		i := strings.IndexByte(quoted, '"')
		if i < 0 {
			return "", "", errors.New("a quoted value does not end")
		}
		return quoted[:i], quoted[i+1:], nil
	}
	i := strings.IndexAny(text, `;:,"`)
	if i < 0 || text[i] == '"' {
		return "", "", errors.New("a value ends in a quotation mark, or not at all")
	}
	return text[:i], text[i:], nil
}

// all are the properties of a name.
func (c *component) all(name string) (list []*property) {
	for i := range c.properties {
		if c.properties[i].name == name {
			list = append(list, &c.properties[i])
		}
	}
	return list
}

// only is the property of a name, which stands once at most; nil is none.
func (c *component) only(name string) (*property, error) {
	switch list := c.all(name); len(list) {
	case 0:
		return nil, nil
	case 1:
		return list[0], nil
	}
	return nil, fmt.Errorf("it has more than one %s", name)
}

// text is a value of the type TEXT (RFC 5545, section 3.3.11); "" where there is none.
func (c *component) text(name string) string {
	list := c.all(name)
	if len(list) == 0 {
		return ""
	}
	return strings.NewReplacer(`\\`, `\`, `\;`, ";", `\,`, ",", `\n`, "\n", `\N`, "\n").Replace(list[0].value)
}
