package service_test

import (
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/rsa"
	"encoding/base64"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"
	"testing/fstest"
	"time"

	"github.com/go-json-experiment/json"
	"github.com/golang-jwt/jwt/v5"
	"github.com/stretchr/testify/require"

	"briskwarden.example/briskwarden"
	"briskwarden.example/briskwarden/service"
	"briskwarden.example/briskwarden/signon"
	"briskwarden.example/briskwarden/store/sqlite"
)

// The keys of those who sign in the tests; foreign is nobody's.
var (
	signing, foreign = newRSA(), newRSA()
	curve, _         = ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	edPublic, ed, _  = ed25519.GenerateKey(rand.Reader)
)

func newRSA() *rsa.PrivateKey {
	key, err := rsa.GenerateKey(rand.Reader, 2048)
	if err != nil {
		panic(err)
	}
	return key
}

// published are the public keys.
func published() string {
	b := base64.RawURLEncoding.EncodeToString
	return fmt.Sprintf(`{"keys":[{"kty":"RSA","kid":"rsa","n":%q,"e":"AQAB"},{"kty":"EC","crv":"P-256","kid":"ec","x":%q,"y":%q},{"kty":"OKP","crv":"Ed25519","kid":"ed","x":%q},
		{"kty":"RSA","kid":"enc","use":"enc","n":%q,"e":"AQAB"}]}`,
		b(signing.N.Bytes()), b(curve.X.FillBytes(make([]byte, 32))), b(curve.Y.FillBytes(make([]byte, 32))), b(edPublic), b(foreign.N.Bytes()))
}

const fleetSource = `
signals fleet {
  from "https://fleet.skerry.example"  keys "keys.json"  audience "brisk"
  accept session-revoked, credential-change, device-compliance-change, assurance-level-change, risk-level-change,
    account-disabled, account-enabled, account-purged, credential-compromise
}
issuer desk { url "https://desk.skerry.example"  keys "keys.json"  audience "brisk"  who people  sign-on "https://desk.skerry.example/" }
user svc.tide { type service }
caller fleet { token %q  may signal }
app compromised { }
policy compromised { who everyone to app compromised case "leaked" when user.compromised => step-up password every time and change-password otherwise => grant }
app risky { }
policy risky { who everyone to app risky case "x" when user.risk at least medium => block otherwise => grant }
app device { }
policy device { who everyone to app device case "x" when device.compliant => grant otherwise => block }
`

// heard serves a rulebook that signals are sent to.
func heard(t *testing.T, sources string) *served {
	store, err := sqlite.Open(t.TempDir() + "/brisk.state")
	require.NoError(t, err)
	t.Cleanup(func() { store.Close() })
	rules := strings.Replace(ferryRules(), `timezone "UTC"`, "timezone \"UTC\"\n  floor none", 1)
	rules = strings.Replace(rules, "security-key every time\n", "security-key every time\n  devices \"fleet.jsonl\"\n", 1)
	r, err := briskwarden.OpenFS(fstest.MapFS{"rulebook.warden": {Data: []byte(rules + fmt.Sprintf(sources, digest("signal")))}, "keys.json": {Data: []byte(published())},
		"fleet.jsonl": {Data: []byte(`{"id":"tab","compliant":true}` + "\n" + `{"id":"old","compliant":false,"reported":"2050-01-01T00:00:00Z"}`)}})
	require.NoError(t, err)
	s := &served{TB: t, state: &clock{Store: store}}
	s.rules = r
	s.Service = service.New(r, s.state, service.Options{Clock: func() time.Time { return time.Now().Add(time.Duration(s.state.offset.Load())) }})
	t.Cleanup(func() { s.Close() })
	return s
}

type claims = map[string]any

// set is a signal, signed by a library that the service does not use.
type set struct {
	header claims
	method jwt.SigningMethod
	key    any
	claims
}

var sets int

const (
	caepEvent = "https://schemas.openid.net/secevent/caep/event-type/"
	riscEvent = "https://schemas.openid.net/secevent/risc/event-type/"
)

func user(id string) claims { return claims{"format": "opaque", "id": id} }

// about is a signal of one event.
func (s *served) about(subject any, event string, payload claims) *set {
	sets++
	return &set{claims{"typ": "secevent+jwt", "kid": "rsa"}, jwt.SigningMethodRS256, signing, claims{
		"iss": "https://fleet.skerry.example", "aud": []string{"other", "brisk"}, "jti": fmt.Sprint("j", sets), "iat": s.now().Unix(),
		"sub_id": subject, "events": claims{event: payload}}}
}

