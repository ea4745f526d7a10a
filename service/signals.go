package service

// Signals that are pushed (RFC 8935), and what becomes of those that arrive, pushed or polled.

import (
	"cmp"
	"context"
	"errors"
	"log/slog"
	"net/http"
	"slices"

	"briskwarden.example/briskwarden/internal/jwt"
	"briskwarden.example/briskwarden/internal/memory"
	"briskwarden.example/briskwarden/internal/provision"
	"briskwarden.example/briskwarden/internal/rulebook"
	"briskwarden.example/briskwarden/internal/secevent"
)

const signalMedia = "application/secevent+jwt"

// signalFault says why a signal is refused, by the codes of RFC 8935, section 2.4.
type signalFault struct {
	Code        string `json:"err"`
	Description string `json:"description"`
}

func (f *signalFault) Error() string { return f.Code + ": " + f.Description }

// signal takes a signal that is pushed.
func (s *Service) signal(ctx context.Context, a *asked) (answer, *refusal) {
	rb := a.engine.Rulebook()
	i := slices.IndexFunc(rb.Signals, func(source *rulebook.Signals) bool { return source.Name == a.PathValue("name") })
	if i < 0 || rb.Signals[i].Poll != "" {
		return answer{}, refuse(http.StatusNotFound, "no signals are pushed here")
	}
	var fault *signalFault
	switch err := s.hear(ctx, rb, rb.Signals[i], string(a.body)); {
	case errors.As(err, &fault):
		return answer{status: http.StatusBadRequest, value: fault}, nil
	case errors.Is(err, errKeys):
		return answer{}, &refusal{status: http.StatusServiceUnavailable, message: err.Error(), retry: true}
	case err != nil:
		return answer{}, s.away(err)
	}
	return answer{status: http.StatusAccepted}, nil
}

// hear verifies a signal, and obeys it. After an error of the type signalFault it counts for nothing; after another it
// may be obeyed in part, and is to be heard again.
func (s *Service) hear(ctx context.Context, rb *rulebook.Rulebook, source *rulebook.Signals, token string) error {
	t, events, err := s.verified(ctx, source, token)
	if err != nil {
		var fault *signalFault
		if errors.As(err, &fault) {
			s.metrics.signal(source.Name, "other", "refused")
			s.Log.Warn("a signal was refused", slog.String("source", source.Name), slog.String("why", fault.Error()))
		}
		return err
	}
	again, err := s.memory.Heard(ctx, source.From, t.ID)
	if err != nil {
		return err
	}
	for i := range events {
		result := "repeated"
		if !again {
			if result, err = s.obey(ctx, rb, source, &events[i]); err != nil {
				return err
			}
		}
		s.metrics.signal(source.Name, cmp.Or(events[i].Kind.String(), "other"), result)
		s.Log.Info("signal", slog.String("source", source.Name), slog.String("event", events[i].Address), slog.String("result", result), slog.String("jti", t.ID))
	}
	if again {
		return nil
	}
	return s.memory.NoteHeard(ctx, source.From, t.ID)
}

// verified reads and verifies a signal.
func (s *Service) verified(ctx context.Context, source *rulebook.Signals, token string) (*jwt.Token, []secevent.Event, error) {
	fault := func(code string, err error) error { return &signalFault{code, err.Error()} }
	t, err := jwt.Read(token)
	if err != nil {
		return nil, nil, fault("invalid_request", err)
	}
	if t.Type != secevent.Type {
		return nil, nil, fault("invalid_request", errors.New(`its header's "typ" is not secevent+jwt`))
	}
	keys, err := s.keys.of(ctx, &source.Keys, t)
	if err != nil {
		return nil, nil, err
	}
	switch err := t.Verify(jwt.Expected{Issuer: source.From, Audience: []string{source.Audience}, Keys: keys}, s.Clock()); {
	case errors.Is(err, jwt.ErrIssuer):
		return nil, nil, fault("invalid_issuer", err)
	case errors.Is(err, jwt.ErrKey):
		return nil, nil, fault("invalid_key", err)
	case errors.Is(err, jwt.ErrAudience):
		return nil, nil, fault("invalid_audience", err)
	case err != nil:
		return nil, nil, fault("invalid_request", err)
	}
	events, err := secevent.Read(&t.Claims)
	if err != nil {
		return nil, nil, fault("invalid_request", err)
	}
	return t, events, nil
}

// obey does what an event asks for, and says in a word what became of it.
func (s *Service) obey(ctx context.Context, rb *rulebook.Rulebook, source *rulebook.Signals, e *secevent.Event) (result string, err error) {
	switch {
	case e.Address == secevent.Verification:
		return "verification", nil
	case e.Kind == 0 || source.Accept&e.Kind == 0:
		return "not-accepted", nil
	case e.Nothing():
		return "without-effect", nil
	}
	said := memory.Signal{Event: e.Kind, Source: source.Name, At: e.At, Session: e.Subject.Session, Credential: e.Credential,
		Updated: e.Updated, Compliant: e.Compliant, Level: e.Level}
	if e.Kind == rulebook.DeviceComplianceChange {
		said.Device = device(rb, source, e.Subject.Device)
		if said.Device == "" {
			return "unknown-subject", nil
		}
		return "obeyed", s.memory.Hear(ctx, &said)
	}
	said.User, err = s.user(ctx, rb, source, e.Subject.User)
	switch {
	case err != nil:
		return "", err
	case said.User == "":
		return "unknown-subject", nil
	case rb.People[said.User] != nil && rb.People[said.User].BreakGlass:
		return "out-of-reach", nil
	}
	twins, err := (&provision.Directory{Store: s.store}).Twins(ctx, s.provisionRules(rb), said.User, false)
	if err != nil {
		return "", err
	}
	for _, twin := range twins {
		also := said
		also.User, also.Twin = twin, true
		if rb.People[twin] != nil && rb.People[twin].BreakGlass {
			continue
		}
		if err := s.memory.Hear(ctx, &also); err != nil {
			return "", err
		}
	}
	return "obeyed", s.memory.Hear(ctx, &said)
}

// user finds whom a source means. Identifiers that lead to different users lead to nobody.
func (s *Service) user(ctx context.Context, rb *rulebook.Rulebook, source *rulebook.Signals, named []secevent.Identifier) (user string, err error) {
	d := &provision.Directory{Store: s.store}
	for _, n := range named {
		issuer := slices.IndexFunc(rb.Issuers, func(i *rulebook.Issuer) bool { return i.URL == n.Issuer })
		if n.Issuer != "" && n.Issuer != source.From && issuer < 0 {
			continue
		}
		id, found, err := d.Known(ctx, s.provisionRules(rb), n.Name)
		switch {
		case err != nil:
			return "", err
		case !found || n.Issuer != source.From && issuer >= 0 && rb.People[id] != nil && !rb.Issuers[issuer].Who.Holds(rb.People[id]):
			continue
		case user != "" && user != id:
			return "", nil
		}
		user = id
	}
	return user, nil
}

// device finds which device a source means.
func device(rb *rulebook.Rulebook, source *rulebook.Signals, named []secevent.Identifier) (id string) {
	for _, n := range named {
		if rb.Devices[n.Name] == nil || n.Issuer != "" && n.Issuer != source.From {
			continue
		}
		if id != "" && id != n.Name {
			return ""
		}
		id = n.Name
	}
	return id
}
