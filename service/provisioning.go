package service

// Provisioning by SCIM 2.0 (RFC 7644): users and groups that others state.

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"briskwarden.example/briskwarden/consent"
	"briskwarden.example/briskwarden/internal/provision"
	"briskwarden.example/briskwarden/internal/rulebook"
)

const (
	scimMedia = "application/scim+json"
	scimAt    = "/scim/v2"
)

func (s *Service) provisioning() (list []endpoint) {
	add := func(method, path string, body bool, answered func(context.Context, *asked) (answer, *refusal)) {
		list = append(list, endpoint{method: method, path: scimAt + path, right: rulebook.MayProvision, hasBody: body, scim: true, answered: answered})
	}
	for _, of := range []*provision.Type{provision.Users, provision.Groups} {
		of := &resources{s, of}
		add("GET", "/"+of.Plural, false, of.list)
		add("POST", "/"+of.Plural, true, of.create)
		add("GET", "/"+of.Plural+"/{id}", false, of.get)
		add("PUT", "/"+of.Plural+"/{id}", true, of.replace)
		add("PATCH", "/"+of.Plural+"/{id}", true, of.patch)
		add("DELETE", "/"+of.Plural+"/{id}", false, of.delete)
	}
	add("GET", "/ServiceProviderConfig", false, s.fixed(func() any { return provision.Config(s.scimURL()) }))
	for path, all := range map[string]func(base string) []provision.Described{"/ResourceTypes": provision.ResourceTypes, "/Schemas": provision.Schemas} {
		add("GET", path, false, s.fixed(func() any {
			described := all(s.scimURL())
			return provision.List(described, len(described), 1)
		}))
		add("GET", path+"/{id}", false, func(_ context.Context, a *asked) (answer, *refusal) {
			for _, d := range all(s.scimURL()) {
				if d.ID == a.PathValue("id") {
					return answer{value: d}, nil
				}
			}
			return answer{}, refuse(http.StatusNotFound, "there is no %s", a.PathValue("id"))
		})
	}
	return list
}

// fixed answers what is always the same. A filter there is refused, as RFC 7644, 4, asks.
func (s *Service) fixed(what func() any) func(context.Context, *asked) (answer, *refusal) {
	return func(_ context.Context, a *asked) (answer, *refusal) {
		if a.URL.Query().Has("filter") {
			return answer{}, refuse(http.StatusForbidden, "nothing is filtered here")
		}
		v := what()
		return answer{value: v}, nil
	}
}

func (s *Service) scimURL() string { return s.URL + scimAt }

// scimError is a refusal as SCIM tells it (RFC 7644, 3.12).
func scimError(no *refusal) answer {
	return answer{value: struct {
		Schemas []string `json:"schemas"`
		Status  string   `json:"status"`
		Type    string   `json:"scimType,omitempty"`
		Detail  string   `json:"detail,omitempty"`
	}{[]string{"urn:ietf:params:scim:api:messages:2.0:Error"}, strconv.Itoa(no.status), no.kind, no.message}}
}

// resources answers for the resources of one type.
type resources struct {
	*Service
	*provision.Type
}

func (r *resources) directory() *provision.Directory { return &provision.Directory{Store: r.store} }

// rules are the rulebook's word on people, prepared once for each rulebook.
func (s *Service) provisionRules(rb *rulebook.Rulebook) *provision.Rules {
	if f := s.folded.Load(); f != nil && f.Rulebook == rb {
		return f
	}
	f := provision.NewRules(rb)
	s.folded.Store(f)
	return f
}

// refused is the answer to an error of provisioning.
func (s *Service) refused(err error) *refusal {
	var wrong *provision.Error
	if errors.As(err, &wrong) {
		return &refusal{status: wrong.Status, message: wrong.Detail, kind: wrong.Type}
	}
	return s.away(err)
}

// resource is the answer of one resource.
func (r *resources) resource(a *asked, status int, f *provision.Found) (answer, *refusal) {
	selected, err := provision.Select(a.URL.Query())
	if err != nil {
		return answer{}, r.refused(err)
	}
	location := r.scimURL() + "/" + r.Plural + "/" + f.ID
	tag := provision.Tag(f.Version)
	if status == 0 && a.Method == http.MethodGet && a.Header.Get("If-None-Match") == tag {
		return answer{status: http.StatusNotModified, header: map[string]string{"ETag": tag}}, nil
	}
	header := map[string]string{"ETag": tag, "Location": location}
	return answer{status: status, value: selected.Of(r.Type, r.Tell(f, r.scimURL())), header: header}, nil
}