func (s *set) String() string {
	token := jwt.NewWithClaims(s.method, jwt.MapClaims(s.claims))
	for name, value := range s.header {
		if token.Header[name] = value; value == nil {
			delete(token.Header, name)
		}
	}
	text, err := token.SignedString(s.key)
	if err != nil {
		panic(err)
	}
	return text
}

// push pushes a signal, and gives the status and the code of the error.
func (s *served) push(token string) (int, string) {
	status, _, body := s.ask("signal", "POST", "/signals/v1/fleet", token, func(r *http.Request) { r.Header.Set("Content-Type", "application/secevent+jwt") })
	var said struct {
		Err string `json:"err"`
	}
	_ = json.Unmarshal([]byte(body), &said)
	return status, said.Err
}

func (s *served) accepted(subject any, event string, payload claims) {
	s.Helper()
	status, code := s.push(s.about(subject, event, payload).String())
	require.Equal(s, 202, status, code)
}

// TestSignalsAreObeyed: each event has its effect at the next decision, and what loosens only if it is newer.
func TestSignalsAreObeyed(t *testing.T) {
	s := heard(t, fleetSource)
	in := func(app, more string) string { return s.outcome("web", "ann", app, more) }
	ago := func(d time.Duration) float64 { return float64(s.now().Add(-d).UnixMilli()) / 1000 }

	require.Equal(t, "grant", in("roster", `"session":{"id":"s1"},"presented":["password"]`))
	require.Equal(t, "grant", in("roster", `"session":{"id":"s2"},"presented":["password"]`))
	soon()
	s.accepted(claims{"format": "complex", "user": user("ann"), "session": user("s1")}, caepEvent+"session-revoked", claims{})
	require.Equal(t, "block", in("roster", `"session":{"id":"s1"}`))
	require.Equal(t, "grant", in("roster", `"session":{"id":"s2"}`))
	s.accepted(claims{"format": "email", "email": "ANN"}, caepEvent+"session-revoked", claims{})
	require.Equal(t, "block", in("roster", `"session":{"id":"s2"}`))

	given := `"session":{"id":"s3"},"evidence":[{"method":"password","time":%q,"session":"s3"},{"method":"app-code","time":%q,"session":"s3"}]`
	given = fmt.Sprintf(given, s.now().Format(time.RFC3339Nano), s.now().Format(time.RFC3339Nano))
	require.Equal(t, "grant", in("vault", given))
	s.accepted(user("ann"), caepEvent+"credential-change", claims{"credential_type": "password", "change_type": "create"})
	require.Equal(t, "grant", in("vault", given))
	s.accepted(user("ann"), caepEvent+"credential-change", claims{"credential_type": "fido2-roaming", "change_type": "delete"})
	require.Equal(t, "grant", in("vault", given), "of another kind of credential")
	s.accepted(user("ann"), caepEvent+"credential-change", claims{"credential_type": "app", "change_type": "revoke"})
	require.Equal(t, "step-up", in("vault", given))
	require.Equal(t, "grant", in("roster", given))
	s.accepted(user("ann"), caepEvent+"credential-change", claims{"credential_type": "of-tomorrow", "change_type": "delete"})
	require.Equal(t, "step-up", in("roster", given))
	given = fmt.Sprintf(`"session":{"id":"s3"},"evidence":[{"method":"password","time":%q,"session":"s3"}]`, s.now().Format(time.RFC3339Nano))
	s.accepted(user("ann"), caepEvent+"assurance-level-change", claims{"current_level": 3, "change_direction": "increase"})
	require.Equal(t, "grant", in("roster", given))
	s.accepted(user("ann"), caepEvent+"assurance-level-change", claims{"current_level": "nist-aal1"})
	require.Equal(t, "step-up", in("roster", given))

	tab := `"device":{"id":"tab"}`
	require.Equal(t, "grant", in("device", tab))
	dev := func(status string, at float64) {
		s.accepted(claims{"format": "complex", "device": claims{"format": "iss_sub", "iss": "https://fleet.skerry.example", "sub": "tab"}}, caepEvent+"device-compliance-change",
			claims{"current_status": status, "previous_status": "x", "event_timestamp": at})
	}
	dev("not-compliant", ago(48*time.Hour))
	require.Equal(t, "block", in("device", tab), "it tightens at any age")
	dev("compliant", ago(49*time.Hour))
	require.Equal(t, "block", in("device", tab))
	hour := ago(time.Hour)
	dev("compliant", hour)
	require.Equal(t, "grant", in("device", tab))
	dev("not-compliant", ago(47*time.Hour))
	require.Equal(t, "block", in("device", tab))
	dev("compliant", hour)
	require.Equal(t, "block", in("device", tab), "no newer than what was said before")
	s.accepted(user("old"), caepEvent+"device-compliance-change", claims{"current_status": "compliant"})
	require.Equal(t, "block", in("device", `"device":{"id":"old"}`), "it has reported since")

	risk := func(level string, at float64) {
		s.accepted(user("ann"), caepEvent+"risk-level-change", claims{"principal": "USER", "current_level": level, "event_timestamp": at})
	}
	s.accepted(user("ann"), caepEvent+"risk-level-change", claims{"principal": "DEVICE", "current_level": "HIGH"})
	early := ago(3 * time.Hour)
	risk("LOW", early)
	require.Equal(t, "grant", in("risky", ""))
	risk("HIGH", ago(4*time.Hour))
	require.Equal(t, "block", in("risky", ""))
	risk("LOW", early)
	require.Equal(t, "block", in("risky", ""))
	risk("MEDIUM", ago(2*time.Hour))
	require.Equal(t, "block", in("risky", ""))
	risk("LOW", ago(time.Hour))
	require.Equal(t, "grant", in("risky", ""))

	enabled := func(at float64) { s.accepted(user("bob"), riscEvent+"account-enabled", claims{"event_timestamp": at}) }
	bob := func() string { return s.outcome("web", "bob", "risky", "") }
	s.accepted(user("bob"), riscEvent+"account-disabled", claims{"reason": "hijacking", "event_timestamp": ago(2 * time.Hour)})
	require.Equal(t, "block", bob())
	enabled(ago(3 * time.Hour))
	require.Equal(t, "block", bob())
	enabled(ago(time.Hour))
	require.Equal(t, "grant", bob())
	s.accepted(user("bob"), riscEvent+"account-disabled", claims{})
	beside, err := service.NewBeside(t.Context(), s.rules, s.state)
	require.NoError(t, err)
	defer beside.Close()
	d, err := beside.Rulebook.Decide(t.Context(), signon.SignOn{User: "bob", App: "risky"})
	require.NoError(t, err)
	require.Equal(t, signon.Block, d.Outcome, "whoever lists people sees it, too")
	s.accepted(user("bob"), riscEvent+"account-purged", claims{})
	require.Equal(t, "block", bob())
	s.accepted(user("gone"), riscEvent+"account-enabled", claims{})
	require.Equal(t, "block", s.outcome("web", "gone", "risky", ""), "it lifts nothing but its own")
}

