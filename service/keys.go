package service

// Keys of those who sign, where they are to be asked for.

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"sync"
	"time"

	"briskwarden.example/briskwarden/internal/jwt"
	"briskwarden.example/briskwarden/internal/rulebook"
)

// keyring has the keys that were read from addresses.
type keyring struct {
	client *http.Client
	now    func() time.Time
	log    *slog.Logger

	mu  sync.Mutex
	ofs map[string]*published
}

// published are the keys of one address.
type published struct {
	mu    sync.Mutex // while they are read
	keys  *jwt.Keys
	read  time.Time // the last time that they could be
	tried time.Time
}

// How often keys are read anew: hourly, and where a token names one that is not there, at most once a minute.
const (
	keysFor   = time.Hour
	keysAgain = time.Minute
)

// errKeys says that the keys of who signed could not be read.
var errKeys = errors.New("the keys of who signed it cannot be read")

// client asks addresses of the rulebook: it follows no redirects, and waits for nothing long.
func newClient(timeout time.Duration) *http.Client {
	return &http.Client{Timeout: timeout, CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
}

// of are the keys that a token may be signed with. Keys that could not be read for a day are forgotten.
func (k *keyring) of(ctx context.Context, keys *rulebook.Keys, t *jwt.Token) (*jwt.Keys, error) {
	if keys.URL == "" {
		return keys.Keys, nil
	}
	k.mu.Lock()
	p := k.ofs[keys.URL]
	if p == nil {
		p = &published{}
		if k.ofs == nil {
			k.ofs = map[string]*published{}
		}
		k.ofs[keys.URL] = p
	}
	k.mu.Unlock()
	p.mu.Lock()
	defer p.mu.Unlock()
	now := k.now()
	due := now.Sub(p.read) >= keysFor || !p.keys.Has(t)
	if due && now.Sub(p.tried) >= keysAgain {
		p.tried = now
		read, err := k.ask(ctx, keys.URL)
		if err == nil {
			p.keys, p.read = read, now
		} else {
			k.log.Warn("keys could not be read", slog.String("url", keys.URL), slog.Any("error", err))
		}
	}
	if p.keys == nil || now.Sub(p.read) >= 24*keysFor {
		return nil, errKeys
	}
	return p.keys, nil
}

func (k *keyring) ask(ctx context.Context, url string) (*jwt.Keys, error) {
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), k.client.Timeout) // others wait for them too
	defer cancel()
	r, err := http.NewRequestWithContext(ctx, http.MethodGet, url, nil)
	if err != nil {
		return nil, err
	}
	answer, err := k.client.Do(r)
	if err != nil {
		return nil, err
	}
	defer answer.Body.Close()
	if answer.StatusCode != http.StatusOK {
		return nil, fmt.Errorf("the answer is %s", answer.Status)
	}
	data, err := io.ReadAll(io.LimitReader(answer.Body, jwt.MostBytes+1))
	if err != nil {
		return nil, err
	}
	return jwt.ParseKeys(data)
}
