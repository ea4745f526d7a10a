package provision

// What decisions need of a resource.

import (
	"briskwarden.example/briskwarden/internal/directory"
)

// personOf reads what a user's resource says that matters to decisions; groups are known elsewhere.
func personOf(k *kept) (*Person, *Error) {
	p := &Person{Joined: k.Created, Attributes: map[string]any{}}
	if stated, is := k.Resource["userType"].(string); is {
		t, err := directory.TypeOf(stated)
		if err != nil {
			return nil, invalid("invalidValue", "userType: %v", err)
		}
		p.Type = t
	}
	if active, is := k.Resource["active"].(bool); is {
		p.Active = &active
	}
	if title, is := k.Resource["title"].(string); is {
		p.Attributes["title"] = title
	}
	if x, is := k.Resource[EnterpriseSchema].(Resource); is {
		for _, name := range []string{"department", "division", "organization", "costCenter"} {
			if value, is := x[name].(string); is {
				p.Attributes[name] = value
			}
		}
	}
	if x, is := k.Resource[SignOnSchema].(Resource); is {
		p.Risk, _ = x["risk"].(string)
		methods, _ := x["methods"].([]any)
		for _, m := range methods {
			p.Methods = append(p.Methods, m.(string))
		}
	}
	return p, nil
}
