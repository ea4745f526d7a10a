package provision

// Resources as clients state them, in the form in which they are kept.

import (
	"encoding/base64"
	"fmt"
	"slices"
	"strings"

	"github.com/go-json-experiment/json"

	"briskwarden.example/briskwarden/internal/lines"
	"briskwarden.example/briskwarden/internal/spell"
	"briskwarden.example/briskwarden/signon"
)

// Error is an error as SCIM tells it (RFC 7644, 3.12).
type Error struct {
	Status int
	Type   string // scimType; may be empty
	Detail string
}

func (e *Error) Error() string { return e.Detail }

func invalid(kind, format string, args ...any) *Error {
	return &Error{400, kind, fmt.Sprintf(format, args...)}
}

// Resource has the attributes of a resource by their names: strings, truth values, lists and objects. What only the
// service knows (id, meta, groups, members) is not in it.
type Resource map[string]any

// Read reads a resource that a client states, whole.
func (t *Type) Read(body []byte) (Resource, *Error) {
	var stated map[string]any
	if err := json.Unmarshal(body, &stated); err != nil {
		_, err = lines.JSON(err)
		return nil, invalid("invalidSyntax", "%v", err)
	}
	if stated == nil {
		return nil, invalid("invalidSyntax", "expected an object, found null")
	}
	return t.canonical(stated)
}

// canonical checks a resource, and brings its names to the case of the schema. What is read-only is left aside.
func (t *Type) canonical(stated map[string]any) (Resource, *Error) {
	kept, err := object(stated, t.attributes(), "", t.known)
	if err != nil {
		return nil, err
	}
	for _, a := range t.attributes() {
		if v := kept[a.Name]; a.Required && (v == nil || v == "") && a.Name != "schemas" {
			return nil, invalid("invalidValue", "%s is missing", a.Name)
		}
	}
	if err := t.checkSchemas(kept); err != nil {
		return nil, err
	}
	delete(kept, "schemas")
	delete(kept, "password")
	if size := len(identity(withoutMembers(kept))); size > mostSize {
		return nil, &Error{413, "", fmt.Sprintf("the resource would take %d bytes: it may take %d", size, mostSize)}
	}
	return kept, nil
}

// known reports whether a name that no schema of ours has is one of another extension, which is left aside.
func (t *Type) known(name string) bool {
	return len(name) >= 4 && strings.EqualFold(name[:4], "urn:")
}

func (t *Type) checkSchemas(kept Resource) *Error {
	list, _ := kept["schemas"].([]any)
	if !slices.ContainsFunc(list, func(s any) bool { return strings.EqualFold(s.(string), t.schema.ID) }) {
		return invalid("invalidValue", "schemas: a %s has the schema %s", t.Name, t.schema.ID)
	}
	return nil
}

// object checks an object against the attributes that it may have.
func object(stated map[string]any, list []attribute, path string, other func(string) bool) (Resource, *Error) {
	kept := make(Resource, len(stated))
	for name, value := range stated {
		a := named(list, name)
		switch {
		case a == nil && other != nil && other(name), a != nil && a.ReadOnly:
			continue
		case a == nil:
			names := make([]string, len(list))
			for i := range list {
				names[i] = list[i].Name
			}
			return nil, invalid("invalidSyntax", "%s%s is no attribute here%s", path, spell.Clip(name), hintOf(name, names))
		case value == nil:
			continue
		}
		if _, twice := kept[a.Name]; twice {
			return nil, invalid("invalidSyntax", "%s%s stands twice, in different case", path, a.Name)
		}
		v, err := a.value(value, path+a.Name)
		if err != nil {
			return nil, err
		}
		if !empty(v) {
			kept[a.Name] = v
		}
	}
	for _, a := range list {
		if v := kept[a.Name]; a.Required && path != "" && (v == nil || v == "") { // of a whole resource it is checked elsewhere
			return nil, invalid("invalidValue", "%s%s is missing", path, a.Name)
		}
	}
	return kept, nil
}

func hintOf(name string, known []string) string {
	if hint := spell.Hint(name, known); hint != "" {
		return ": " + hint
	}
	return ""
}

// empty reports a value that means that there is none (RFC 7643, 2.5).
func empty(v any) bool {
	switch v := v.(type) {
	case []any:
		return len(v) == 0
	case Resource:
		return len(v) == 0
	}
	return v == nil
}

// value checks the value of an attribute.
func (a *attribute) value(stated any, path string) (any, *Error) {
	if !a.Multi {
		return a.single(stated, path)
	}
	list, isList := stated.([]any)
	if !isList {
		return nil, invalid("invalidValue", "%s is a list", path)
	}
	if len(list) > mostValues && a.Name != "members" {
		return nil, invalid("invalidValue", "%s has more than %d values", path, mostValues)
	}
	kept := make([]any, 0, len(list))
	primary := false
	for _, one := range list {
		v, err := a.single(one, path)
		if err != nil {
			return nil, err
		}
		if o, isObject := v.(Resource); isObject && o["primary"] == true {
			if primary {
				return nil, invalid("invalidValue", "%s has more than one primary value", path)
			}
			primary = true
		}
		kept = append(kept, v)
	}
	return kept, nil
}

// The bounds of a resource. Members of groups stand by themselves.
const (
	mostText   = 64 << 10 // bytes of a text
	mostValues = 1000     // of an attribute
	mostSize   = 1 << 20  // bytes of all
)

func (a *attribute) single(stated any, path string) (any, *Error) {
	switch a.Kind {
	case complexOf:
		o, is := stated.(map[string]any)
		if r, made := stated.(Resource); made {
			o, is = r, true
		}
		if !is {
			return nil, invalid("invalidValue", "%s is an object", path)
		}
		return object(o, a.Subs, path+".", nil)
	case truth:
		if _, is := stated.(bool); !is {
			return nil, invalid("invalidValue", "%s is true or false", path)
		}
		return stated, nil
	}
	s, is := stated.(string)
	switch {
	case !is:
		return nil, invalid("invalidValue", "%s is a string", path)
	case len(s) > mostText:
		return nil, invalid("invalidValue", "%s is longer than %d bytes", path, mostText)
	case a.Words != nil && !slices.ContainsFunc(a.Words, func(w string) bool { return w == s || !a.Exact && strings.EqualFold(w, s) }):
		return nil, invalid("invalidValue", "%s is one of %s", path, strings.Join(a.Words, ", "))
	case a.Kind == instant:
		if _, err := signon.ParseTime(s); err != nil {
			return nil, invalid("invalidValue", "%s: %v", path, err)
		}
	case a.Kind == bytesOf:
		if _, err := base64.StdEncoding.DecodeString(s); err != nil {
			return nil, invalid("invalidValue", "%s is no base64", path)
		}
	}
	return s, nil
}
