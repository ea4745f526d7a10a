package provision

// Changes to a resource (RFC 7644, 3.5.2).

import (
	"maps"
	"slices"
	"strings"

	"github.com/go-json-experiment/json"
	scim "github.com/scim2/filter-parser/v2"

	"briskwarden.example/briskwarden/internal/lines"
)

// PatchSchema is that of a request that changes a resource.
const PatchSchema = "urn:ietf:params:scim:api:messages:2.0:PatchOp"

// Operation is one change.
type Operation struct {
	Op    string
	Path  *scim.Path // nil: the whole resource
	Value any
}

// mostOperations is how many operations one request may have.
const mostOperations = 1000

// ReadPatch reads the operations of a request.
func ReadPatch(body []byte) ([]Operation, *Error) {
	var stated struct {
		Schemas    []string `json:"schemas"`
		Operations []struct {
			Op    string  `json:"op"`
			Path  *string `json:"path"`
			Value any     `json:"value"`
		} `json:"Operations"`
	}
	if err := json.Unmarshal(body, &stated, json.MatchCaseInsensitiveNames(true)); err != nil {
		_, err = lines.JSON(err)
		return nil, invalid("invalidSyntax", "%v", err)
	}
	switch {
	case !slices.ContainsFunc(stated.Schemas, func(s string) bool { return strings.EqualFold(s, PatchSchema) }):
		return nil, invalid("invalidSyntax", "schemas: a change has the schema %s", PatchSchema)
	case len(stated.Operations) == 0:
		return nil, invalid("invalidSyntax", "Operations: there are none")
	case len(stated.Operations) > mostOperations:
		return nil, &Error{413, "", "a request has at most 1000 operations"}
	}
	list := make([]Operation, len(stated.Operations))
	for i, o := range stated.Operations {
		op := Operation{Op: strings.ToLower(o.Op), Value: o.Value}
		switch {
		case op.Op != "add" && op.Op != "remove" && op.Op != "replace":
			return nil, invalid("invalidSyntax", "op: %q is none of add, remove and replace", o.Op)
		case o.Path != nil && len(*o.Path) > mostFilter:
			return nil, invalid("invalidPath", "a path has at most %d bytes", mostFilter)
		case o.Path != nil:
			p, err := scim.ParsePath([]byte(*o.Path))
			if err != nil {
				return nil, invalid("invalidPath", "the path %q cannot be read: %v", *o.Path, err)
			}
			op.Path = &p
		case op.Op == "remove":
			return nil, invalid("noTarget", "remove needs a path")
		}
		if op.Op != "remove" && op.Value == nil {
			return nil, invalid("invalidValue", "%s needs a value", op.Op)
		}
		list[i] = op
	}
	return list, nil
}

// Patch changes a copy of a resource, one operation after the other, and checks what came of it.
func (t *Type) Patch(r Resource, operations []Operation) (Resource, *Error) {
	changed := clone(r).(Resource)
	for i := range operations {
		if err := t.apply(changed, &operations[i]); err != nil {
			return nil, err
		}
	}
	changed["schemas"] = []any{t.schema.ID}
	return t.canonical(changed)
}

// clone copies a value with all that is in it.
func clone(v any) any {
	switch v := v.(type) {
	case Resource:
		c := make(Resource, len(v))
		for name, value := range v {
			c[name] = clone(value)
		}
		return c
	case []any:
		c := make([]any, len(v))
		for i, value := range v {
			c[i] = clone(value)
		}
		return c
	}
	return v
}

func (t *Type) apply(r Resource, op *Operation) *Error {
	if op.Path == nil {
		return t.applyAll(r, op)
	}
	f := &Filter{of: t.attributes(), main: t.schema.ID}
	if uri := op.Path.AttributePath.String(); named(f.of, uri) != nil && named(f.of, uri).Kind == complexOf && len(uri) > 4 && strings.EqualFold(uri[:4], "urn:") {
		return assign(r, named(f.of, uri), op) // a whole extension
	}
	a, steps, err := f.find(op.Path.AttributePath)
	if err != nil {
		err.Type = "invalidPath"
		return err
	}
	at := r
	list := f.of
	for _, step := range steps[:len(steps)-1] {
		parent := named(list, step)
		if parent.ReadOnly {
			return mutability(step)
		}
		if parent.Multi {
			return t.inEach(at, parent, a, op)
		}
		inner, _ := at[step].(Resource)
		if inner == nil {
			inner = Resource{}
			at[step] = inner
		}
		at, list = inner, parent.Subs
	}
	if op.Path.ValueExpression != nil {
		return selected(at, a, op)
	}
	return assign(at, a, op)
}

func mutability(name string) *Error {
	return invalid("mutability", "%s is not for a client to change", name)
}

