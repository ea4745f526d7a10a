package sqlite_test

import (
	"fmt"
	"math/rand/v2"
	"path/filepath"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/require"

	"briskwarden.example/briskwarden"
	"briskwarden.example/briskwarden/consent"
	"briskwarden.example/briskwarden/signon"
)

// BenchmarkLargeLedger works on 100,000 consents of 10,000 people to 500 clients, in a file.
func BenchmarkLargeLedger(b *testing.B) {
	var text strings.Builder
	text.WriteString("rulebook r { floor none }\ngroup reviewers { }\nscopes basic weight 0 { openid, profile }\nscopes data weight 30 { \"d.*\" }\nscopes mail weight 50 { \"mail.*\" }\n")
	for i := range 20 {
		fmt.Fprintf(&text, "app a%d { }\n", i)
	}
	for i := range 10_000 {
		fmt.Fprintf(&text, "user u%d { groups g%d }\n", i, i%50)
	}
	text.WriteString("policy c { who everyone to everything doing consent case \"harmless\" when scopes within basic => grant case \"mail\" when scopes touch mail and client-app.id in c1, c2 => block otherwise => review by group reviewers }\n")
	rules, err := briskwarden.OpenFS(fstest.MapFS{"rulebook.warden": {Data: []byte(text.String())}}, briskwarden.WithClock(clock))
	require.NoError(b, err)
	file := open(b, filepath.Join(b.TempDir(), "ledger"))
	l, dice := consent.New(file, rules), rand.New(rand.NewPCG(1, 1))
	scopes := []string{"openid", "profile", "d.read", "d.write", "mail.read", "mail.send", "d.all"}
	var past []*consent.Consent
	for i := range 100_000 {
		c := &consent.Consent{State: consent.Granted, User: fmt.Sprintf("u%d", i%10_000), Client: fmt.Sprintf("c%d", dice.IntN(500)), App: fmt.Sprintf("a%d", i/5000), For: signon.ForSelf, By: "u1", Asked: clock()}
		c.Scopes = scopes[:1+dice.IntN(len(scopes))]
		c.Granted = c.Scopes
		past = append(past, c)
	}
	_, err = l.Import(b.Context(), nil, past, "bench")
	require.NoError(b, err)
	b.Run("ask", func(b *testing.B) {
		for i := 0; b.Loop(); i++ {
			so := signon.SignOn{User: fmt.Sprintf("u%d", dice.IntN(10_000)), App: "a1", Consent: &signon.Consent{Client: fmt.Sprintf("c%d", dice.IntN(500)), Scopes: []string{"openid", fmt.Sprintf("d.x%d", i)}}}
			if _, err := l.Ask(b.Context(), so); err != nil {
				b.Fatal(err)
			}
		}
	})
	b.Run("ask-held", func(b *testing.B) {
		for i := 0; b.Loop(); i++ {
			c := past[dice.IntN(len(past))]
			a, err := l.Ask(b.Context(), signon.SignOn{User: c.User, App: c.App, Consent: &signon.Consent{Client: c.Client, Scopes: c.Scopes}})
			if err != nil || len(a.Held) == 0 {
				b.Fatal(a, err)
			}
		}
	})
	b.Run("loading-alone", func(b *testing.B) {
		for b.Loop() {
			require.NoError(b, file.View(b.Context(), func(tx consent.Tx) error {
				for _, err := range tx.Consents(consent.Selection{}) {
					if err != nil {
						return err
					}
				}
				return nil
			}))
		}
	})
	b.Run("clients", func(b *testing.B) {
		for b.Loop() {
			list, err := l.Clients(b.Context())
			require.NoError(b, err)
			require.Len(b, list, 500)
		}
	})
	b.Run("audit", func(b *testing.B) {
		for b.Loop() {
			checked, found, err := l.Audit(b.Context())
			require.NoError(b, err)
			require.GreaterOrEqual(b, checked, 100_000)
			require.NotEmpty(b, found)
		}
	})
}
