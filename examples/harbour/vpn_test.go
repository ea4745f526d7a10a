package main

import (
	"bytes"
	"context"
	"crypto/hmac"
	"crypto/md5"
	"net"
	"os/exec"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"layeh.com/radius"
	"layeh.com/radius/rfc2865"
	"layeh.com/radius/rfc2869"
)

// radclient has FreeRADIUS's client ask, and gives what it prints.
func radclient(t *testing.T, h *harbour, secret, attributes string) string {
	t.Helper()
	c := exec.Command(needs(t, "radclient"), "-x", "-r", "1", "-t", "2", h.radius.LocalAddr().String(), "auth", secret)
	c.Stdin = strings.NewReader(attributes)
	out, _ := c.CombinedOutput() // it fails where it is rejected
	return string(out)
}

const signed = "Message-Authenticator=0x00"

// TestVPN opens the network by a real RADIUS client: a password, a code, and what stands against it.
func TestVPN(t *testing.T) {
	h, forward := open(t, false)
	secret := h.token("radius")
	odd := "User-Name=odd.kvale,Calling-Station-Id=203.0.113.20," + signed
	said := radclient(t, h, secret, odd+",User-Password="+passwordOf("odd.kvale"))
	require.Contains(t, said, "Access-Challenge")
	require.Contains(t, said, `Reply-Message = "The code that your app shows:"`)
	state := regexp.MustCompile(`State = (0x[0-9a-f]+)`).FindStringSubmatch(said)
	require.NotNil(t, state, said)
	code, _ := h.vault.Code("odd.kvale")
	said = radclient(t, h, secret, odd+",User-Password="+code+",State="+state[1])
	require.Contains(t, said, "Access-Accept", said)
	require.Contains(t, said, "Session-Timeout = 28800")
	require.Contains(t, said, "Idle-Timeout = 1800")
	require.Contains(t, said, "Message-Authenticator = ")
	said = radclient(t, h, secret, odd+",User-Password="+code+",State="+state[1])
	require.Contains(t, said, "Access-Reject", "a State counts once")

	forward(time.Minute)
	for _, c := range [][2]string{
		{"User-Name=odd.kvale,User-Password=wrong," + signed, "do not belong together"},
		{"User-Name=nobody,User-Password=wrong," + signed, "do not belong together"},
		{"User-Name=odd.kvale," + signed, "do not belong together"},
		{"User-Name=odd.kvale,User-Name=mira.holt,User-Password=" + passwordOf("odd.kvale") + "," + signed, "do not belong together"},
		{"User-Name=odd.kvale,Calling-Station-Id=203.0.113.77,User-Password=" + passwordOf("odd.kvale") + "," + signed, "Please sign on without a relay."},
		{"User-Name=odd.kvale,User-Password=" + passwordOf("odd.kvale") + "," + signed, "could not be verified"}, // from nowhere
		{"User-Name=mira.holt,Calling-Station-Id=203.0.113.20,User-Password=" + passwordOf("mira.holt") + "," + signed, "What is asked for cannot be given here: passkey."},
	} {
		said := radclient(t, h, secret, c[0])
		require.Contains(t, said, "Access-Reject", c[0])
		require.Contains(t, said, c[1], c[0])
		require.Contains(t, said, "Message-Authenticator = ")
	}
	require.Contains(t, radclient(t, h, "another", odd+",User-Password=x"), "No reply", "a secret that is not shared")

	said = radclient(t, h, secret, odd+",User-Password="+passwordOf("odd.kvale"))
	state = regexp.MustCompile(`State = (0x[0-9a-f]+)`).FindStringSubmatch(said)
	code, _ = h.vault.Code("odd.kvale")
	said = radclient(t, h, secret, "User-Name=alva.strand,User-Password="+code+",State="+state[1]+","+signed)
	require.Contains(t, said, "Access-Reject", "another's State")
	said = radclient(t, h, secret, odd+",User-Password="+passwordOf("odd.kvale"))
	state = regexp.MustCompile(`State = (0x[0-9a-f]+)`).FindStringSubmatch(said)
	forward(3 * time.Minute)
	code, _ = h.vault.Code("odd.kvale")
	require.Contains(t, radclient(t, h, secret, odd+",User-Password="+code+",State="+state[1]), "Access-Reject", "too late")
}

