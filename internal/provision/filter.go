package provision

// Filters (RFC 7644, 3.4.2.2), and what of a resource is told.

import (
	"strings"
	"time"

	"github.com/go-json-experiment/json/jsontext"
	scim "github.com/scim2/filter-parser/v2"

	"briskwarden.example/briskwarden/signon"
)

// mostFilter is how long a filter or a path may be, in bytes.
const mostFilter = 8 << 10

// Filter selects resources.
type Filter struct {
	expression scim.Expression
	of         []attribute
	main       string // the schema whose attributes need not be named in full
}

// ParseFilter reads a filter for resources of a type.
func (t *Type) ParseFilter(text string) (*Filter, *Error) {
	if len(text) > mostFilter {
		return nil, invalid("invalidFilter", "a filter has at most %d bytes", mostFilter)
	}
	e, err := scim.ParseFilter([]byte(text))
	if err != nil {
		return nil, invalid("invalidFilter", "the filter cannot be read: %v", err)
	}
	f := &Filter{e, t.attributes(), t.schema.ID}
	return f, f.check(e)
}

// check reports what names no attribute, or compares what cannot be compared.
func (f *Filter) check(e scim.Expression) *Error {
	switch e := e.(type) {
	case *scim.LogicalExpression:
		if err := f.check(e.Left); err != nil {
			return err
		}
		return f.check(e.Right)
	case *scim.NotExpression:
		return f.check(e.Expression)
	case *scim.ValuePath:
		a, _, err := f.find(e.AttributePath)
		if err != nil {
			return err
		}
		inner := &Filter{e.ValueFilter, a.Subs, ""}
		return inner.check(e.ValueFilter)
	case *scim.AttributeExpression:
		a, _, err := f.find(e.AttributePath)
		if err != nil {
			return err
		}
		return a.comparable(e)
	}
	return invalid("invalidFilter", "the filter cannot be read")
}

// comparable reports an operator or a value that does not fit the attribute.
func (a *attribute) comparable(e *scim.AttributeExpression) *Error {
	if e.Operator == scim.PR {
		return nil
	}
	if a.Kind == complexOf && named(a.Subs, "value") == nil {
		return invalid("invalidFilter", "%s is an object: name one of its parts", e.AttributePath)
	}
	kind := a.Kind
	if kind == complexOf {
		kind = named(a.Subs, "value").Kind
	}
	_, isText := e.CompareValue.(string)
	_, isTruth := e.CompareValue.(bool)
	switch {
	case e.CompareValue == nil && (e.Operator == scim.EQ || e.Operator == scim.NE):
		return nil
	case kind == truth && (!isTruth || e.Operator != scim.EQ && e.Operator != scim.NE):
		return invalid("invalidFilter", "%s is compared by eq or ne with true or false", e.AttributePath)
	case kind != truth && !isText:
		return invalid("invalidFilter", "%s is compared with a string", e.AttributePath)
	case kind == instant:
		if _, err := signon.ParseTime(e.CompareValue.(string)); err != nil {
			return invalid("invalidFilter", "%s: %v", e.AttributePath, err)
		}
	}
	return nil
}

// find finds the attribute of a path, and the steps to it.
func (f *Filter) find(p scim.AttributePath) (*attribute, []string, *Error) {
	list, steps := f.of, []string{}
	if uri := p.URI(); uri != "" && !strings.EqualFold(uri, f.main) {
		extension := named(list, uri)
		if extension == nil {
			return nil, nil, invalid("invalidFilter", "there is no schema %s", uri)
		}
		list, steps = extension.Subs, append(steps, extension.Name)
	}
	a := named(list, p.AttributeName)
	if a == nil {
		return nil, nil, invalid("invalidFilter", "there is no attribute %s", p.AttributeName)
	}
	steps = append(steps, a.Name)
	if sub := p.SubAttributeName(); sub != "" {
		if a = named(a.Subs, sub); a == nil {
			return nil, nil, invalid("invalidFilter", "there is no attribute %s", p)
		}
		steps = append(steps, a.Name)
	}
	return a, steps, nil
}

// Selects reports whether a resource, as it is told, is among those.
func (f *Filter) Selects(r Resource) bool { return f.holds(f.expression, r) }

