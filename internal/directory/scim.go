package directory

// SCIM 2.0 (RFC 7643, RFC 7644), as a ListResponse, an array or JSON Lines.

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"

	"briskwarden.example/briskwarden/internal/known"
	"briskwarden.example/briskwarden/internal/lines"
	"briskwarden.example/briskwarden/signon"
)

// The parts of SCIM 2.0 (RFC 7643) that say something of a sign-on.
type (
	resource struct {
		Schemas     []string    `json:"schemas"`
		ID          string      `json:"id"`
		UserName    string      `json:"userName"`
		DisplayName string      `json:"displayName"`
		UserType    string      `json:"userType"`
		Title       string      `json:"title"`
		Active      *bool       `json:"active"`
		Meta        meta        `json:"meta"`
		Groups      []reference `json:"groups"`
		Members     []reference `json:"members"`
		Enterprise  enterprise  `json:"urn:ietf:params:scim:schemas:extension:enterprise:2.0:User"`
		SignOn      signOn      `json:"urn:brisk-warden:params:scim:schemas:SignOn"`
		Resources   resources   `json:"Resources"` // of a ListResponse
		Total       *int        `json:"totalResults"`
	}
	meta struct {
		ResourceType string `json:"resourceType"`
		Created      string `json:"created"`
	}
	reference struct {
		Value   string `json:"value"`
		Display string `json:"display"`
	}
	enterprise struct {
		Department   string `json:"department"`
		Division     string `json:"division"`
		Organization string `json:"organization"`
		CostCenter   string `json:"costCenter"`
	}
	signOn struct {
		Methods []string `json:"methods"`
		Risk    string   `json:"risk"`
	}
	resources struct {
		reader *scimReader // nil where no list is expected
		found  bool
		n      int
	}
)

// scimReader reads resources one after the other, whatever they are wrapped in.
type scimReader struct {
	dec  *jsontext.Decoder
	line *lineCounter
	sink Sink

	resource resource
	user     User
	group    Group

	read   int // resources of an array
	listed int // resources in lists
	total  int // that the lists say there are
}

// ReadSCIM reads SCIM 2.0 User and Group resources (RFC 7643): a ListResponse, an array of
// resources, or one resource a line. Names of attributes are matched without regard to case.
func ReadSCIM(in io.Reader, sink Sink) error {
	counter := &lineCounter{in: bufio.NewReaderSize(in, 64<<10)}
	if err := counter.begin(); err != nil {
		return err
	}
	r := &scimReader{dec: jsontext.NewDecoder(counter), line: counter, sink: sink}
	for {
		switch r.dec.PeekKind() {
		case '[':
			if err := r.array(); err != nil {
				return r.placed(err)
			}
		case '{':
			if err := r.next(true); err != nil {
				return r.placed(err)
			}
		default:
			_, err := r.dec.ReadToken()
			if err == io.EOF {
				r.sink.Listed(r.listed, r.total)
				return nil
			}
			if err == nil {
				err = errors.New("expected a resource, an array of resources or a ListResponse")
			}
			return r.placed(err)
		}
	}
}

// placed gives an error its line.
func (r *scimReader) placed(err error) error {
	offset, err := lines.JSON(err)
	if offset < 0 {
		offset = r.dec.InputOffset()
	}
	return lines.At(r.line.at(offset), err)
}

func (r *scimReader) array() error {
	if _, err := r.dec.ReadToken(); err != nil {
		return err
	}
	for r.dec.PeekKind() == '{' {
		if err := r.next(false); err != nil {
			return err
		}
		r.read++
	}
	switch t, err := r.dec.ReadToken(); {
	case err != nil:
		return err
	case t.Kind() != ']':
		return fmt.Errorf("expected a resource, found %s", lines.Kind(t.Kind()))
	}
	return nil
}

// next reads a resource; the outermost object may be a ListResponse, which brings its own.
func (r *scimReader) next(outermost bool) error {
	line := r.line.at(r.start())
	r.reset()
	if outermost {
		r.resource.Resources.reader = r
	}
	if err := json.UnmarshalDecode(r.dec, &r.resource, json.MatchCaseInsensitiveNames(true)); err != nil {
		return err
	}
	if x := &r.resource; outermost && (x.Resources.found || x.Total != nil) {
		r.listed += x.Resources.n
		if x.Total != nil {
			r.total = max(r.total, *x.Total)
		}
		return nil
	}
	return lines.At(line, r.give(line))
}

// start is the offset of the value that comes next.
func (r *scimReader) start() int64 {
	r.dec.PeekKind() // which reads it, at least in part
	ahead := r.dec.UnreadBuffer()
	return r.dec.InputOffset() + int64(len(ahead)-len(bytes.TrimLeft(ahead, " \t\r\n,")))
}