// TestForgedRADIUS: what is not authentic is not answered, and every answer is.
func TestForgedRADIUS(t *testing.T) {
	h, _ := open(t, false)
	secret := []byte(h.token("radius"))
	ask := func(change func(*radius.Packet)) *radius.Packet {
		p := radius.New(radius.CodeAccessRequest, secret)
		require.NoError(t, rfc2865.UserName_SetString(p, "odd.kvale"))
		require.NoError(t, rfc2865.UserPassword_SetString(p, passwordOf("odd.kvale")))
		require.NoError(t, rfc2865.CallingStationID_SetString(p, "203.0.113.20"))
		require.NoError(t, rfc2869.MessageAuthenticator_Set(p, make([]byte, md5.Size)))
		raw, err := p.MarshalBinary()
		require.NoError(t, err)
		mac := hmac.New(md5.New, secret)
		mac.Write(raw)
		require.NoError(t, rfc2869.MessageAuthenticator_Set(p, mac.Sum(nil)))
		change(p)
		ctx, cancel := context.WithTimeout(t.Context(), time.Second)
		defer cancel()
		answer, err := radius.Exchange(ctx, p, h.radius.LocalAddr().String())
		if err != nil {
			return nil
		}
		given := rfc2869.MessageAuthenticator_Get(answer)
		require.Len(t, given, md5.Size)
		blank := *answer
		blank.Authenticator = p.Authenticator
		blank.Attributes = nil
		for _, a := range answer.Attributes {
			if a.Type == rfc2869.MessageAuthenticator_Type {
				a = &radius.AVP{Type: a.Type, Attribute: make([]byte, md5.Size)}
			}
			blank.Attributes = append(blank.Attributes, a)
		}
		raw, err = blank.MarshalBinary()
		require.NoError(t, err)
		mac = hmac.New(md5.New, secret)
		mac.Write(raw)
		require.Equal(t, mac.Sum(nil), given)
		return answer
	}
	answer := ask(func(*radius.Packet) {})
	require.NotNil(t, answer)
	require.Equal(t, radius.CodeAccessChallenge, answer.Code)
	for name, change := range map[string]func(*radius.Packet){
		"none":   func(p *radius.Packet) { p.Attributes.Del(rfc2869.MessageAuthenticator_Type) },
		"zeroes": func(p *radius.Packet) { _ = rfc2869.MessageAuthenticator_Set(p, make([]byte, md5.Size)) },
		"two":    func(p *radius.Packet) { _ = rfc2869.MessageAuthenticator_Add(p, rfc2869.MessageAuthenticator_Get(p)) },
		"short": func(p *radius.Packet) {
			_ = rfc2869.MessageAuthenticator_Set(p, rfc2869.MessageAuthenticator_Get(p)[:15])
		},
		"another name":  func(p *radius.Packet) { _ = rfc2865.UserName_SetString(p, "alva.strand") },
		"one attribute": func(p *radius.Packet) { _ = rfc2865.NASIdentifier_SetString(p, "x") },
		"another code":  func(p *radius.Packet) { p.Code = radius.CodeAccountingRequest },
	} {
		require.Nil(t, ask(change), name)
	}
}