func (f *Filter) holds(e scim.Expression, r Resource) bool {
	switch e := e.(type) {
	case *scim.LogicalExpression:
		if e.Operator == scim.AND {
			return f.holds(e.Left, r) && f.holds(e.Right, r)
		}
		return f.holds(e.Left, r) || f.holds(e.Right, r)
	case *scim.NotExpression:
		return !f.holds(e.Expression, r)
	case *scim.ValuePath:
		a, steps, err := f.find(e.AttributePath)
		if err != nil {
			return false
		}
		inner := &Filter{e.ValueFilter, a.Subs, ""}
		for _, v := range values(r, steps) {
			if o, is := v.(Resource); is && inner.holds(e.ValueFilter, o) {
				return true
			}
		}
	case *scim.AttributeExpression:
		a, steps, err := f.find(e.AttributePath)
		return err == nil && a.compare(e, values(r, steps))
	}
	return false
}

// values are all values at the end of some steps.
func values(r Resource, steps []string) (list []any) {
	here := []any{r}
	for _, step := range steps {
		var next []any
		for _, v := range here {
			if o, is := v.(Resource); is {
				v = o[step]
			}
			if l, is := v.([]any); is {
				next = append(next, l...)
			} else if v != nil {
				next = append(next, v)
			}
		}
		here = next
	}
	return here
}

// compare compares any of some values; where there is none, only "ne" and a comparison with null hold.
func (a *attribute) compare(e *scim.AttributeExpression, list []any) bool {
	exact := a.Exact
	if value := named(a.Subs, "value"); a.Kind == complexOf && value != nil {
		exact = value.Exact
	}
	switch {
	case e.Operator == scim.PR:
		return len(list) > 0
	case e.CompareValue == nil:
		return (len(list) == 0) == (e.Operator == scim.EQ)
	case e.Operator == scim.NE:
		return !a.any(scim.EQ, e.CompareValue, list, exact)
	}
	return a.any(e.Operator, e.CompareValue, list, exact)
}

func (a *attribute) any(operator scim.CompareOperator, with any, list []any, exact bool) bool {
	for _, v := range list {
		if o, is := v.(Resource); is {
			v = o["value"]
		}
		if one(operator, v, with, exact, a.Kind == instant) {
			return true
		}
	}
	return false
}

// one compares one value.
func one(operator scim.CompareOperator, v, with any, exact, isInstant bool) bool {
	x, isText := v.(string)
	if !isText {
		return operator == scim.EQ && v == with
	}
	y, _ := textOf(with)
	if isInstant {
		return ordered(operator, instantOf(x).Compare(instantOf(y)))
	}
	if !exact {
		x, y = strings.ToLower(x), strings.ToLower(y)
	}
	switch operator {
	case scim.CO:
		return strings.Contains(x, y)
	case scim.SW:
		return strings.HasPrefix(x, y)
	case scim.EW:
		return strings.HasSuffix(x, y)
	}
	return ordered(operator, strings.Compare(x, y))
}

func instantOf(s string) time.Time {
	t, _ := signon.ParseTime(s) // which is checked before
	return t
}

func ordered(operator scim.CompareOperator, sign int) bool {
	switch operator {
	case scim.EQ:
		return sign == 0
	case scim.GT:
		return sign > 0
	case scim.GE:
		return sign >= 0
	case scim.LT:
		return sign < 0
	case scim.LE:
		return sign <= 0
	}
	return false
}

// Lookup is the value with which a filter alone compares an attribute for equality, if it is no more than that.
func (f *Filter) Lookup(attribute string) (value string, is bool) {
	e, single := f.expression.(*scim.AttributeExpression)
	if !single || e.Operator != scim.EQ || !strings.EqualFold(e.AttributePath.String(), attribute) {
		return "", false
	}
	return textOf(e.CompareValue)
}

// textOf is the text that something is compared with: the parser leaves escapes as they stand.
func textOf(value any) (text string, is bool) {
	text, is = value.(string)
	if raw, err := jsontext.AppendUnquote(nil, `"`+text+`"`); err == nil {
		text = string(raw)
	}
	return text, is
}
