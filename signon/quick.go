package signon

import (
	"bytes"
	"encoding/binary"
)

// quick reads requests of the plain shape in which logs are written: known fields with plain
// strings in ASCII, true and false, and fields that are not known. Whatever else it meets (an
// escape, a number, null, a field twice, anything wrong), it gives up, and the JSON library
// reads the request instead.
type quick struct {
	data []byte
	at   int
	read request

	device   device         // of the request, and
	evidence []evidence     // and
	strings  []string       // the list at hand
	recent   [1 << 9]string // strings that came by lately, so that equal ones share their memory
	instants [1 << 9]struct {
		text string
		instant
	}
}

// reads reads a request if it is of the plain shape.
func (q *quick) reads(data []byte) bool {
	data = bytes.TrimRight(data, " \t\r\n")
	q.data, q.at, q.read = data, 0, request{}
	done := plain(data) && q.object((*quick).request) && q.at == len(data)
	q.data = nil
	return done
}

// plain reports whether a text is ASCII without control characters and backslashes.
func plain(text []byte) bool {
	const ones, tops = 0x0101010101010101, 0x8080808080808080
	odd := uint64(0) // a byte's top bit is set where one of eight is not plain
	for ; len(text) >= 8; text = text[8:] {
		x := binary.LittleEndian.Uint64(text)
		slash := x ^ '\\'*ones
		odd |= x | (x-' '*ones)&^x | (slash-ones)&^slash
	}
	for _, c := range text {
		if c < ' ' || c >= 0x80 || c == '\\' {
			return false
		}
	}
	return odd&tops == 0
}

// next takes a character if it is the next that is no space.
func (q *quick) next(c byte) bool {
	for q.at < len(q.data) {
		switch q.data[q.at] {
		case c:
			q.at++
			return true
		case ' ':
			q.at++
		default:
			return false
		}
	}
	return false
}

// word takes a literal if it is the next.
func (q *quick) word(w string) bool {
	if rest := bytes.TrimLeft(q.data[q.at:], " "); len(rest) >= len(w) && string(rest[:len(w)]) == w {
		q.at = len(q.data) - len(rest) + len(w)
		return true
	}
	return false
}

// chars takes a string; nil is none.
func (q *quick) chars() []byte {
	if !q.next('"') {
		return nil
	}
	rest := q.data[q.at:]
	end := bytes.IndexByte(rest, '"')
	if end < 0 {
		return nil
	}
	q.at += end + 1
	return rest[:end:end]
}

// text takes a plain string.
func (q *quick) text(s *string) bool {
	b := q.chars()
	if b == nil {
		return false
	}
	*s = q.shared(b)
	return true
}

// shared is a string of these characters, the same one for a while.
func (q *quick) shared(b []byte) string {
	const longest = 64
	if len(b) > longest {
		return string(b)
	}
	slot := &q.recent[slotOf(b)%uint(len(q.recent))]
	if *slot != string(b) {
		*slot = string(b)
	}
	return *slot
}

// field reads the value of a field of an object, and gives the field's number; elsewhere is
// a field that is not known, failed one that is not plain.
type field func(q *quick, name []byte) int

const (
	elsewhere = -1
	failed    = -2
)

// slotOf spreads texts over slots, mostly by their ends.
func slotOf(b []byte) uint {
	h := uint(len(b))
	for _, c := range b[max(0, len(b)-12):] {
		h = h*31 + uint(c)
	}
	return h
}

// object takes an object, whose fields stand in it once.
func (q *quick) object(read field) bool {
	if !q.next('{') {
		return false
	}
	if q.next('}') {
		return true
	}
	var known uint32
	var others [8][]byte
	n := 0
	for {
		name := q.chars()
		if name == nil || !q.next(':') {
			return false
		}
		switch i := read(q, name); {
		case i == failed || i == elsewhere && n == len(others):
			return false
		case i == elsewhere:
			for _, other := range others[:n] {
				if string(other) == string(name) {
					return false
				}
			}
			others[n] = name
			n++
			if q.chars() == nil && !q.word("true") && !q.word("false") {
				return false
			}
		case known&(1<<i) != 0:
			return false
		default:
			known |= 1 << i
		}
		if q.next('}') {
			return true
		}
		if !q.next(',') {
			return false
		}
	}
}

// number gives the field's number if its value was read.
func number(i int, read bool) int {
	if read {
		return i
	}
	return failed
}

func (q *quick) request(name []byte) int {
	switch string(name) {
	case "subject":
		return number(0, q.object((*quick).subject))
	case "action":
		return number(1, q.object((*quick).action))
	case "resource":
		return number(2, q.object((*quick).resource))
	case "context":
		return number(3, q.object((*quick).context))
	}
	return elsewhere
}

func (q *quick) subject(name []byte) int {
	switch string(name) {
	case "type":
		return number(0, q.text(&q.read.Subject.Type))
	case "id":
		return number(1, q.text(&q.read.Subject.ID))
	case "properties":
		return failed
	}
	return elsewhere
}