// TestCompromise is about user.compromised, from the signal to the changed password.
func TestCompromise(t *testing.T) {
	s := heard(t, fleetSource)
	in := func(more string) string { return s.outcome("web", "ann", "compromised", more) }
	leaked := func() {
		s.accepted(user("ann"), riscEvent+"credential-compromise", claims{"credential_type": "password", "event_timestamp": s.now().Add(-time.Hour).Unix()})
	}
	changed := func(at time.Time) {
		s.accepted(user("ann"), caepEvent+"credential-change", claims{"credential_type": "password", "change_type": "update", "event_timestamp": at.Unix()})
	}
	require.Equal(t, "grant", in(""))
	leaked()
	require.Equal(t, "step-up", in(`"presented":["password"]`))
	require.Equal(t, "grant", s.outcome("web", "bob", "compromised", ""))
	require.Equal(t, "grant", in(`"presented":["password","change-password"]`))
	require.Equal(t, "grant", in(""), "it is over")
	leaked()
	changed(s.now().Add(-2 * time.Hour))
	require.Equal(t, "step-up", in(""))
	changed(s.now().Add(-time.Minute))
	require.Equal(t, "grant", in(""))

	require.Equal(t, "grant", s.outcome("web", "ann", "roster", `"session":{"id":"s1"},"presented":["password"]`))
	beside, err := service.NewBeside(t.Context(), s.rules, s.state)
	require.NoError(t, err)
	defer beside.Close()
	require.NoError(t, beside.RaiseRisk(t.Context(), "ann", "bob", "Seen in a list"))
	require.Equal(t, "block", s.outcome("web", "ann", "risky", ""))
	require.Equal(t, "block", s.outcome("web", "ann", "roster", `"session":{"id":"s1"}`), "the sessions are ended")
	require.Equal(t, "grant", in(`"session":{"id":"s2"},"presented":["password","change-password"]`))
	require.Equal(t, "grant", s.outcome("web", "ann", "risky", ""), "the changed password ends it")
	s.accepted(user("bob"), caepEvent+"risk-level-change", claims{"principal": "USER", "current_level": "HIGH"})
	require.Equal(t, "block", s.outcome("web", "bob", "risky", ""))
	require.NoError(t, beside.SettleRisk(t.Context(), "bob", "ann", "It was a drill"))
	require.Equal(t, "grant", s.outcome("web", "bob", "risky", ""))
	require.Error(t, beside.RaiseRisk(t.Context(), "root.key", "ann", "x"))

	silent := heard(t, fleetSource+`
signals other { from "https://other.skerry.example" keys "keys.json" audience "brisk" accept credential-compromise poll "http://127.0.0.1:1/poll" token-in NOT_THERE }`)
	require.Equal(t, "step-up", silent.outcome("web", "ann", "compromised", ""), "a source that cannot be asked may have said so")
	without := serve(t, ferryRules()+`
app compromised { }
policy compromised { who everyone to app compromised case "leaked" when user.compromised => block otherwise => grant }`, service.Options{})
	require.Equal(t, "block", without.outcome("web", "ann", "compromised", ""), "nobody tells")
}

