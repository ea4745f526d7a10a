package provision

// What is told of resources, and of the service itself.

import (
	"net/url"
	"strconv"
	"strings"
	"time"

	scim "github.com/scim2/filter-parser/v2"
)

// Tag is the entity tag of a version (RFC 7644, 3.14).
func Tag(version int64) string { return `W/"` + strconv.FormatInt(version, 10) + `"` }

// Tell gives a resource as it is told, at an address of the service.
func (t *Type) Tell(f *Found, base string) Resource {
	told := clone(f.Resource).(Resource)
	schemas := []any{t.schema.ID}
	for _, x := range t.extensions {
		if told[x.ID] != nil {
			schemas = append(schemas, x.ID)
		}
	}
	at := func(plural, id string) string { return base + "/" + plural + "/" + url.PathEscape(id) }
	told["schemas"], told["id"] = schemas, f.ID
	told["meta"] = Resource{"resourceType": t.Name, "created": instantText(f.Created), "lastModified": instantText(f.Modified),
		"location": at(t.Plural, f.ID), "version": Tag(f.Version)}
	if len(f.Groups) > 0 {
		var list []any
		for _, g := range f.Groups {
			list = append(list, Resource{"value": g.ID, "$ref": at("Groups", g.ID), "display": g.Name, "type": "direct"})
		}
		told["groups"] = list
	}
	if len(f.Members) > 0 {
		list := make([]any, len(f.Members))
		for i, m := range f.Members {
			list[i] = Resource{"value": m.ID, "$ref": at(m.Type+"s", m.ID), "type": m.Type, "display": m.Display}
		}
		told["members"] = list
	}
	return told
}

func instantText(t time.Time) string { return t.UTC().Format(time.RFC3339Nano) }

// Selected says which attributes of resources are told (RFC 7644, 3.9).
type Selected struct {
	only, but []scim.AttributePath
}

// Select reads which attributes a request asks for.
func Select(query url.Values) (*Selected, error) {
	s := &Selected{}
	for name, list := range map[string]*[]scim.AttributePath{"attributes": &s.only, "excludedAttributes": &s.but} {
		for one := range strings.SplitSeq(query.Get(name), ",") {
			one = strings.TrimSpace(one)
			if one == "" {
				continue
			}
			p, err := scim.ParseAttrPath([]byte(one))
			if err != nil || len(one) > mostFilter {
				return nil, invalid("invalidPath", "%s: %q is no attribute", name, one)
			}
			*list = append(*list, p)
		}
	}
	if len(s.only) > 0 && len(s.but) > 0 {
		return nil, invalid("invalidValue", "attributes and excludedAttributes exclude each other")
	}
	return s, nil
}

// Has reports whether an attribute at the top is told.
func (s *Selected) Has(name string) bool {
	is := func(p scim.AttributePath) bool { return strings.EqualFold(p.AttributeName, name) }
	for _, p := range s.but {
		if is(p) && p.SubAttribute == nil {
			return false
		}
	}
	for _, p := range s.only {
		if is(p) {
			return true
		}
	}
	return len(s.only) == 0
}

// Of is what is told of a resource. Its id and schemas always are.
func (s *Selected) Of(t *Type, r Resource) Resource {
	f := &Filter{of: t.attributes(), main: t.schema.ID}
	for _, p := range s.but {
		if _, steps, err := f.find(p); err == nil && steps[0] != "id" && steps[0] != "schemas" {
			remove(r, steps)
		}
	}
	if len(s.only) == 0 {
		return r
	}
	kept := Resource{"id": r["id"], "schemas": r["schemas"]}
	for _, p := range s.only {
		if whole := named(f.of, p.String()); whole != nil {
			keep(kept, r, []string{whole.Name})
		} else if _, steps, err := f.find(p); err == nil {
			keep(kept, r, steps)
		}
	}
	return kept
}

// remove takes out what is at the end of some steps.
func remove(v any, steps []string) {
	switch v := v.(type) {
	case Resource:
		if len(steps) == 1 {
			delete(v, steps[0])
			return
		}
		remove(v[steps[0]], steps[1:])
	case []any:
		for _, one := range v {
			remove(one, steps)
		}
	}
}

// keep takes over what is at the end of some steps.
func keep(kept, from Resource, steps []string) {
	v, there := from[steps[0]]
	if !there {
		return
	}
	if len(steps) == 1 {
		kept[steps[0]] = v
		return
	}
	switch v := v.(type) {
	case Resource:
		inner, _ := kept[steps[0]].(Resource)
		if inner == nil {
			inner = Resource{}
		}
		keep(inner, v, steps[1:])
		kept[steps[0]] = inner
	case []any:
		before, _ := kept[steps[0]].([]any)
		list := make([]any, len(v))
		for i, one := range v {
			inner := Resource{}
			if before != nil {
				inner = before[i].(Resource)
			}
			if o, is := one.(Resource); is {
				keep(inner, o, steps[1:])
			}
			list[i] = inner
		}
		kept[steps[0]] = list
	}
}

// Asks reports whether a filter asks for an attribute at the top.
func (f *Filter) Asks(name string) bool { return asks(f.expression, name) }

func asks(e scim.Expression, name string) bool {
	switch e := e.(type) {
	case *scim.LogicalExpression:
		return asks(e.Left, name) || asks(e.Right, name)
	case *scim.NotExpression:
		return asks(e.Expression, name)
	case *scim.ValuePath:
		return strings.EqualFold(e.AttributePath.AttributeName, name)
	case *scim.AttributeExpression:
		return strings.EqualFold(e.AttributePath.AttributeName, name)
	}
	return false
}

