package service

// Signals that are asked for (RFC 8936).

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"os"
	"time"

	"github.com/go-json-experiment/json"

	"briskwarden.example/briskwarden/internal/jwt"
	"briskwarden.example/briskwarden/internal/rulebook"
)

// How sources are asked: the answer may wait until there is a signal, and after a failure the pauses grow.
const (
	pollWaits     = 45 * time.Second
	pollPause     = time.Second // between two answers, so that one that does not wait is not asked all the time
	longestPause  = time.Minute
	mostPolled    = 100
	mostPollBytes = 8 << 20
	lookForPolls  = time.Second // how often it is looked whether the rulebook has other sources
)

// pollAll asks all sources of the rulebook that are to be asked, each for itself, as long as they stand in it.
func (s *Service) pollAll(ctx context.Context) {
	running := map[rulebook.Signals]context.CancelFunc{}
	defer func() {
		for _, stop := range running {
			stop()
		}
	}()
	tick := time.NewTicker(lookForPolls)
	defer tick.Stop()
	for ctx.Err() == nil {
		wanted := map[rulebook.Signals]bool{}
		for _, source := range s.engine().Rulebook().Signals {
			if source.Poll == "" {
				continue
			}
			key := rulebook.Signals{Name: source.Name, Poll: source.Poll, TokenIn: source.TokenIn}
			if wanted[key] = true; running[key] == nil {
				polling, stop := context.WithCancel(ctx)
				running[key] = stop
				s.stopped.Go(func() { s.pollOne(polling, key.Name) })
			}
		}
		for key, stop := range running {
			if !wanted[key] {
				stop()
				delete(running, key)
			}
		}
		select {
		case <-ctx.Done():
		case <-tick.C:
		}
	}
}

// pollOne asks one source until it is stopped.
func (s *Service) pollOne(ctx context.Context, name string) {
	client := newClient(pollWaits + 15*time.Second)
	var done acknowledged
	for pause := pollPause; ctx.Err() == nil; {
		source := s.engine().Rulebook().SignalsOf(name)
		if source == nil || source.Poll == "" {
			return
		}
		next, err := s.poll(ctx, client, source, done)
		switch {
		case err == nil:
			done, pause = next, pollPause
			s.metrics.signal(name, "poll", "answered")
		case ctx.Err() != nil:
			return
		default:
			pause = min(2*pause, longestPause)
			s.metrics.signal(name, "poll", "failed")
			s.Log.Error("a source of signals could not be asked", slog.String("source", name), slog.Any("error", err))
		}
		select {
		case <-ctx.Done():
		case <-time.After(pause):
		}
	}
}

// acknowledged is what a source is told of the signals that it gave.
type acknowledged struct {
	IDs    []string                `json:"ack,omitempty"`
	Faults map[string]*signalFault `json:"setErrs,omitempty"`
}

// poll asks a source once, tells it what became of the signals before, and obeys those that it gives.
func (s *Service) poll(ctx context.Context, client *http.Client, source *rulebook.Signals, done acknowledged) (next acknowledged, err error) {
	got, err := s.askSource(ctx, client, source, done)
	if err != nil {
		return done, err
	}
	rb := s.engine().Rulebook() // the answer may have taken its time
	asked := source
	if source = rb.SignalsOf(asked.Name); source == nil || source.Poll != asked.Poll {
		return acknowledged{}, nil
	}
	for id, token := range got {
		var fault *signalFault
		var err error
		if t, unread := jwt.Read(token); unread == nil && t.ID != id {
			err = &signalFault{"invalid_request", `it stands under another "jti"`}
		} else {
			err = s.hear(ctx, rb, source, token)
		}
		switch {
		case err == nil:
			next.IDs = append(next.IDs, id)
		case errors.As(err, &fault):
			if next.Faults == nil {
				next.Faults = map[string]*signalFault{}
			}
			next.Faults[id] = fault
		default: // not obeyed, and so not acknowledged: it comes again
			return next, err
		}
	}
	return next, s.memory.Polled(ctx, source.Name)
}

func (s *Service) askSource(ctx context.Context, client *http.Client, source *rulebook.Signals, done acknowledged) (map[string]string, error) {
	token := os.Getenv(source.TokenIn)
	if token == "" {
		return nil, fmt.Errorf("the environment has no %s, which holds the token to ask with", source.TokenIn)
	}
	body, err := json.Marshal(struct {
		acknowledged
		Most int  `json:"maxEvents"`
		Now  bool `json:"returnImmediately"`
	}{done, mostPolled, len(done.IDs)+len(done.Faults) > 0})
	if err != nil {
		return nil, err
	}
	r, err := http.NewRequestWithContext(ctx, http.MethodPost, source.Poll, bytes.NewReader(body))
	if err != nil {
		return nil, err
	}
	r.Header.Set("Authorization", "Bearer "+token)
	r.Header.Set("Content-Type", "application/json")
	r.Header.Set("Accept", "application/json")
	answer, err := client.Do(r)
	if err != nil {
		return nil, err
	}
	defer answer.Body.Close()
	data, err := io.ReadAll(io.LimitReader(answer.Body, mostPollBytes+1))
	var got struct {
		Sets map[string]string `json:"sets"`
		More bool              `json:"moreAvailable"`
	}
	switch {
	case err != nil:
		return nil, err
	case answer.StatusCode != http.StatusOK:
		return nil, fmt.Errorf("the answer is %s", answer.Status)
	case len(data) > mostPollBytes:
		return nil, errors.New("the answer is too long")
	}
	if err := json.Unmarshal(data, &got); err != nil {
		return nil, fmt.Errorf("the answer cannot be read: %w", err)
	}
	if got.Sets == nil {
		return nil, errors.New(`the answer has no "sets"`)
	}
	return got.Sets, nil
}