// TestRADIUSOnceMore: a request that comes again gets the same answer, since the first may have been lost, and boxes between get
// their Proxy-State back.
func TestRADIUSOnceMore(t *testing.T) {
	h, forward := open(t, false)
	secret := []byte(h.token("radius"))
	sign := func(p *radius.Packet) []byte {
		require.NoError(t, rfc2869.MessageAuthenticator_Set(p, make([]byte, md5.Size)))
		raw, err := p.MarshalBinary()
		require.NoError(t, err)
		mac := hmac.New(md5.New, secret)
		mac.Write(raw)
		require.NoError(t, rfc2869.MessageAuthenticator_Set(p, mac.Sum(nil)))
		raw, err = p.MarshalBinary()
		require.NoError(t, err)
		return raw
	}
	conn, err := net.Dial("udp", h.radius.LocalAddr().String())
	require.NoError(t, err)
	defer conn.Close()
	send := func(raw []byte) *radius.Packet {
		buffer, n := make([]byte, 4096), 0
		require.Eventually(t, func() bool { // what comes while the same is being answered gets no answer of its own
			_, err := conn.Write(raw)
			require.NoError(t, err)
			require.NoError(t, conn.SetReadDeadline(time.Now().Add(time.Second)))
			n, err = conn.Read(buffer)
			return err == nil
		}, 10*time.Second, time.Millisecond)
		p, err := radius.Parse(buffer[:n], secret)
		require.NoError(t, err)
		return p
	}
	request := func(password, state string) []byte {
		p := radius.New(radius.CodeAccessRequest, secret)
		require.NoError(t, rfc2865.UserName_SetString(p, "odd.kvale"))
		require.NoError(t, rfc2865.UserPassword_SetString(p, password))
		require.NoError(t, rfc2865.CallingStationID_SetString(p, "203.0.113.20"))
		require.NoError(t, rfc2865.ProxyState_AddString(p, "first"))
		require.NoError(t, rfc2865.ProxyState_AddString(p, "second"))
		if state != "" {
			require.NoError(t, rfc2865.State_SetString(p, state))
		}
		return sign(p)
	}
	first := request(passwordOf("odd.kvale"), "")
	challenge := send(first)
	require.Equal(t, radius.CodeAccessChallenge, challenge.Code)
	require.Equal(t, challenge.Attributes, send(first).Attributes, "the same State")
	forward(time.Minute)
	code, _ := h.vault.Code("odd.kvale")
	second := request(code, rfc2865.State_GetString(challenge))
	for range 3 {
		answer := send(second)
		require.Equal(t, radius.CodeAccessAccept, answer.Code, "the code counts once, and so does the answer")
		states, err := rfc2865.ProxyState_GetStrings(answer)
		require.NoError(t, err)
		require.Equal(t, []string{"first", "second"}, states)
	}
	require.Equal(t, radius.CodeAccessReject, send(request(code, rfc2865.State_GetString(challenge))).Code, "another request")
}

// TestScanner signs on without anybody there, as long as its waiver holds.
func TestScanner(t *testing.T) {
	h, forward := open(t, false)
	status, body, err := h.scanner.scan("terminal")
	require.NoError(t, err)
	require.Equal(t, 200, status, body)
	require.Contains(t, body, "svc-scanner-norvik")
	status, body, err = h.scanner.scan("home")
	require.NoError(t, err)
	require.Equal(t, 400, status, "it belongs on its quay")
	require.Contains(t, body, "invalid_grant")

	other, err := newScanner(h)
	require.NoError(t, err)
	status, _, err = other.scan("terminal")
	require.NoError(t, err)
	require.Equal(t, 401, status, "a certificate that is not the scanner's")

	for h.now().Before(time.Date(2027, 4, 1, 0, 0, 0, 0, time.UTC)) {
		forward(24 * time.Hour)
	}
	status, body, err = h.scanner.scan("terminal")
	require.NoError(t, err)
	require.Equal(t, 400, status, "the waiver has ended")
	require.Contains(t, body, "invalid_grant")
	forward(3 * 365 * 24 * time.Hour)
	status, body, err = h.scanner.scan("terminal")
	require.NoError(t, err)
	require.Equal(t, 401, status, "and so has the certificate")
	require.Contains(t, body, "invalid_client")
}

// TestProgramThatIsNotGo signs somebody on by a program that is written in another language.
func TestProgramThatIsNotGo(t *testing.T) {
	h, forward := open(t, false)
	python := needs(t, "/usr/bin/python3")
	if exec.Command(python, "-c", "import authlib, requests").Run() != nil {
		needs(t, "python3-authlib") // which is no program, and so is missing
	}
	b := newWire(t, h)
	address, verifier := b.asked("state", "", "state", "from-python")
	answer, _ := b.signOn(address, "tuva.haug", passwordOf("tuva.haug"), h.planner.url)
	forward(time.Minute)
	shown, _ := h.vault.Code("tuva.haug")
	answer, text := b.post(b.deskURL(answer.Request.URL.Path+"/give/app-code"), map[string][]string{"value": {shown}})
	answer, _ = b.follow(answer, text, h.planner.url)
	c := exec.Command(python, "testdata/client.py", h.desk.URL, h.listens["front"].Addr().String(), h.planner.client.Redirects[0], verifier, answer.Header.Get("Location"), h.now().Format(time.RFC3339))
	var out bytes.Buffer
	c.Stdout, c.Stderr = &out, &out
	require.NoError(t, c.Run(), "%s", &out)
	require.Equal(t, "tuva.haug ['pwd', 'otp']\n", out.String())
}
