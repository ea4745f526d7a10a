// Package vpn is a small box that opens a network to people, as RADIUS (RFC 2865) knows them: a password first, then what
// the decision says is next, by Access-Challenge. It stands in for a real one.
//
// Every request has to carry a Message-Authenticator (RFC 2869, 5.14) that is right, and every answer does: without it,
// whoever is between box and server could forge an answer.
package vpn

import (
	"context"
	"crypto/hmac"
	"crypto/md5"
	"crypto/rand"
	"encoding/hex"
	"fmt"
	"log/slog"
	"net"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"time"

	"layeh.com/radius"
	"layeh.com/radius/rfc2865"
	"layeh.com/radius/rfc2869"

	"briskwarden.example/briskwarden/examples/desk/decisions"
	"briskwarden.example/briskwarden/examples/desk/vault"
	"briskwarden.example/briskwarden/language/parser"
	"briskwarden.example/briskwarden/signon"
)

// Server answers RADIUS requests. It is a [radius.Handler].
type Server struct {
	Decisions *decisions.Service
	Vault     *vault.Vault
	App       string // that the network is
	Secret    []byte // shared with the boxes that ask
	Now       func() time.Time
	Log       *slog.Logger

	mu      sync.Mutex
	waiting map[string]*dialogue // by State
	answers map[asked]lately     // that were given, for requests that come again
}

// dialogue is a sign-on on its way.
type dialogue struct {
	user    string
	session string
	proved  []string
	asked   string // the method that is asked for now
	begun   time.Time
}

// The bounds of dialogues.
const (
	dialogueFor   = 2 * time.Minute
	mostDialogues = 10_000
)

// verified reports whether a request carries a Message-Authenticator, once, and it is right.
func verified(p *radius.Packet) bool {
	var found []byte
	for _, a := range p.Attributes {
		if a.Type == rfc2869.MessageAuthenticator_Type {
			if found != nil {
				return false
			}
			found = a.Attribute
		}
	}
	if len(found) != md5.Size {
		return false
	}
	want, err := authenticator(p, p.Authenticator)
	return err == nil && hmac.Equal(want, found)
}

// authenticator is the Message-Authenticator of a packet whose authenticator field is that of the request.
func authenticator(p *radius.Packet, request [16]byte) ([]byte, error) {
	blank := *p
	blank.Authenticator = request
	blank.Attributes = slices.Clone(p.Attributes)
	for i, a := range blank.Attributes {
		if a.Type == rfc2869.MessageAuthenticator_Type {
			blank.Attributes[i] = &radius.AVP{Type: a.Type, Attribute: make([]byte, md5.Size)}
		}
	}
	raw, err := blank.MarshalBinary()
	if err != nil {
		return nil, err
	}
	mac := hmac.New(md5.New, p.Secret)
	mac.Write(raw)
	return mac.Sum(nil), nil
}

// ServeRADIUS answers a request; what is not authentic is not answered at all (RFC 2869, 5.14).
func (s *Server) ServeRADIUS(w radius.ResponseWriter, r *radius.Request) {
	if r.Code != radius.CodeAccessRequest || !verified(r.Packet) {
		s.Log.Warn("a RADIUS request is not authentic", slog.String("from", r.RemoteAddr.String()))
		return
	}
	from := asked{r.RemoteAddr.String(), r.Identifier, r.Authenticator}
	if again := s.given(from); again != nil { // the answer was lost on the way (RFC 5080, 2.2.2)
		if err := w.Write(again); err != nil {
			s.Log.Error("a RADIUS answer was not sent", slog.Any("error", err))
		}
		return
	}
	ctx, cancel := context.WithTimeout(r.Context(), 10*time.Second)
	defer cancel()
	answer := s.answer(ctx, r)
	for _, a := range r.Attributes { // all of them come back, in their order (RFC 2865, 5.33)
		if a.Type == rfc2865.ProxyState_Type {
			answer.Attributes = append(answer.Attributes, a)
		}
	}
	if err := s.sign(answer, r.Authenticator); err != nil {
		s.Log.Error("a RADIUS answer cannot be signed", slog.Any("error", err))
		return
	}
	s.remember(from, answer)
	if err := w.Write(answer); err != nil {
		s.Log.Error("a RADIUS answer was not sent", slog.Any("error", err))
	}
}

// asked tells a request from others, but not from its own repetition.
type asked struct {
	from          string
	identifier    byte
	authenticator [16]byte
}

// lately is an answer that was given.
type lately struct {
	answer *radius.Packet
	at     time.Time
}