// TestSignalsWithoutEffect: repeated ones, of others, about others.
func TestSignalsWithoutEffect(t *testing.T) {
	s := heard(t, fleetSource)
	compromised := func() string { return s.outcome("web", "ann", "compromised", "") }
	nothing := func(subject any) {
		s.Helper()
		s.accepted(subject, riscEvent+"credential-compromise", claims{"credential_type": "password"})
		require.Equal(t, "grant", compromised(), subject)
	}
	nothing(user("nobody"))
	nothing(user("root.key"))
	nothing(claims{"format": "iss_sub", "iss": "https://other.example", "sub": "ann"})
	nothing(claims{"format": "iss_sub", "iss": "https://desk.skerry.example", "sub": "svc.tide"})
	nothing(claims{"format": "of-tomorrow", "id": "ann"})
	nothing(claims{"format": "aliases", "identifiers": []any{user("ann"), user("bob")}})
	nothing(claims{"format": "complex", "device": user("tab")})
	require.Equal(t, "grant", s.outcome("web", "svc.tide", "compromised", ""))
	s.accepted(claims{"format": "opaque", "id": "stream"}, "https://schemas.openid.net/secevent/ssf/event-type/verification", claims{"state": "x"})
	s.accepted(user("ann"), "https://events.example/of-tomorrow", claims{})

	once := s.about(claims{"format": "aliases", "identifiers": []any{user("nobody"), claims{"format": "account", "uri": "acct:ann"}}}, riscEvent+"credential-compromise", claims{"credential_type": "password"}).String()
	for range 3 {
		status, _ := s.push(once)
		require.Equal(t, 202, status)
	}
	require.Equal(t, "step-up", compromised())
	require.Equal(t, "grant", s.outcome("web", "ann", "compromised", `"presented":["password","change-password"]`))
	status, _ := s.push(once)
	require.Equal(t, 202, status)
	require.Equal(t, "grant", compromised(), "heard before")
	metrics := s.operation("/metrics").Body.String()
	require.Contains(t, metrics, `brisk_signals_total{event="credential-compromise",result="repeated",source="fleet"} 3`)
	require.Contains(t, metrics, `brisk_signals_total{event="other",result="verification",source="fleet"} 1`)
	require.NotContains(t, metrics, "ann")

	s.state.away.Store(true)
	status, _ = s.push(s.about(user("ann"), riscEvent+"credential-compromise", claims{}).String())
	require.Equal(t, 503, status, "what is not kept is not acknowledged")
}

