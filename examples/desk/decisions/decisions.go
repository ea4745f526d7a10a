// Package decisions asks the decision service, as any program would over HTTP. Whatever goes wrong, the outcome is a block.
package decisions

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"time"

	"briskwarden.example/briskwarden/signon"
)

// Service is the decision service, for one caller.
type Service struct {
	URL    string
	Token  string
	Client *http.Client // nil is one that waits for ten seconds
}

var patient = &http.Client{Timeout: 10 * time.Second}

// Decide asks about a sign-on to an app, or, where the address is not empty, to the app of an address.
func (s *Service) Decide(ctx context.Context, so signon.SignOn, address string) (d signon.Decision, err error) {
	if so.Action == "" {
		so.Action = "sign-on"
	}
	body, err := json.Marshal(so)
	if err != nil {
		return d, err
	}
	if address != "" {
		if body, err = addressed(body, address); err != nil {
			return d, err
		}
	}
	status, answer, err := s.call(ctx, http.MethodPost, "/access/v1/evaluation", "application/json", body)
	switch {
	case err != nil:
		return d, err
	case status != http.StatusOK:
		return d, fmt.Errorf("the decision service answers %d", status)
	}
	err = json.Unmarshal(answer, &d)
	return d, err
}

// addressed has a request name an address in place of an app.
func addressed(body []byte, address string) ([]byte, error) {
	var request map[string]json.RawMessage
	if err := json.Unmarshal(body, &request); err != nil {
		return nil, err
	}
	resource, err := json.Marshal(map[string]string{"type": "url", "id": address})
	if err != nil {
		return nil, err
	}
	request["resource"] = resource
	return json.Marshal(request)
}

// EndSession ends a session everywhere.
func (s *Service) EndSession(ctx context.Context, user, session string) error {
	return s.must(ctx, http.MethodDelete, "/sessions/v1/"+url.PathEscape(user)+"/"+url.PathEscape(session), nil)
}

const signOnSchema = "urn:brisk-warden:params:scim:schemas:SignOn"

// Enrolled tells that a user is enrolled in a further method, by SCIM.
func (s *Service) Enrolled(ctx context.Context, user, method string) error {
	body, err := json.Marshal(map[string]any{"schemas": []string{"urn:ietf:params:scim:schemas:core:2.0:User"}, "userName": user,
		signOnSchema: map[string]any{"methods": []string{method}}})
	if err != nil {
		return err
	}
	status, _, err := s.call(ctx, http.MethodPost, "/scim/v2/Users", "application/scim+json", body)
	if err != nil || status == http.StatusCreated {
		return err
	}
	return s.changeMethods(ctx, user, "add", method)
}

// NoLongerEnrolled tells that a user is enrolled in a method no more, by SCIM.
func (s *Service) NoLongerEnrolled(ctx context.Context, user, method string) error {
	return s.changeMethods(ctx, user, "remove", method)
}

// changeMethods adds a method to those of a user, or removes it.
func (s *Service) changeMethods(ctx context.Context, user, operation, method string) error {
	id, err := s.resource(ctx, user)
	if err != nil {
		return err
	}
	change, err := json.Marshal(map[string]any{"schemas": []string{"urn:ietf:params:scim:api:messages:2.0:PatchOp"},
		"Operations": []any{map[string]any{"op": operation, "path": signOnSchema + ":methods", "value": []string{method}}}})
	if err != nil {
		return err
	}
	return s.must(ctx, http.MethodPatch, "/scim/v2/Users/"+url.PathEscape(id), change)
}

// resource is the id of a provisioned user.
func (s *Service) resource(ctx context.Context, user string) (string, error) {
	name, err := json.Marshal(user)
	if err != nil {
		return "", err
	}
	status, body, err := s.call(ctx, http.MethodGet, "/scim/v2/Users?filter="+url.QueryEscape("userName eq "+string(name)), "", nil)
	if err != nil {
		return "", err
	}
	var list struct{ Resources []struct{ ID string } }
	if err := json.Unmarshal(body, &list); err != nil || status != http.StatusOK || len(list.Resources) != 1 {
		return "", fmt.Errorf("the user cannot be found: the decision service answers %d", status)
	}
	return list.Resources[0].ID, nil
}

func (s *Service) must(ctx context.Context, method, path string, body []byte) error {
	status, _, err := s.call(ctx, method, path, "application/scim+json", body)
	if err == nil && status >= 300 {
		err = fmt.Errorf("the decision service answers %d", status)
	}
	return err
}

const mostAnswer = 1 << 20

func (s *Service) call(ctx context.Context, method, path, media string, body []byte) (status int, answer []byte, err error) {
	r, err := http.NewRequestWithContext(ctx, method, s.URL+path, bytes.NewReader(body))
	if err != nil {
		return 0, nil, err
	}
	r.Header.Set("Authorization", "Bearer "+s.Token)
	if body != nil {
		r.Header.Set("Content-Type", media)
	}
	client := s.Client
	if client == nil {
		client = patient
	}
	got, err := client.Do(r)
	if err != nil {
		return 0, nil, err
	}
	defer got.Body.Close()
	answer, err = io.ReadAll(io.LimitReader(got.Body, mostAnswer))
	return got.StatusCode, answer, err
}