// applyAll adds or replaces the attributes of an object, whose names may be paths.
func (t *Type) applyAll(r Resource, op *Operation) *Error {
	values, is := op.Value.(map[string]any)
	if !is {
		return invalid("invalidValue", "without a path the value is an object")
	}
	seen := make(map[string]bool, len(values))
	for _, name := range slices.Sorted(maps.Keys(values)) {
		a := named(t.attributes(), name)
		if folded := strings.TrimPrefix(strings.ToLower(name), strings.ToLower(t.schema.ID)+":"); seen[folded] {
			return invalid("invalidSyntax", "%s is there twice, in different spellings", name)
		} else {
			seen[folded] = true
		}
		if a != nil {
			if a.ReadOnly || a.Name == "schemas" {
				continue
			}
			if err := assign(r, a, &Operation{op.Op, nil, values[name]}); err != nil {
				return err
			}
			continue
		}
		path, err := scim.ParsePath([]byte(name))
		if err != nil {
			return invalid("invalidPath", "%s is no attribute here%s", name, hintOf(name, t.names()))
		}
		if err := t.apply(r, &Operation{op.Op, &path, values[name]}); err != nil {
			return err
		}
	}
	return nil
}

func (t *Type) names() (names []string) {
	for _, a := range t.attributes() {
		names = append(names, a.Name)
	}
	return names
}

// assign sets, adds to or takes away an attribute of an object.
func assign(at Resource, a *attribute, op *Operation) *Error {
	switch {
	case a.ReadOnly:
		return mutability(a.Name)
	case op.Op == "remove" && op.Value != nil && a.Multi: // as some clients name what is to go
		return removeValues(at, a, op.Value)
	case op.Op == "remove":
		delete(at, a.Name)
		return nil
	}
	stated := op.Value
	if _, isList := stated.([]any); a.Multi && !isList {
		stated = []any{stated}
	}
	v, err := a.value(stated, a.Name)
	if err != nil {
		return err
	}
	switch before := at[a.Name].(type) {
	case []any:
		if op.Op == "add" {
			at[a.Name] = union(before, v.([]any))
			return nil
		}
	case Resource:
		if o, is := v.(Resource); is {
			maps.Copy(before, o)
			return nil
		}
	}
	at[a.Name] = v
	return nil
}

// identity is a text that values have in common that are the same.
func identity(v any) string {
	text, _ := json.Marshal(v, json.Deterministic(true)) // of strings, truth values, lists and objects alone
	return string(text)
}

// union adds values that are not there yet; a primary one takes the place of another that was.
func union(list, more []any) []any {
	there := make(map[string]bool, len(list)+len(more))
	for _, v := range list {
		there[identity(v)] = true
	}
	for _, v := range more {
		if there[identity(v)] {
			continue
		}
		there[identity(v)] = true
		if o, is := v.(Resource); is && o["primary"] == true { // at most one of more is
			for _, w := range list {
				if before, is := w.(Resource); is {
					delete(before, "primary")
				}
			}
		}
		list = append(list, v)
	}
	return list
}

// removeValues takes values out: by what they are the value of, if they have one.
func removeValues(at Resource, a *attribute, stated any) *Error {
	if _, isList := stated.([]any); !isList {
		stated = []any{stated}
	}
	v, err := a.value(stated, a.Name)
	if err != nil {
		return err
	}
	gone := map[string]bool{}
	for _, one := range v.([]any) {
		if o, isObject := one.(Resource); isObject && o["value"] != nil {
			one = o["value"]
		} else if isObject && named(a.Subs, "value") != nil {
			return invalid("invalidValue", "%s: a value to remove is named by its value", a.Name)
		}
		gone[identity(one)] = true
	}
	list, _ := at[a.Name].([]any)
	at[a.Name] = slices.DeleteFunc(list, func(w any) bool {
		o, isObject := w.(Resource)
		return gone[identity(w)] || isObject && o["value"] != nil && gone[identity(o["value"])]
	})
	return nil
}

// selected changes the values of a list that a filter selects, or a part of each.
func selected(at Resource, a *attribute, op *Operation) *Error {
	switch {
	case a.ReadOnly:
		return mutability(a.Name)
	case !a.Multi || a.Kind != complexOf:
		return invalid("invalidPath", "%s is no list of objects", a.Name)
	}
	f := &Filter{op.Path.ValueExpression, a.Subs, ""}
	if err := f.check(op.Path.ValueExpression); err != nil {
		return err
	}
	var part *attribute
	if sub := op.Path.SubAttributeName(); sub != "" {
		if part = named(a.Subs, sub); part == nil {
			return invalid("invalidPath", "%s has no part %s", a.Name, sub)
		}
	}
	list, _ := at[a.Name].([]any)
	found := false
	kept := list[:0]
	for _, v := range list {
		o, is := v.(Resource)
		if !is || !f.Selects(o) {
			kept = append(kept, v)
			continue
		}
		found = true
		if op.Op == "remove" && part == nil {
			continue
		}
		if err := changeOne(o, a, part, op); err != nil {
			return err
		}
		kept = append(kept, o)
	}
	at[a.Name] = kept
	if !found {
		return invalid("noTarget", "nothing in %s is as %s says", a.Name, op.Path)
	}
	return nil
}

func changeOne(o Resource, a, part *attribute, op *Operation) *Error {
	if part != nil {
		return assign(o, part, op)
	}
	v, err := a.single(op.Value, a.Name)
	if err != nil {
		return err
	}
	if op.Op == "replace" {
		clear(o)
	}
	maps.Copy(o, v.(Resource))
	return nil
}

// inEach changes a part of every value of a list.
func (t *Type) inEach(at Resource, list, part *attribute, op *Operation) *Error {
	values, _ := at[list.Name].([]any)
	for _, v := range values {
		if o, is := v.(Resource); is {
			if err := assign(o, part, op); err != nil {
				return err
			}
		}
	}
	return nil
}