// TestSignalsThatAreNone: tampered, foreign and malformed ones are refused, with the code of RFC 8935, and do nothing.
func TestSignalsThatAreNone(t *testing.T) {
	s := heard(t, fleetSource)
	compromise := riscEvent + "credential-compromise"
	good := func() *set { return s.about(user("ann"), compromise, claims{"credential_type": "password"}) }
	header := func(name string, value any) func(*set) { return func(c *set) { c.header[name] = value } }
	claim := func(name string, value any) func(*set) {
		return func(c *set) {
			if c.claims[name] = value; value == nil {
				delete(c.claims, name)
			}
		}
	}
	event := func(name string, payload any) func(*set) {
		return claim("events", claims{caepEvent + name: payload})
	}
	subject := func(members ...any) func(*set) {
		c := claims{}
		for i := 0; i < len(members); i += 2 {
			c[members[i].(string)] = members[i+1]
		}
		return claim("sub_id", c)
	}
	by := func(method jwt.SigningMethod, key any, kid string) func(*set) {
		return func(c *set) { c.method, c.key, c.header["kid"], c.header["alg"] = method, key, kid, method.Alg() }
	}
	for code, changes := range map[string]map[string]func(*set){
		"invalid_key": {
			"foreign key": by(jwt.SigningMethodRS256, foreign, "rsa"), "key for encryption": by(jwt.SigningMethodRS256, foreign, "enc"),
			"unknown kid": header("kid", "other"), "another's kid": header("kid", "ec"), "kid of nothing": by(jwt.SigningMethodES256, curve, "rsa"),
		},
		"invalid_issuer":   {"other issuer": claim("iss", "https://fleet.skerry.example/"), "no issuer": claim("iss", nil), "an issuer of tokens": claim("iss", "https://desk.skerry.example")},
		"invalid_audience": {"other": claim("aud", "brisk2"), "none": claim("aud", nil), "no audience": claim("aud", []string{}), "case": claim("aud", "Brisk")},
		"invalid_request": {
			"no typ": header("typ", nil), "a plain token": header("typ", "JWT"), "an access token": header("typ", "at+jwt"), "crit": header("crit", []string{"b64"}), "b64": header("b64", true),
			"a shared secret": by(jwt.SigningMethodHS256, []byte(published()), "rsa"), "unsigned": by(jwt.SigningMethodNone, jwt.UnsafeAllowNoneSignatureType, "rsa"),
			"an algorithm that is not read": by(jwt.SigningMethodRS512, signing, "rsa"),
			"no jti":                        claim("jti", nil), "jti of another type": claim("jti", 7), "no iat": claim("iat", nil), "iat in words": claim("iat", "now"), "iat in milliseconds": claim("iat", 1.8e12),
			"of tomorrow": claim("iat", time.Now().Add(time.Hour).Unix()), "exp": claim("exp", time.Now().Add(time.Hour).Unix()), "sub": claim("sub", "ann"),
			"no events": claim("events", nil), "events in a list": claim("events", []any{compromise}), "no event": claim("events", claims{}), "payload in words": event("session-revoked", "x"),
			"no subject": claim("sub_id", nil), "two subjects": claim("events", claims{compromise: claims{"subject": user("bob")}}), "subject in words": claim("sub_id", "ann"),
			"no format": subject("id", "ann"), "no id": subject("format", "opaque"), "no sub": subject("format", "iss_sub", "iss", "https://desk.skerry.example"),
			"no iss": subject("format", "iss_sub", "sub", "ann"), "aliases of aliases": subject("format", "aliases", "identifiers", []any{claims{"format": "aliases", "identifiers": []any{user("ann")}}}),
			"user in words": subject("format", "complex", "user", "ann"), "id of another type": subject("format", "opaque", "id", 7),
			"no credential type": event("credential-change", claims{"change_type": "update"}), "change of no kind": event("credential-change", claims{"credential_type": "password", "change_type": "UPDATE"}),
			"status of no kind": event("device-compliance-change", claims{"current_status": "Compliant"}), "no status": event("device-compliance-change", claims{}),
			"level of no kind": event("risk-level-change", claims{"principal": "USER", "current_level": "high"}), "risk of nothing": event("risk-level-change", claims{"current_level": "HIGH"}),
			"direction of no kind": event("assurance-level-change", claims{"change_direction": "down"}),
			"time in words":        event("session-revoked", claims{"event_timestamp": "2026-11-23T08:00:00Z"}), "time of no year": event("session-revoked", claims{"event_timestamp": 1e15}),
		},
	} {
		for name, change := range changes {
			c := good()
			change(c)
			status, got := s.push(c.String())
			require.Equal(t, 400, status, name)
			require.Equal(t, code, got, name)
		}
	}
	whole := good().String()
	twice := base64.RawURLEncoding.EncodeToString([]byte(`{"alg":"RS256","alg":"RS256","typ":"secevent+jwt"}`))
	for _, token := range []string{"", "x", whole[:len(whole)-8], whole + "A", "." + whole, strings.Replace(whole, ".", "..", 1), whole[1:], twice + whole[strings.IndexByte(whole, '.'):],
		`{"payload":"e30","signatures":[]}`, whole + "." + whole, strings.Repeat("x", 70<<10)} {
		status, code := s.push(token)
		require.Equal(t, 400, status, token)
		require.Contains(t, []string{"invalid_request", "invalid_key"}, code)
	}
	require.Equal(t, "grant", s.outcome("web", "ann", "compromised", ""))
	require.Equal(t, "grant", s.outcome("web", "ann", "risky", ""))

	status, _, _ := s.ask("signal", "POST", "/signals/v1/other", whole, func(r *http.Request) { r.Header.Set("Content-Type", "application/secevent+jwt") })
	require.Equal(t, 404, status)
	status, _, _ = s.ask("signal", "POST", "/signals/v1/fleet", whole)
	require.Equal(t, 415, status)
	status, _, _ = s.ask("web", "POST", "/signals/v1/fleet", whole, func(r *http.Request) { r.Header.Set("Content-Type", "application/secevent+jwt") })
	require.Equal(t, 403, status)

	for _, change := range []func(*set){by(jwt.SigningMethodES256, curve, "ec"), by(jwt.SigningMethodEdDSA, ed, "ed"), by(jwt.SigningMethodPS256, signing, "rsa"), header("kid", nil),
		header("typ", "application/secevent+JWT"), claim("aud", "brisk")} {
		c := good()
		change(c)
		status, code := s.push(c.String())
		require.Equal(t, 202, status, code)
	}
	require.Equal(t, "step-up", s.outcome("web", "ann", "compromised", ""))
}