// ifMatch is the version that a request asks the resource to have.
func ifMatch(a *asked) (provision.Precondition, *refusal) {
	tag := a.Header.Get("If-Match")
	if tag == "" || tag == "*" {
		return 0, nil
	}
	version, err := strconv.ParseInt(strings.TrimSuffix(strings.TrimPrefix(strings.TrimPrefix(tag, "W/"), `"`), `"`), 10, 64)
	if err != nil || version <= 0 {
		return 0, refuse(http.StatusPreconditionFailed, "If-Match: %s is no version of the resource", tag)
	}
	return provision.Precondition(version), nil
}

// changing is the version that a request asks the resource to have, and when it is changed.
func (r *resources) changing(ctx context.Context, a *asked) (version provision.Precondition, now time.Time, no *refusal) {
	if version, no = ifMatch(a); no != nil {
		return 0, now, no
	}
	now, err := r.memory.Clock(ctx)
	if err != nil {
		return 0, now, r.away(err)
	}
	return version, now, nil
}

func (r *resources) get(ctx context.Context, a *asked) (answer, *refusal) {
	f, err := r.directory().Get(ctx, r.Type, a.PathValue("id"), true)
	if err != nil {
		return answer{}, r.refused(err)
	}
	return r.resource(a, 0, f)
}

func (r *resources) create(ctx context.Context, a *asked) (answer, *refusal) {
	stated, wrong := r.Read(a.body)
	if wrong != nil {
		return answer{}, r.refused(wrong)
	}
	now, err := r.memory.Clock(ctx)
	if err != nil {
		return answer{}, r.away(err)
	}
	var f *provision.Found
	if r.Type == provision.Users {
		f, err = r.createUser(ctx, a, stated, now)
	} else {
		f, err = r.directory().CreateGroup(ctx, r.provisionRules(a.engine.Rulebook()), stated, now)
	}
	if err != nil {
		return answer{}, r.refused(err)
	}
	r.noted(a, "provisioned", f.ID)
	return r.resource(a, http.StatusCreated, f)
}

// noted tells the log who changed what.
func (r *resources) noted(a *asked, what, id string) {
	r.Log.Info(what, "type", r.Name, "id", id, "caller", a.caller.Name)
}

func (r *resources) replace(ctx context.Context, a *asked) (answer, *refusal) {
	stated, wrong := r.Read(a.body)
	if wrong != nil {
		return answer{}, r.refused(wrong)
	}
	return r.change(ctx, a, func(before provision.Resource) (provision.Resource, *provision.Error) {
		if _, says := stated["active"]; !says && before["active"] != nil { // who leaves it out lets nobody in
			stated["active"] = before["active"]
		}
		return stated, nil
	})
}

func (r *resources) patch(ctx context.Context, a *asked) (answer, *refusal) {
	operations, wrong := provision.ReadPatch(a.body)
	if wrong != nil {
		return answer{}, r.refused(wrong)
	}
	if r.Type == provision.Groups {
		version, now, no := r.changing(ctx, a)
		if no != nil {
			return answer{}, no
		}
		done, err := r.directory().Quick(ctx, a.PathValue("id"), version, now, operations)
		if err != nil {
			return answer{}, r.refused(err)
		}
		if done {
			r.noted(a, "provisioned", a.PathValue("id"))
			return answer{status: http.StatusNoContent}, nil
		}
	}
	return r.change(ctx, a, func(before provision.Resource) (provision.Resource, *provision.Error) {
		return r.Patch(before, operations)
	})
}

func (r *resources) change(ctx context.Context, a *asked, change func(provision.Resource) (provision.Resource, *provision.Error)) (answer, *refusal) {
	version, now, no := r.changing(ctx, a)
	if no != nil {
		return answer{}, no
	}
	var f *provision.Found
	var err error
	if r.Type == provision.Users {
		f, err = r.directory().ChangeUser(ctx, r.provisionRules(a.engine.Rulebook()), a.PathValue("id"), version, now, change)
	} else {
		f, err = r.directory().ChangeGroup(ctx, r.provisionRules(a.engine.Rulebook()), a.PathValue("id"), version, now, change)
	}
	if err != nil {
		return answer{}, r.refused(err)
	}
	r.noted(a, "provisioned", f.ID)
	return r.resource(a, http.StatusOK, f)
}

func (r *resources) delete(ctx context.Context, a *asked) (answer, *refusal) {
	version, now, no := r.changing(ctx, a)
	if no != nil {
		return answer{}, no
	}
	var err error
	if r.Type == provision.Groups {
		err = r.directory().DeleteGroup(ctx, a.PathValue("id"), version)
	} else {
		err = r.deleteUser(ctx, a, version, now)
	}
	if err != nil {
		return answer{}, r.refused(err)
	}
	r.noted(a, "deprovisioned", a.PathValue("id"))
	return answer{status: http.StatusNoContent}, nil
}

