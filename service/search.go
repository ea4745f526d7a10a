package service

// The search APIs of AuthZEN 1.0: what is granted, in the order of ids.

import (
	"context"
	"encoding/base64"
	"maps"
	"net/http"
	"slices"
	"time"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"

	"briskwarden.example/briskwarden/internal/rulebook"
	"briskwarden.example/briskwarden/service/state"
	"briskwarden.example/briskwarden/signon"
)

// search is the body of a search. What is searched for is stated without its id.
type search struct {
	parts
	Page struct {
		Limit *int64 `json:"limit"`
		Token string `json:"token"`
	} `json:"page"`
}

// found is a page of what a search found.
type found struct {
	Results []any `json:"results"`
	Page    struct {
		Next string `json:"next_token"`
	} `json:"page"`
}

// entity is a subject or a resource of a result.
type entity struct {
	Type string `json:"type"`
	ID   string `json:"id"`
}

// The bounds of a search.
const (
	mostFound   = 1000 // results on one page
	triedAtOnce = 100
	searchFor   = time.Second // after which a page ends with what it has
)

// searched is a search that was read.
type searched struct {
	question
	after string // the id that the page before ended with
	limit int
}

// readSearch reads a search for one kind of thing, whose id is filled in for each that is tried.
func (s *Service) readSearch(rb *rulebook.Rulebook, body []byte, kind string) (*searched, error) {
	var asked search
	if err := json.Unmarshal(body, &asked); err != nil {
		return nil, plain(err)
	}
	p := asked.parts
	switch kind {
	case "subject":
		p.Subject = withMember(p.Subject, "id")
	case "resource":
		p.Resource = withMember(p.Resource, "id")
	case "action":
		p.Action = jsontext.Value(`{"name":"?"}`)
	}
	q, err := s.read(rb, p.body())
	if err != nil {
		return nil, err
	}
	if q.addressed && kind == "resource" {
		return nil, &signon.FieldError{Field: "resource.type", Msg: "apps are searched for: only \"app\" is looked for"}
	}
	found := &searched{question: *q, limit: mostFound}
	found.made = true
	if limit := asked.Page.Limit; limit != nil {
		if *limit < 1 {
			return nil, &signon.FieldError{Field: "page.limit", Msg: "is at least 1"}
		}
		found.limit = int(min(*limit, mostFound))
	}
	after, err := base64.RawURLEncoding.DecodeString(asked.Page.Token)
	if err != nil {
		return nil, &signon.FieldError{Field: "page.token", Msg: "is none that was given"}
	}
	found.after = string(after)
	return found, nil
}

// withMember states a member that stands for any.
func withMember(object jsontext.Value, name string) jsontext.Value {
	var members map[string]jsontext.Value
	if object.Kind() != '{' || json.Unmarshal(object, &members) != nil {
		return object // which reading it will say
	}
	members[name] = jsontext.Value(`"?"`)
	whole, _ := json.Marshal(members)
	return whole
}

// tried decides what is tried for one search, a part at a time, and gives the page of what is granted.
func (s *Service) tried(ctx context.Context, a *asked, q *searched, ids []string, ask func(so *signon.SignOn, id string), result func(id string) any) (answer, *refusal) {
	page := found{Results: []any{}}
	from, _ := slices.BinarySearch(ids, q.after+"\x00")
	if q.after == "" {
		from = 0
	}
	away, begun := false, time.Now()
	for part := range slices.Chunk(ids[from:], triedAtOnce) {
		if ctx.Err() != nil {
			return answer{}, &refusal{status: http.StatusServiceUnavailable, message: "the search takes too long: ask for smaller pages", retry: true}
		}
		questions := make([]*question, len(part))
		for i, id := range part {
			so := *q.SignOn
			ask(&so, id)
			questions[i] = &question{SignOn: &so, made: true}
		}
		away = s.decide(ctx, a, questions) || away
		for i, one := range questions {
			if isField(one.why) {
				return answer{}, unreadable(one.why)
			}
			if one.decision.Outcome != signon.Grant {
				continue
			}
			if len(page.Results) == q.limit {
				return answer{value: page, retry: away}, nil
			}
			page.Results = append(page.Results, result(part[i]))
			page.Page.Next = base64.RawURLEncoding.EncodeToString([]byte(part[i]))
		}
		if last := part[len(part)-1]; time.Since(begun) > searchFor && last != ids[len(ids)-1] {
			page.Page.Next = base64.RawURLEncoding.EncodeToString([]byte(last))
			return answer{value: page, retry: away}, nil
		}
	}
	page.Page.Next = ""
	return answer{value: page, retry: away}, nil
}

func (s *Service) searchSubject(ctx context.Context, a *asked) (answer, *refusal) {
	q, err := s.readSearch(a.engine.Rulebook(), a.body, "subject")
	if err != nil {
		return answer{}, unreadable(err)
	}
	if no := s.permittedSearch(a, q, q.App); no != nil {
		return answer{}, no
	}
	ids := slices.Collect(maps.Keys(a.engine.Rulebook().People))
	for l, err := range s.store.List(ctx, state.Key{Kind: state.Person}) {
		if err != nil {
			return answer{}, s.away(err)
		}
		ids = append(ids, l.Owner)
	}
	slices.Sort(ids)
	return s.tried(ctx, a, q, slices.Compact(ids), func(so *signon.SignOn, id string) { so.User = id }, func(id string) any { return entity{"user", id} })
}

func (s *Service) searchResource(ctx context.Context, a *asked) (answer, *refusal) {
	q, err := s.readSearch(a.engine.Rulebook(), a.body, "resource")
	if err != nil {
		return answer{}, unreadable(err)
	}
	if no := s.permittedSearch(a, q, ""); no != nil {
		return answer{}, no
	}
	var ids []string
	for name, app := range a.engine.Rulebook().Apps {
		if a.caller.Concerns(app) {
			ids = append(ids, name)
		}
	}
	slices.Sort(ids)
	return s.tried(ctx, a, q, ids, func(so *signon.SignOn, id string) { so.App = id }, func(id string) any { return entity{"app", id} })
}

func (s *Service) searchAction(ctx context.Context, a *asked) (answer, *refusal) {
	q, err := s.readSearch(a.engine.Rulebook(), a.body, "action")
	if err != nil {
		return answer{}, unreadable(err)
	}
	if no := s.permittedSearch(a, q, q.App); no != nil {
		return answer{}, no
	}
	ids := slices.Sorted(maps.Keys(a.engine.Rulebook().Actions))
	return s.tried(ctx, a, q, ids, func(so *signon.SignOn, id string) { so.Action = id }, func(id string) any {
		return struct {
			Name string `json:"name"`
		}{id}
	})
}

// permittedSearch reports whether a caller may search: about an app, or, without one, about all that are its own.
func (s *Service) permittedSearch(a *asked, q *searched, app string) *refusal {
	asked := q.question
	asked.made = q.Suppose != nil || !q.Time.IsZero()
	if app == "" {
		bare := *a.caller
		own := *bare.Caller
		own.For = rulebook.To{}
		bare.Caller = &own
		return s.permitted(&bare, a.engine.Rulebook(), &asked)
	}
	return s.permitted(a.caller, a.engine.Rulebook(), &asked)
}