// TestPolledSignals asks a source that is at times away, and gives one signal that is none.
func TestPolledSignals(t *testing.T) {
	var mu sync.Mutex
	var told []string
	waiting := map[string]string{}
	source := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		mu.Lock()
		defer mu.Unlock()
		body, _ := io.ReadAll(r.Body)
		if told = append(told, string(body)); r.Header.Get("Authorization") != "Bearer fleet-token" || len(told) == 1 {
			w.WriteHeader(500)
			return
		}
		var done struct {
			Ack     []string                     `json:"ack"`
			SetErrs map[string]map[string]string `json:"setErrs"`
		}
		_ = json.Unmarshal(body, &done)
		for _, id := range done.Ack {
			delete(waiting, id)
		}
		for id := range done.SetErrs {
			delete(waiting, id)
		}
		answer, _ := json.Marshal(map[string]any{"sets": waiting})
		_, _ = w.Write(answer)
	}))
	defer source.Close()
	t.Setenv("FLEET_TOKEN", "fleet-token")
	s := heard(t, strings.Replace(fleetSource, "credential-compromise\n}", "credential-compromise\n  poll \""+source.URL+"/poll\" token-in FLEET_TOKEN\n}", 1))
	in := func() string { return s.outcome("web", "ann", "compromised", "") }
	require.Equal(t, "step-up", in(), "nobody has said yet that it is not so")
	require.Eventually(t, func() bool { return in() == "grant" }, 10*time.Second, 50*time.Millisecond)
	mu.Lock()
	good := s.about(user("ann"), riscEvent+"credential-compromise", claims{})
	waiting[good.claims["jti"].(string)] = good.String()
	waiting["another"] = s.about(user("bob"), riscEvent+"credential-compromise", claims{}).String()
	mu.Unlock()
	require.Eventually(t, func() bool { return in() == "step-up" }, 10*time.Second, 50*time.Millisecond)
	require.Eventually(t, func() bool { mu.Lock(); defer mu.Unlock(); return len(waiting) == 0 }, 10*time.Second, 50*time.Millisecond)
	mu.Lock()
	require.Contains(t, strings.Join(told, "\n"), `"setErrs":{"another":{"err":"invalid_request"`)
	mu.Unlock()
	require.Equal(t, "grant", s.outcome("web", "bob", "compromised", ""))
	status, _ := s.push(good.String())
	require.Equal(t, 404, status, "it is asked, and not pushed")
	source.Close()
	s.state.pass(2 * time.Hour)
	require.Equal(t, "step-up", s.outcome("web", "bob", "compromised", ""), "it has been silent for an hour")
}
