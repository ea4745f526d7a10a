package service

// What the service does, path by path, and where it says so.

import (
	"context"
	"net/http"

	"briskwarden.example/briskwarden/internal/provision"
	"briskwarden.example/briskwarden/internal/rulebook"
)

func (s *Service) endpoints() []endpoint {
	return append(s.provisioning(), []endpoint{
		{method: "POST", path: "/access/v1/evaluation", right: rulebook.MayDecide, hasBody: true, answered: s.evaluation},
		{method: "POST", path: "/access/v1/evaluations", right: rulebook.MayDecide, hasBody: true, answered: s.evaluations},
		{method: "POST", path: "/access/v1/search/subject", right: rulebook.MaySearch, hasBody: true, answered: s.searchSubject},
		{method: "POST", path: "/access/v1/search/resource", right: rulebook.MaySearch, hasBody: true, answered: s.searchResource},
		{method: "POST", path: "/access/v1/search/action", right: rulebook.MaySearch, hasBody: true, answered: s.searchAction},
		{method: "GET", path: "/.well-known/authzen-configuration", answered: s.metadata},
		{method: "POST", path: "/signals/v1/{name}", right: rulebook.MaySignal, hasBody: true, media: signalMedia, answered: s.signal},
		{method: "GET", path: "/forward/v1", right: rulebook.MayForward, tokenIn: "Caller-Token", answered: s.forward},
		{method: "GET", path: "/why/v1/{id}", answered: s.why},
		{method: "DELETE", path: "/sessions/v1/{user}", right: rulebook.MayOperate, answered: s.endSession},
		{method: "DELETE", path: "/sessions/v1/{user}/{id}", right: rulebook.MayOperate, answered: s.endSession},
	}...)
}

// metadata is the configuration of AuthZEN 1.0, section 9, which everybody may read.
func (s *Service) metadata(context.Context, *asked) (answer, *refusal) {
	at := func(path string) string { return s.URL + path }
	return answer{value: struct {
		Point       string `json:"policy_decision_point"`
		Evaluation  string `json:"access_evaluation_endpoint"`
		Evaluations string `json:"access_evaluations_endpoint"`
		Subject     string `json:"search_subject_endpoint"`
		Resource    string `json:"search_resource_endpoint"`
		Action      string `json:"search_action_endpoint"`
	}{s.URL, at("/access/v1/evaluation"), at("/access/v1/evaluations"), at("/access/v1/search/subject"), at("/access/v1/search/resource"), at("/access/v1/search/action")}}, nil
}

// endSession ends a session, or all of a user.
func (s *Service) endSession(ctx context.Context, a *asked) (answer, *refusal) {
	user, id := a.PathValue("user"), a.PathValue("id")
	if user == "" || id == "" && a.Pattern == "DELETE /sessions/v1/{user}/{id}" {
		return answer{}, refuse(http.StatusNotFound, "a session is named by its user and its id")
	}
	if len(user) > mostID || len(id) > mostID {
		return answer{}, refuse(http.StatusBadRequest, "a user and a session are named by at most %d bytes", mostID)
	}
	twins, err := (&provision.Directory{Store: s.store}).Twins(ctx, s.provisionRules(a.engine.Rulebook()), user, false)
	if err != nil {
		return answer{}, s.away(err)
	}
	for _, one := range append(twins, user) {
		if err := s.memory.End(ctx, one, id); err != nil {
			return answer{}, s.away(err)
		}
	}
	s.Log.Info("sessions ended", "user", user, "session", id, "caller", a.caller.Name)
	return answer{status: http.StatusNoContent}, nil
}

// away is the answer to a change that the state could not keep.
func (s *Service) away(err error) *refusal {
	s.stateFailed(err)
	return &refusal{status: http.StatusServiceUnavailable, message: "the service cannot reach what it remembers: nothing may have been changed", retry: true}
}