// reset empties the resource and keeps the space of its lists.
func (r *scimReader) reset() {
	x := &r.resource
	*x = resource{Schemas: x.Schemas[:0], Groups: x.Groups[:0], Members: x.Members[:0], SignOn: signOn{Methods: x.SignOn.Methods[:0]}}
}

// UnmarshalJSONFrom reads the resources of a ListResponse.
func (l *resources) UnmarshalJSONFrom(d *jsontext.Decoder) error {
	switch {
	case l.reader == nil:
		return errors.New("a list of resources stands inside another list")
	case d.PeekKind() != '[':
		return fmt.Errorf("expected an array, found %s", lines.Kind(d.PeekKind()))
	}
	list := scimReader{dec: d, line: l.reader.line, sink: l.reader.sink}
	err := list.array()
	l.found, l.n = true, list.read
	return err
}

// give hands the resource on.
func (r *scimReader) give(line int) error {
	x := &r.resource
	is := func(kind string) bool {
		return x.Meta.ResourceType == kind || slices.ContainsFunc(x.Schemas, func(s string) bool { return strings.HasSuffix(s, ":"+kind) && strings.Contains(s, ":core:") })
	}
	switch {
	case is("User") || x.UserName != "" && !is("Group"):
		return r.giveUser(line)
	case is("Group") || x.DisplayName != "" && len(x.Schemas) == 0:
		return r.giveGroup(line)
	case len(x.Schemas) > 0 || x.Meta.ResourceType != "":
		r.sink.Aside("neither User nor Group")
		return nil
	}
	return errors.New("the resource is neither a User nor a Group: it has no schemas, no userName and no displayName")
}

func (r *scimReader) giveUser(line int) (err error) {
	x, u := &r.resource, &r.user
	if x.UserName == "" {
		return errors.New("the User has no userName")
	}
	*u = User{ID: x.UserName, Key: x.ID, Methods: x.SignOn.Methods, Risk: x.SignOn.Risk, Groups: u.Groups[:0], Attributes: u.Attributes[:0]}
	if u.Type, err = TypeOf(x.UserType); err != nil {
		return fmt.Errorf("userType: %w", err)
	}
	if x.Active != nil {
		u.Active = known.Of(*x.Active)
	}
	if x.Meta.Created != "" {
		if u.Joined, err = signon.ParseTime(x.Meta.Created); err != nil {
			return fmt.Errorf("meta.created: %w", err)
		}
	}
	for _, g := range x.Groups {
		u.Groups = append(u.Groups, Reference{g.Value, g.Display})
	}
	for _, a := range [...]struct{ name, value string }{{"department", x.Enterprise.Department}, {"division", x.Enterprise.Division},
		{"organization", x.Enterprise.Organization}, {"costCenter", x.Enterprise.CostCenter}, {"title", x.Title}} {
		if a.value != "" {
			u.Attributes = append(u.Attributes, Attribute{a.name, a.value})
		}
	}
	return r.sink.User(line, u)
}

func (r *scimReader) giveGroup(line int) error {
	x, g := &r.resource, &r.group
	if x.DisplayName == "" {
		return errors.New("the Group has no displayName")
	}
	*g = Group{Name: x.DisplayName, Key: x.ID, Members: g.Members[:0]}
	for _, m := range x.Members {
		g.Members = append(g.Members, Reference{m.Value, m.Display})
	}
	return r.sink.Group(line, g)
}

// lineCounter tells at which line a byte of what was read lies.
type lineCounter struct {
	in      *bufio.Reader
	read    int64
	passed  int     // line ends before the bytes that can still be asked for
	pending []int64 // the offsets of the others
}

// begin takes a byte order mark off.
func (c *lineCounter) begin() error {
	mark, _ := c.in.Peek(3)
	rest, err := lines.Unmarked(mark)
	if err != nil {
		return lines.At(1, err)
	}
	_, err = c.in.Discard(len(mark) - len(rest))
	return err
}

// Read reads on and remembers where lines end.
func (c *lineCounter) Read(p []byte) (int, error) {
	n, err := c.in.Read(p)
	for i := 0; i < n; i++ {
		end := bytes.IndexByte(p[i:n], '\n')
		if end < 0 {
			break
		}
		i += end
		c.pending = append(c.pending, c.read+int64(i))
	}
	c.read += int64(n)
	return n, err
}

// at is the line of an offset; one before the last that was asked for is on that line.
func (c *lineCounter) at(offset int64) int {
	i := 0
	for i < len(c.pending) && c.pending[i] < offset {
		i++
	}
	c.passed += i
	c.pending = c.pending[:copy(c.pending, c.pending[i:])]
	return c.passed + 1
}
