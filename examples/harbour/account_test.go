package main

import (
	"fmt"
	"image/png"
	"net/netip"
	"net/url"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"briskwarden.example/briskwarden/examples/desk/vault"
)

// TestGuessing: who guesses at somebody from elsewhere, from however many addresses, does not hold her up where she signs on,
// and does not get far.
func TestGuessing(t *testing.T) {
	now := time.Date(2026, 11, 24, 8, 0, 0, 0, time.UTC)
	v := vault.New(func() time.Time { return now })
	v.Add("ann", "a storm off Eastholm")
	v.Add("bo", "another storm, at night")
	office, elsewhere := vault.Try{User: "ann", From: netip.MustParseAddr("192.0.2.7")}, func(i int) netip.Addr {
		return netip.AddrFrom4([4]byte{203, 0, 113, byte(i)})
	}
	require.True(t, v.CheckPassword(office, "a storm off Eastholm"))
	for i := range 60 {
		require.False(t, v.CheckPassword(vault.Try{User: "ann", From: elsewhere(i)}, "wrong"))
	}
	require.False(t, v.CheckPassword(vault.Try{User: "ann", From: elsewhere(99)}, "a storm off Eastholm"), "nobody elsewhere gets through by going on to another address")
	for range 30 {
		require.True(t, v.CheckPassword(office, "a storm off Eastholm"), "what is right is no guess")
	}
	now = now.Add(time.Minute)
	require.True(t, v.CheckPassword(vault.Try{User: "ann", From: elsewhere(99)}, "a storm off Eastholm"), "slower, not shut")
	for range 10 {
		require.False(t, v.CheckPassword(office, "wrong"))
	}
	require.False(t, v.CheckPassword(office, "a storm off Eastholm"))

	home := netip.MustParseAddr("2001:db8:0:1::1")
	for i := range 10 {
		require.False(t, v.CheckPassword(vault.Try{User: "bo", From: netip.MustParseAddr(fmt.Sprintf("2001:db8:0:1::%x", i+2))}, "wrong"))
	}
	require.False(t, v.CheckPassword(vault.Try{User: "bo", From: home}, "another storm, at night"), "a network of 64 bits is one place")
	for i := range 120 {
		v.CheckPassword(vault.Try{User: fmt.Sprint("nobody-", i), From: elsewhere(200)}, "wrong")
	}
	require.False(t, v.CheckPassword(vault.Try{User: "bo", From: elsewhere(200)}, "another storm, at night"), "one address does not try everybody")
}

// TestAccount: what somebody has set up is listed and removed, each time by a decision of its own, and nobody else's is.
func TestAccount(t *testing.T) {
	h, forward := open(t, false)
	mine, other := newWire(t, h), newWire(t, h)
	open := func(b *wire, user string) (flow, body string) {
		b.cookies[domain][placeCookie] = "norvik"
		answer, body := b.signOn(b.deskURL("/methods"), user, passwordOf(user), "")
		return answer.Request.URL.Path, body
	}
	post := func(b *wire, path string, form url.Values) string {
		answer, body := b.post(b.deskURL(path), form)
		_, body = b.follow(answer, body, "")
		return body
	}
	flow, body := open(mine, "odd.kvale")
	require.Contains(t, body, `name="remove" value="app-code"`)
	require.Contains(t, body, "From 192.0.2.14, here")
	theirs, body := open(other, "leif.dale")
	require.NotContains(t, body, `name="remove"`)

	// Recovery codes: those that she has are asked about before they end. What was proved counts for one change.
	body = post(mine, flow+"/enrol", url.Values{"methods": {"recovery-code"}})
	require.Contains(t, body, "Each counts once")
	codes := regexp.MustCompile(`<code>([a-z2-7]{12})</code>`).FindAllStringSubmatch(body, -1)
	require.Len(t, codes, 8)
	post(mine, flow+"/leave", nil)
	body = post(mine, flow+"/enrol", url.Values{"methods": {"recovery-code"}})
	require.Contains(t, body, "Go on", "a proof of its own")
	body = post(mine, flow+"/give/password", url.Values{"value": {passwordOf("odd.kvale")}})
	require.Contains(t, body, "will count no more")
	body = post(mine, flow+"/cancel", nil)
	require.Contains(t, body, "What you have set up here")
	require.True(t, h.vault.CheckRecoveryCode(vault.Try{User: "odd.kvale"}, codes[0][1]), "they still count")

	// The key of an app is drawn, for whoever sets it up.
	body = post(mine, flow+"/enrol", url.Values{"methods": {"app-code"}})
	require.Contains(t, body, "/qr.png")
	answer, drawn := mine.get(mine.deskURL(flow + "/qr.png"))
	require.Equal(t, "image/png", answer.Header.Get("Content-Type"))
	_, err := png.Decode(strings.NewReader(drawn))
	require.NoError(t, err)
	answer, _ = other.get(other.deskURL(flow + "/qr.png"))
	require.Equal(t, 404, answer.StatusCode)
	post(mine, flow+"/cancel", nil)

	// Removing.
	post(other, theirs+"/enrol", url.Values{"remove": {"app-code"}})
	post(other, theirs+"/sure", nil)
	require.True(t, h.vault.Has("odd.kvale", vault.AppCode), "somebody else's")
	require.Contains(t, post(mine, flow+"/enrol", url.Values{"remove": {"app-code"}}), "You cannot sign on with it any more")
	require.True(t, h.vault.Has("odd.kvale", vault.AppCode), "not before she says yes")
	post(mine, flow+"/sure", nil)
	require.False(t, h.vault.Has("odd.kvale", vault.AppCode))

	// Sessions: another browser of hers is listed and ended; somebody else's is not.
	forward(time.Minute)
	second := newWire(t, h)
	flow, body = open(second, "odd.kvale")
	ids := regexp.MustCompile(`name="session" value="([0-9a-f]{16})"[^>]*>(End|Sign out)<`).FindAllStringSubmatch(body, -1)
	require.Len(t, ids, 2)
	signedOn := func() bool { _, body := mine.get(mine.deskURL("/")); return strings.Contains(body, "odd.kvale") }
	post(other, theirs+"/end", url.Values{"session": {ids[1][1]}})
	require.True(t, signedOn())
	post(second, flow+"/end", url.Values{"session": {ids[1][1]}})
	require.Eventually(t, func() bool { return !signedOn() }, 3*time.Second, 20*time.Millisecond)

	// A page that is over has a way on.
	answer, _ = other.post(other.deskURL(theirs+"/other"), nil)
	require.Equal(t, 303, answer.StatusCode)
	answer, body = other.post(other.deskURL(theirs+"/cancel"), nil)
	require.Equal(t, 404, answer.StatusCode)
	require.Contains(t, body, `<a href="/methods">`)
}