// How long an answer is kept for a request that comes again, and how many are.
const (
	answersFor  = 30 * time.Second
	mostAnswers = 4096
)

// given is the answer that a request got before; nil is that it got none.
func (s *Server) given(to asked) *radius.Packet {
	s.mu.Lock()
	defer s.mu.Unlock()
	if l, ok := s.answers[to]; ok && time.Since(l.at) < answersFor {
		return l.answer
	}
	return nil
}

// remember keeps an answer for a while.
func (s *Server) remember(to asked, answer *radius.Packet) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.answers == nil {
		s.answers = map[asked]lately{}
	}
	if len(s.answers) >= mostAnswers {
		for old, l := range s.answers {
			if time.Since(l.at) >= answersFor {
				delete(s.answers, old)
			}
		}
		if len(s.answers) >= mostAnswers { // then each is answered anew
			return
		}
	}
	s.answers[to] = lately{answer, time.Now()}
}

// sign puts a Message-Authenticator into an answer, before all else.
func (s *Server) sign(p *radius.Packet, request [16]byte) error {
	p.Attributes = append(radius.Attributes{{Type: rfc2869.MessageAuthenticator_Type, Attribute: make([]byte, md5.Size)}}, p.Attributes...)
	mac, err := authenticator(p, request)
	if err != nil {
		return err
	}
	p.Attributes[0].Attribute = mac
	return nil
}

const notRight = "That name and password or code do not belong together, or were tried too often."

// answer takes what is given, and asks what comes next.
func (s *Server) answer(ctx context.Context, r *radius.Request) *radius.Packet {
	user := rfc2865.UserName_GetString(r.Packet)
	given, err := rfc2865.UserPassword_LookupString(r.Packet)
	if err != nil || user == "" || twice(r.Packet, rfc2865.UserName_Type, rfc2865.UserPassword_Type, rfc2865.State_Type, rfc2865.CallingStationID_Type) {
		return s.reject(r, notRight)
	}
	d := s.dialogueOf(r, user)
	if d == nil || !s.check(r, d, given) {
		return s.reject(r, notRight)
	}
	d.proved = append(d.proved, d.asked)
	return s.decide(ctx, r, d)
}

// twice reports an attribute that stands more than once.
func twice(p *radius.Packet, types ...radius.Type) bool {
	return slices.ContainsFunc(types, func(t radius.Type) bool {
		n := 0
		for _, a := range p.Attributes {
			if a.Type == t {
				n++
			}
		}
		return n > 1
	})
}