// createUser creates a user, to whom nothing belongs that belonged to another of the name before; but what signals said of one
// stays.
func (r *resources) createUser(ctx context.Context, a *asked, stated provision.Resource, now time.Time) (*provision.Found, error) {
	rules := r.provisionRules(a.engine.Rulebook())
	name, _ := stated["userName"].(string)
	free, err := r.directory().Free(ctx, rules, name)
	if err != nil {
		return nil, err
	}
	if free {
		former, err := r.directory().Twins(ctx, rules, name, true)
		if err != nil {
			return nil, err
		}
		if err := cmp.Or(r.forget(ctx, a, name), r.memory.Inherit(ctx, former, name)); err != nil {
			return nil, err
		}
	}
	return r.directory().CreateUser(ctx, rules, stated, now)
}

// forget forgets all that is kept of a user but what tightens.
func (r *resources) forget(ctx context.Context, a *asked, user string) error {
	return cmp.Or(r.memory.Forget(ctx, user), consent.New(r.store, a.rules).Forget(ctx, user, "caller "+a.caller.Name))
}

// deleteUser deletes a user, and whatever is remembered of it: before, so that it is never only the user who is gone,
// and after, for what was learned meanwhile.
func (r *resources) deleteUser(ctx context.Context, a *asked, version provision.Precondition, now time.Time) error {
	user, err := r.directory().DeletableUser(ctx, r.provisionRules(a.engine.Rulebook()), a.PathValue("id"), version)
	if err != nil {
		return err
	}
	if err := r.forget(ctx, a, user); err != nil {
		return err
	}
	if err := r.directory().DeleteUser(ctx, r.provisionRules(a.engine.Rulebook()), a.PathValue("id"), version, now); err != nil {
		return err
	}
	return r.forget(ctx, a, user)
}

// The bounds of a page.
const (
	usualPage = 100
	mostPage  = 1000
)

func (r *resources) list(ctx context.Context, a *asked) (answer, *refusal) {
	query := a.URL.Query()
	start, count, no := page(query)
	if no != nil {
		return answer{}, no
	}
	selected, err := provision.Select(query)
	if err != nil {
		return answer{}, r.refused(err)
	}
	var filter *provision.Filter
	if text := query.Get("filter"); text != "" {
		var wrong *provision.Error
		if filter, wrong = r.ParseFilter(text); wrong != nil {
			return answer{}, r.refused(wrong)
		}
	}
	total, list := 0, []any{}
	err = r.each(ctx, filter, selected.Has("members"), func(f *provision.Found) {
		told := r.Tell(f, r.scimURL())
		if filter != nil && !filter.Selects(told) {
			return
		}
		if total++; total >= start && len(list) < count {
			list = append(list, selected.Of(r.Type, told))
		}
	})
	if err != nil {
		return answer{}, r.refused(err)
	}
	return answer{value: provision.List(list, total, start)}, nil
}

// each gives the resources that a filter can select: one, where it names one, or all.
func (r *resources) each(ctx context.Context, filter *provision.Filter, members bool, do func(*provision.Found)) error {
	name := map[*provision.Type]string{provision.Users: "userName", provision.Groups: "displayName"}[r.Type]
	if filter != nil {
		if value, is := filter.Lookup(name); is {
			f, err := r.directory().Named(ctx, r.Type, value, members || filter.Asks("members"))
			if err == nil && f != nil {
				do(f)
			}
			return err
		}
		members = members || filter.Asks("members")
	}
	for f, err := range r.directory().All(ctx, r.Type, members) {
		if err != nil {
			return err
		}
		do(f)
	}
	return nil
}

// page reads which part of a list is asked for (RFC 7644, 3.4.2.4).
func page(query url.Values) (start, count int, no *refusal) {
	number := func(name string, usual int) (int, *refusal) {
		if !query.Has(name) {
			return usual, nil
		}
		n, err := strconv.Atoi(query.Get(name))
		if err != nil {
			return 0, &refusal{status: http.StatusBadRequest, message: fmt.Sprintf("%s is a number", name), kind: "invalidValue"}
		}
		return n, nil
	}
	if start, no = number("startIndex", 1); no != nil {
		return 0, 0, no
	}
	if count, no = number("count", usualPage); no != nil {
		return 0, 0, no
	}
	return max(1, start), min(max(0, count), mostPage), nil
}
