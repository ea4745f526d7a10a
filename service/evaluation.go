package service

// The Access Evaluation and Access Evaluations APIs of AuthZEN 1.0.

import (
	"bytes"
	"context"
	"errors"
	"net/http"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"

	"briskwarden.example/briskwarden/internal/lines"
	"briskwarden.example/briskwarden/internal/rulebook"
	"briskwarden.example/briskwarden/signon"
)

// unreadable is the answer to a request that cannot be read, which names the field.
func unreadable(err error) *refusal { return refuse(http.StatusBadRequest, "%s", err) }

func (s *Service) evaluation(ctx context.Context, a *asked) (answer, *refusal) {
	q, err := s.read(a.engine.Rulebook(), a.body)
	if err != nil {
		return answer{}, unreadable(err)
	}
	if no := s.permitted(a.caller, a.engine.Rulebook(), q); no != nil {
		return answer{}, no
	}
	away := s.decide(ctx, a, []*question{q})
	if isField(q.why) {
		return answer{}, unreadable(q.why)
	}
	return answer{value: told(a.caller, q), retry: away}, nil
}

// isField reports an error of what the request states.
func isField(err error) bool {
	var field *signon.FieldError
	return errors.As(err, &field)
}

// mostEvaluations is how many evaluations one request may ask for.
const mostEvaluations = 1000

// mostProduct is how many bytes the members that evaluations have in common may have, times the evaluations.
const mostProduct = 4 << 20

// mostExplained is how many policies the explanations of one answer may tell of: each tells of all, also why one did not apply.
const mostExplained = 200_000

// evaluations is the body of an Access Evaluations request. What its items leave out stands beside them.
type evaluations struct {
	parts
	Evaluations []jsontext.Value `json:"evaluations"`
	Options     struct {
		Semantic string `json:"evaluations_semantic"`
	} `json:"options"`
}

// parts are the members of an Access Evaluation request.
type parts struct {
	Subject  jsontext.Value `json:"subject"`
	Action   jsontext.Value `json:"action"`
	Resource jsontext.Value `json:"resource"`
	Context  jsontext.Value `json:"context"`
}

// none reports that no member is there.
func (p *parts) none() bool {
	return p.Subject == nil && p.Action == nil && p.Resource == nil && p.Context == nil
}

// size is how many bytes the members have.
func (p *parts) size() int {
	return len(p.Subject) + len(p.Action) + len(p.Resource) + len(p.Context)
}

// or has members that others leave out.
func (p parts) or(others parts) parts {
	for _, m := range [...]struct{ member, other *jsontext.Value }{
		{&p.Subject, &others.Subject}, {&p.Action, &others.Action}, {&p.Resource, &others.Resource}, {&p.Context, &others.Context},
	} {
		if *m.member == nil {
			*m.member = *m.other
		}
	}
	return p
}

// body is the request of the members.
func (p parts) body() []byte {
	var b bytes.Buffer
	for _, m := range [...]struct {
		name  string
		value jsontext.Value
	}{{"subject", p.Subject}, {"action", p.Action}, {"resource", p.Resource}, {"context", p.Context}} {
		if m.value == nil {
			continue
		}
		b.WriteString(map[bool]string{true: "{", false: ","}[b.Len() == 0])
		b.WriteString(`"` + m.name + `":`)
		b.Write(m.value)
	}
	if b.Len() == 0 {
		return []byte("{}")
	}
	b.WriteByte('}')
	return b.Bytes()
}

// The semantics of several evaluations, and the decision after which each goes no further.
var stopsAt = map[string]func(granted bool) bool{
	"":                       func(bool) bool { return false },
	"execute_all":            func(bool) bool { return false },
	"deny_on_first_deny":     func(granted bool) bool { return !granted },
	"permit_on_first_permit": func(granted bool) bool { return granted },
}

func (s *Service) evaluations(ctx context.Context, a *asked) (answer, *refusal) {
	var all evaluations
	if err := json.Unmarshal(a.body, &all); err != nil {
		return answer{}, unreadable(plain(err))
	}
	stops, known := stopsAt[all.Options.Semantic]
	switch {
	case !known:
		return answer{}, refuse(http.StatusBadRequest, "options.evaluations_semantic: %q is none of execute_all, deny_on_first_deny and permit_on_first_permit", all.Options.Semantic)
	case len(all.Evaluations) > mostEvaluations:
		return answer{}, refuse(http.StatusRequestEntityTooLarge, "a request has at most %d evaluations", mostEvaluations)
	case len(all.Evaluations)*all.size() > mostProduct:
		return answer{}, refuse(http.StatusRequestEntityTooLarge, "what the evaluations have in common, times their number, may be at most %d bytes", mostProduct)
	case a.caller.may(rulebook.MayExplain) && len(all.Evaluations)*len(a.engine.Rulebook().Policies) > mostExplained:
		return answer{}, refuse(http.StatusRequestEntityTooLarge, "explanations tell of every policy: a request has at most %d evaluations times policies", mostExplained)
	case len(all.Evaluations) == 0: // is a single one
		return s.evaluation(ctx, a)
	}
	list := make([]*question, len(all.Evaluations))
	var readable []*question
	for i, item := range all.Evaluations {
		if ctx.Err() != nil {
			return answer{}, &refusal{status: http.StatusServiceUnavailable, message: "reading the evaluations takes too long: ask for fewer", retry: true}
		}
		q := s.readItem(a.engine.Rulebook(), item, all.parts)
		if list[i] = q; q.why != nil {
			continue
		}
		if no := s.permitted(a.caller, a.engine.Rulebook(), q); no != nil {
			return answer{}, no
		}
		readable = append(readable, q)
	}
	away := s.inTurn(ctx, a, list, readable, stops)
	decisions := make([]*signon.Decision, 0, len(list))
	for _, q := range list {
		decisions = append(decisions, told(a.caller, q))
		if stops(q.decision.Outcome == signon.Grant) {
			break
		}
	}
	return answer{value: struct {
		Evaluations []*signon.Decision `json:"evaluations"`
	}{decisions}, retry: away}, nil
}

// readItem reads one of several evaluations; one that cannot be read is refused in its place.
func (s *Service) readItem(rb *rulebook.Rulebook, item jsontext.Value, defaults parts) *question {
	body, err := []byte(item), error(nil)
	if !defaults.none() {
		var own parts
		if err = json.Unmarshal(item, &own); err == nil && item.Kind() != '{' {
			err = errors.New("expected an object")
		}
		body = own.or(defaults).body()
	}
	var q *question
	if err == nil {
		q, err = s.read(rb, body)
	}
	if err == nil {
		return q
	}
	q = &question{SignOn: &signon.SignOn{ID: signon.DecodeID(body)}, why: err}
	q.decision = signon.Refused(q.ID, plain(err))
	return q
}

// inTurn decides on what can be read: all at once, or, where a decision may be the last, one after the other, since
// what is not decided is not remembered either.
func (s *Service) inTurn(ctx context.Context, a *asked, list, readable []*question, stops func(bool) bool) (away bool) {
	if !stops(true) && !stops(false) {
		return len(readable) > 0 && s.decide(ctx, a, readable)
	}
	for _, q := range list {
		if q.why == nil {
			away = s.decide(ctx, a, []*question{q}) || away
		}
		if stops(q.decision.Outcome == signon.Grant) {
			return away
		}
	}
	return away
}

// plain is an error of the JSON library without its own name in it.
func plain(err error) error {
	var field *signon.FieldError
	if errors.As(err, &field) {
		return err
	}
	_, why := lines.JSON(err)
	return why
}