// dialogueOf finds the dialogue that a request goes on with, or begins one with a password. Each State counts once.
func (s *Server) dialogueOf(r *radius.Request, user string) *dialogue {
	state := string(rfc2865.State_Get(r.Packet))
	if state == "" {
		return &dialogue{user: user, session: random()[:32], asked: vault.Password, begun: s.Now()}
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	d := s.waiting[state]
	delete(s.waiting, state)
	if d == nil || d.user != user || s.Now().Sub(d.begun) > dialogueFor {
		return nil
	}
	return d
}

func (s *Server) check(r *radius.Request, d *dialogue, given string) bool {
	t := vault.Try{User: d.user, From: addressOf(rfc2865.CallingStationID_GetString(r.Packet))}
	switch d.asked {
	case vault.Password:
		return s.Vault.CheckPassword(t, given)
	case vault.AppCode:
		return s.Vault.CheckCode(t, strings.ReplaceAll(given, " ", ""))
	case vault.RecoveryCode:
		return s.Vault.CheckRecoveryCode(t, given)
	}
	return false
}

// decide asks the service, and says what comes next.
func (s *Server) decide(ctx context.Context, r *radius.Request, d *dialogue) *radius.Packet {
	so := signon.SignOn{User: d.user, App: s.App, Client: "native", Presented: d.proved, Session: signon.Session{ID: d.session}}
	so.IP = addressOf(rfc2865.CallingStationID_GetString(r.Packet))
	decision, err := s.Decisions.Decide(ctx, so, "")
	switch {
	case err != nil:
		s.Log.Error("the decision service cannot be asked", slog.Any("error", err))
		return s.reject(r, "Nobody can be let in just now. Please try again in a while.")
	case decision.Outcome == signon.Grant:
		return s.accept(r, d, &decision)
	case decision.Outcome == signon.StepUp:
		if method := s.next(d, &decision); method != "" {
			return s.challenge(r, d, method)
		}
		return s.reject(r, "What is asked for cannot be given here: "+wanted(&decision))
	}
	return s.reject(r, decision.Message)
}

// next is a method that is asked for, and can be given here; empty is none.
func (s *Server) next(d *dialogue, decision *signon.Decision) string {
	if len(decision.Next) == 0 || decision.Next[0].Do != signon.Verify {
		return ""
	}
	for _, set := range decision.Next[0].AnyOf {
		can := func(m string) bool {
			return slices.Contains([]string{vault.Password, vault.AppCode, vault.RecoveryCode}, m) && s.Vault.Has(d.user, m) && !slices.Contains(d.proved, m)
		}
		if !slices.ContainsFunc(set, func(m string) bool { return !can(m) }) {
			return set[0]
		}
	}
	return ""
}

// wanted says what would be asked for.
func wanted(d *signon.Decision) string {
	var list []string
	for _, step := range d.Next {
		for _, set := range step.AnyOf {
			list = append(list, strings.Join(set, " and "))
		}
		if step.AnyOf == nil {
			list = append(list, string(step.Do))
		}
	}
	return strings.Join(list, ", or ") + "."
}

// challenge asks for a method.
func (s *Server) challenge(r *radius.Request, d *dialogue, method string) *radius.Packet {
	d.asked = method
	state := random()
	s.mu.Lock()
	if s.waiting == nil {
		s.waiting = map[string]*dialogue{}
	}
	if len(s.waiting) >= mostDialogues { // the oldest makes room
		oldest := ""
		for state, d := range s.waiting {
			if oldest == "" || d.begun.Before(s.waiting[oldest].begun) {
				oldest = state
			}
		}
		delete(s.waiting, oldest)
	}
	s.waiting[state] = d
	s.mu.Unlock()
	p := r.Response(radius.CodeAccessChallenge)
	text := map[string]string{vault.AppCode: "The code that your app shows:", vault.RecoveryCode: "One of your recovery codes:"}[method]
	return set(p, rfc2865.State_SetString(p, state), rfc2865.ReplyMessage_SetString(p, text))
}

// accept lets somebody in, for as long as the policies say.
func (s *Server) accept(r *radius.Request, d *dialogue, decision *signon.Decision) *radius.Packet {
	p := r.Response(radius.CodeAccessAccept)
	errs := []error{rfc2865.UserName_SetString(p, d.user)}
	if seconds, ok := secondsOf(decision.Session.Lifetime); ok {
		errs = append(errs, rfc2865.SessionTimeout_Set(p, rfc2865.SessionTimeout(seconds)))
	}
	if seconds, ok := secondsOf(decision.Session.Idle); ok {
		errs = append(errs, rfc2865.IdleTimeout_Set(p, rfc2865.IdleTimeout(seconds)))
	}
	return set(p, errs...)
}

func secondsOf(text string) (uint32, bool) {
	d, err := parser.ParseDuration(text)
	if err != nil {
		return 0, false
	}
	return uint32(min(d.Elapsed().Seconds(), 1<<31)), true
}

// mostMessage is how long a message can be, in bytes.
const mostMessage = 253

func (s *Server) reject(r *radius.Request, why string) *radius.Packet {
	p := r.Response(radius.CodeAccessReject)
	why = strings.ToValidUTF8(why[:min(len(why), mostMessage)], "")
	if why == "" {
		return p
	}
	return set(p, rfc2865.ReplyMessage_SetString(p, why))
}

// set is a packet that could be made, or else a rejection.
func set(p *radius.Packet, errs ...error) *radius.Packet {
	if slices.ContainsFunc(errs, func(err error) bool { return err != nil }) {
		p.Code, p.Attributes = radius.CodeAccessReject, nil
	}
	return p
}

func random() string {
	var b [32]byte
	_, _ = rand.Read(b[:]) // never fails
	return hex.EncodeToString(b[:])
}

// Serve answers requests to a connection until the context ends.
func (s *Server) Serve(ctx context.Context, on net.PacketConn) error {
	server := &radius.PacketServer{Handler: s, SecretSource: radius.StaticSecretSource(s.Secret)}
	stop := context.AfterFunc(ctx, func() { _ = server.Shutdown(context.Background()) })
	defer stop()
	if err := server.Serve(on); err != nil && ctx.Err() == nil {
		return fmt.Errorf("RADIUS: %w", err)
	}
	return nil
}

// addressOf reads the address of who calls; one that cannot be read is not known.
func addressOf(text string) netip.Addr {
	a, err := netip.ParseAddr(text)
	if err != nil || a.Zone() != "" {
		return netip.Addr{}
	}
	return a
}
