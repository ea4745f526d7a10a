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

	mu   sync.Mutex // never held while somebody is asked
	ofs  map[string]*published
	work sync.WaitGroup
}

// published are the keys of one address.
type published struct {
	keys    *jwt.Keys
	read    time.Time // the last time that they could be
	tried   time.Time
	reading chan struct{} // closed once those that are being read are there; nil: none are
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
//
// Keys are read beside requests, once at a time for each address, and what is at hand counts meanwhile. A request waits only
// where there are none, or where its token names a key that is not among them: whoever sends such a token holds up nobody else.
func (k *keyring) of(ctx context.Context, keys *rulebook.Keys, t *jwt.Token) (*jwt.Keys, error) {
	if keys.URL == "" {
		return keys.Keys, nil
	}
	for asked := false; ; asked = true {
		have, reading := k.atHand(keys.URL, t)
		if have != nil && have.Has(t) || reading == nil || asked {
			if have == nil {
				return nil, errKeys
			}
			return have, nil
		}
		select {
		case <-reading:
		case <-ctx.Done():
			return nil, errKeys
		}
	}
}

// atHand are the keys of an address that are known and count, and, where others are being read, when that is done.
func (k *keyring) atHand(url string, t *jwt.Token) (have *jwt.Keys, reading <-chan struct{}) {
	k.mu.Lock()
	defer k.mu.Unlock()
	p := k.ofs[url]
	if p == nil {
		p = &published{}
		if k.ofs == nil {
			k.ofs = map[string]*published{}
		}
		k.ofs[url] = p
	}
	now := k.now()
	due := now.Sub(p.read) >= keysFor || !p.keys.Has(t)
	if due && p.reading == nil && now.Sub(p.tried) >= keysAgain {
		p.tried, p.reading = now, make(chan struct{})
		k.work.Go(func() { k.renew(url, p) })
	}
	if now.Sub(p.read) < 24*keysFor {
		have = p.keys
	}
	return have, p.reading
}

// renew reads the keys of an address.
func (k *keyring) renew(url string, p *published) {
	read, err := k.ask(url)
	k.mu.Lock()
	defer k.mu.Unlock()
	if err == nil {
		p.keys, p.read = read, p.tried
	} else {
		k.log.Warn("keys could not be read", slog.String("url", url), slog.Any("error", err))
	}
	close(p.reading)
	p.reading = nil
}

func (k *keyring) ask(url string) (*jwt.Keys, error) {
	r, err := http.NewRequestWithContext(context.Background(), http.MethodGet, url, nil) // the client waits for nothing long
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