// listResponse is a list of resources (RFC 7644, 3.4.2).
type listResponse struct {
	Schemas   []string `json:"schemas"`
	Total     int      `json:"totalResults"`
	Start     int      `json:"startIndex"`
	Page      int      `json:"itemsPerPage"`
	Resources any      `json:"Resources"`
}

// List is a page of a list.
func List[T any](page []T, total, start int) any {
	return listResponse{[]string{"urn:ietf:params:scim:api:messages:2.0:ListResponse"}, total, start, len(page), page}
}

// Described is what the service says of itself: a schema or a type of resource.
type Described struct {
	Schemas     []string   `json:"schemas"`
	ID          string     `json:"id"`
	Name        string     `json:"name"`
	Description string     `json:"description"`
	Endpoint    string     `json:"endpoint,omitempty"`
	Schema      string     `json:"schema,omitempty"`
	Extensions  []extended `json:"schemaExtensions,omitempty"`
	Attributes  []toldAttr `json:"attributes,omitempty"`
	Meta        toldMeta   `json:"meta"`
}

type (
	extended struct {
		Schema   string `json:"schema"`
		Required bool   `json:"required"`
	}
	toldMeta struct {
		Type     string `json:"resourceType"`
		Location string `json:"location"`
	}
	// toldAttr is an attribute as RFC 7643, 7, has it.
	toldAttr struct {
		Name       string     `json:"name"`
		Kind       kind       `json:"type"`
		Subs       []toldAttr `json:"subAttributes,omitempty"`
		Multi      bool       `json:"multiValued"`
		About      string     `json:"description"`
		Required   bool       `json:"required"`
		Words      []string   `json:"canonicalValues,omitempty"`
		Exact      bool       `json:"caseExact"`
		Mutability string     `json:"mutability"`
		Returned   string     `json:"returned"`
		Unique     string     `json:"uniqueness"`
		Refers     []string   `json:"referenceTypes,omitempty"`
	}
)

func describe(list []attribute) (told []toldAttr) {
	for _, a := range list {
		t := toldAttr{Name: a.Name, Kind: a.Kind, Subs: describe(a.Subs), Multi: a.Multi, About: a.About, Required: a.Required, Words: a.Words,
			Exact: a.Exact, Mutability: "readWrite", Returned: "default", Unique: "none", Refers: a.Refers}
		switch {
		case a.ReadOnly:
			t.Mutability = "readOnly"
		case a.Immutable:
			t.Mutability = "immutable"
		case a.Unreturned:
			t.Mutability, t.Returned = "writeOnly", "never"
		}
		if a.Unique {
			t.Unique = "server"
		}
		if a.Kind == link && a.Refers == nil {
			t.Refers = []string{"external"}
		}
		told = append(told, t)
	}
	return told
}

// Schemas are the schemas of all resources (RFC 7643, 7).
func Schemas(base string) (list []Described) {
	for _, s := range []*schema{&userSchema, &groupSchema, &enterpriseSchema, &signOnSchema} {
		list = append(list, Described{Schemas: []string{"urn:ietf:params:scim:schemas:core:2.0:Schema"}, ID: s.ID, Name: s.Name, Description: s.About,
			Attributes: describe(s.Attributes), Meta: toldMeta{"Schema", base + "/Schemas/" + s.ID}})
	}
	return list
}

// ResourceTypes are the types of resources (RFC 7643, 6).
func ResourceTypes(base string) (list []Described) {
	for _, t := range []*Type{Users, Groups} {
		d := Described{Schemas: []string{"urn:ietf:params:scim:schemas:core:2.0:ResourceType"}, ID: t.Name, Name: t.Name, Description: t.schema.About,
			Endpoint: "/" + t.Plural, Schema: t.schema.ID, Meta: toldMeta{"ResourceType", base + "/ResourceTypes/" + t.Name}}
		for _, x := range t.extensions {
			d.Extensions = append(d.Extensions, extended{x.ID, false})
		}
		list = append(list, d)
	}
	return list
}

// Config says what of the protocol there is (RFC 7643, 5).
func Config(base string) any {
	type feature struct {
		Supported bool `json:"supported"`
	}
	type scheme struct {
		Type        string `json:"type"`
		Name        string `json:"name"`
		Description string `json:"description"`
	}
	return struct {
		Schemas []string `json:"schemas"`
		Patch   feature  `json:"patch"`
		Bulk    struct {
			feature
			Operations int `json:"maxOperations"`
			Size       int `json:"maxPayloadSize"`
		} `json:"bulk"`
		Filter struct {
			feature
			Most int `json:"maxResults"`
		} `json:"filter"`
		Password feature  `json:"changePassword"`
		Sort     feature  `json:"sort"`
		ETag     feature  `json:"etag"`
		Schemes  []scheme `json:"authenticationSchemes"`
		Meta     toldMeta `json:"meta"`
	}{
		Schemas: []string{"urn:ietf:params:scim:schemas:core:2.0:ServiceProviderConfig"}, Patch: feature{true}, Filter: struct {
			feature
			Most int `json:"maxResults"`
		}{feature{true}, 1000}, ETag: feature{true},
		Schemes: []scheme{{"oauthbearertoken", "Bearer token", "The token of a caller of the rulebook that may provision"}},
		Meta:    toldMeta{"ServiceProviderConfig", base + "/ServiceProviderConfig"},
	}
}