func (q *quick) action(name []byte) int {
	if string(name) == "name" {
		return number(0, q.text(&q.read.Action.Name))
	}
	return elsewhere
}

func (q *quick) resource(name []byte) int {
	switch string(name) {
	case "type":
		return number(0, q.text(&q.read.Resource.Type))
	case "id":
		return number(1, q.text(&q.read.Resource.ID))
	}
	return elsewhere
}

func (q *quick) context(name []byte) int {
	c := &q.read.Context
	switch string(name) {
	case "id":
		return number(0, q.text(&c.ID))
	case "time":
		return number(1, q.instant(&c.Time))
	case "ip":
		return number(2, q.address(&c.IP))
	case "country":
		return number(3, q.country(&c.Country))
	case "client":
		return number(4, q.client(&c.Client))
	case "device":
		q.device = device{}
		c.Device = &q.device
		return number(5, q.object((*quick).machine))
	case "session":
		return number(6, q.object((*quick).session))
	case "presented":
		return number(7, q.texts(&c.Presented))
	case "evidence":
		return number(8, q.evidences())
	case "outcome":
		word := q.chars()
		c.Outcome = q.data[q.at-len(word)-2 : q.at]
		return number(9, word != nil)
	case "risk", "consent":
		return failed
	}
	return elsewhere
}

func (q *quick) machine(name []byte) int {
	d := &q.device
	switch string(name) {
	case "id":
		return number(0, q.text(&d.ID))
	case "os":
		return number(1, q.text(&d.OS))
	case "version":
		return number(2, q.text(&d.Version))
	case "form":
		return number(3, q.text(&d.Form))
	case "managed":
		return number(4, q.yesNo(&d.Managed))
	case "compliant":
		return number(5, q.yesNo(&d.Compliant))
	case "registered":
		return number(6, q.yesNo(&d.Registered))
	case "encrypted":
		return number(7, q.yesNo(&d.Encrypted))
	case "firewall":
		return number(8, q.yesNo(&d.Firewall))
	case "screenlock":
		return number(9, q.yesNo(&d.ScreenLock))
	case "jailbroken":
		return number(10, q.yesNo(&d.Jailbroken))
	case "reported":
		return number(11, q.instant(&d.Reported))
	}
	return failed // an attribute of the device
}

func (q *quick) session(name []byte) int {
	s := &q.read.Context.Session
	switch string(name) {
	case "id":
		return number(0, q.text(&s.ID))
	case "started":
		return number(1, q.instant(&s.Started))
	}
	return elsewhere
}

func (q *quick) evidences() bool {
	q.evidence = q.evidence[:0]
	done := q.array(func() bool {
		q.evidence = append(q.evidence, evidence{})
		return q.object((*quick).proof)
	})
	q.read.Context.Evidence = q.evidence
	return done
}

func (q *quick) proof(name []byte) int {
	e := &q.evidence[len(q.evidence)-1]
	switch string(name) {
	case "method":
		return number(0, q.text(&e.Method))
	case "time":
		return number(1, q.instant(&e.Time))
	case "session":
		return number(2, q.text(&e.Session))
	case "device":
		return number(3, q.text(&e.Device))
	case "app":
		return number(4, q.text(&e.App))
	}
	return elsewhere
}

func (q *quick) texts(list *[]string) bool {
	q.strings = q.strings[:0]
	done := q.array(func() bool {
		var s string
		if !q.text(&s) {
			return false
		}
		q.strings = append(q.strings, s)
		return true
	})
	*list = append(make([]string, 0, len(q.strings)), q.strings...)
	return done
}

// array takes an array.
func (q *quick) array(element func() bool) bool {
	if !q.next('[') {
		return false
	}
	if q.next(']') {
		return true
	}
	for {
		if !element() {
			return false
		}
		if q.next(']') {
			return true
		}
		if !q.next(',') {
			return false
		}
	}
}

func (q *quick) yesNo(y *YesNo) bool {
	switch {
	case q.word("true"):
		*y = Yes
	case q.word("false"):
		*y = No
	default:
		return false
	}
	return true
}

func (q *quick) instant(i *instant) bool {
	b := q.chars()
	if b == nil {
		return false
	}
	known := &q.instants[slotOf(b)%uint(len(q.instants))]
	if known.text != string(b) {
		t, err := ParseTime(string(b))
		if err != nil {
			return false
		}
		known.text, known.Time = string(b), t
	}
	*i = known.instant
	return true
}

func (q *quick) address(a *address) bool {
	var s string
	if !q.text(&s) {
		return false
	}
	var err error
	a.Addr, err = ParseAddr(s)
	return err == nil
}

func (q *quick) country(c *country) bool {
	var s string
	if !q.text(&s) || !IsCountry(s) {
		return false
	}
	*c = country(s)
	return true
}

func (q *quick) client(c *Client) bool {
	var s string
	if !q.text(&s) {
		return false
	}
	*c = Client(s)
	return c.known()
}
