package service

// What a web gateway asks before it lets a request through (such as nginx with auth_request).

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"net/netip"
	"strconv"
	"strings"
	"time"

	"briskwarden.example/briskwarden/internal/appurl"
	"briskwarden.example/briskwarden/internal/demand"
	"briskwarden.example/briskwarden/internal/memory"
	"briskwarden.example/briskwarden/internal/rulebook"
	"briskwarden.example/briskwarden/language/parser"
	"briskwarden.example/briskwarden/signon"
)

// visit is a request to a web gateway, as the gateway tells of it.
type visit struct {
	id      string // of the decision
	address appurl.Address
	query   string
	from    netip.Addr
	app     string
	rb      *rulebook.Rulebook
	issuer  *rulebook.Issuer // whose token it seems to be; may be nil
}

// newDecisionID is 128 random bits.
func newDecisionID() string {
	var b [16]byte
	_, _ = rand.Read(b[:]) // never fails
	return hex.EncodeToString(b[:])
}

// forward decides whether a request may pass.
func (s *Service) forward(ctx context.Context, a *asked) (answer, *refusal) {
	v := &visit{id: newDecisionID(), rb: a.engine.Rulebook()}
	if no := v.read(a.Request); no != nil {
		return answer{}, no
	}
	if v.app == "" || !a.caller.Concerns(v.rb.Apps[v.app]) {
		s.metrics.forwarded("no-app")
		s.tellNoApp(ctx, a, v)
		return v.blocked("No app has this address."), nil
	}
	app := v.rb.Apps[v.app]
	who, issuer, err := s.bearer(ctx, a.Request, v.rb, func(i *rulebook.Issuer) []string { return []string{i.AudienceFor(app)} })
	v.issuer = issuer
	var twice *cookieTwice
	switch {
	case errors.As(err, &twice):
		s.metrics.forwarded("cookie-twice")
		return v.unknown(`Bearer error="invalid_request", error_description="the cookie came twice"`, map[string]string{"problem": "cookie-twice"}), nil
	case errors.Is(err, errNoToken):
		s.metrics.forwarded("no-token")
		return v.unknown("Bearer", nil), nil
	case errors.Is(err, errKeys):
		s.metrics.forwarded("no-keys")
		to := v.blocked("The keys of who issued the token cannot be read.")
		to.retry = true
		return to, nil
	case err != nil:
		s.metrics.forwarded("bad-token")
		return v.unknown(`Bearer error="invalid_token"`, nil), nil
	}
	return s.pass(ctx, a, v, who)
}

// The headers in which a gateway says what it was asked for.
const (
	askedURL    = "Asked-URL"
	askedMethod = "Asked-Method"
)

// earlierNames are those that an earlier version read. A gateway that still sets them does not replace the new ones, so
// that a visitor could choose the address that is judged.
var earlierNames = []string{"X-Original-URL", "X-Original-Method"}

// read reads what the gateway says of the request.
func (v *visit) read(r *http.Request) *refusal {
	for _, name := range earlierNames {
		if len(r.Header.Values(name)) > 0 {
			return refuse(http.StatusBadRequest, "%s: the gateway sets Asked-URL and Asked-Method, and removes this header, which a visitor can set", name)
		}
	}
	said := map[string]string{}
	for _, name := range []string{askedURL, askedMethod, "X-Forwarded-For"} {
		values := r.Header.Values(name)
		if len(values) != 1 || values[0] == "" {
			return refuse(http.StatusBadRequest, "%s: the gateway sets it, once", name)
		}
		said[name] = values[0]
	}
	var err error
	if v.from, err = netip.ParseAddr(said["X-Forwarded-For"]); err != nil || v.from.Zone() != "" {
		return refuse(http.StatusBadRequest, "X-Forwarded-For: it holds one address, that of who asks the gateway")
	}
	if !isMethod(said[askedMethod]) {
		return refuse(http.StatusBadRequest, "%s: it is no method", askedMethod)
	}
	if v.address, err = appurl.Parse(said[askedURL]); err != nil {
		return nil
	}
	_, v.query, _ = strings.Cut(said[askedURL], "?")
	v.app, _ = v.rb.Addresses.App(v.address)
	return nil
}

// isMethod reports a method of RFC 9110, section 9.1.
func isMethod(s string) bool {
	return s != "" && len(s) <= 64 && strings.Trim(s, "ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789!#$%&'*+-.^_`|~") == ""
}

// pass decides on a visit of somebody who is known.
func (s *Service) pass(ctx context.Context, a *asked, v *visit, who *bearer) (answer, *refusal) {
	begun := time.Now()
	q, recalled, err := s.visited(ctx, a, v, who)
	if err != nil {
		if !errors.Is(ctx.Err(), context.Canceled) {
			s.stateFailed(err)
		}
		s.withoutState(ctx, a.engine, q)
	}
	if err != nil {
		recalled = nil
	}
	s.alerts(ctx, a, []*question{q}, recalled)
	s.finish(a, []*question{q}, recalled, begun)
	s.metrics.forwarded(q.decision.Outcome.String())
	if q.decision.Outcome != signon.Grant && err == nil {
		s.tell(ctx, v, q, recalled[0].At)
	}
	to := v.answer(&q.decision, who)
	to.retry = err != nil
	return to, nil
}

// visited decides in every way in which what the token says may have been proved, and gives the strictest.
func (s *Service) visited(ctx context.Context, a *asked, v *visit, who *bearer) (strictest *question, of []*memory.Recall, err error) {
	base := signon.SignOn{ID: v.id, User: who.user(), Action: rulebook.SignOn, App: v.app, IP: v.from, Session: signon.Session{ID: who.Session}}
	if who.cookie {
		base.Client = "browser"
	}
	ways := [][]string{nil}
	given := who.given()
	if sets := v.rb.Methods.Given(who.Methods); sets != nil && !given.IsZero() {
		ways = namesOf(v.rb.Methods, sets)
	}
	signOns := make([]*signon.SignOn, len(ways))
	for i, methods := range ways {
		one := base
		one.Evidence = memory.Given(methods, given, who.Session)
		signOns[i] = &one
	}
	strictest = &question{SignOn: &base}
	recalled, err := s.memory.Recall(ctx, a.engine, who.word(), signOns)
	if err != nil {
		if age := s.Clock().Sub(given); len(ways) == 1 && age >= 0 && age <= time.Minute {
			base.Presented = ways[0]
		}
		return strictest, nil, err
	}
	for i, r := range recalled {
		q := &question{SignOn: signOns[i], fact: r.Ended && r.Known()}
		r.Meet(given, len(ways) == 1)
		if !speaksFor(v.rb, who.issuer, r.Person) {
			r.Person = nil
		}
		if q.raised, q.why = a.engine.DecideAlerting(ctx, &r.SignOn, &r.Recalled, &q.decision, false); q.why != nil {
			return strictest, nil, q.why
		}
		q.alerting = true
		if i == 0 || q.decision.Outcome < strictest.decision.Outcome {
			strictest, of = q, []*memory.Recall{r}
		}
	}
	if strictest.decision.Outcome == signon.Grant {
		of[0].Stands(idleOf(strictest.decision.Session))
	}
	return strictest, of, s.memory.Keep(ctx, v.rb, of, []signon.Outcome{strictest.decision.Outcome})
}

// idleFor is how long session and app have met where no policy says when a session is idle.
const idleFor = 15 * time.Minute

// idleOf is how long a session may be idle.
func idleOf(limits signon.SessionLimits) time.Duration {
	if limits.Idle == "" {
		return idleFor
	}
	d, err := parser.ParseDuration(limits.Idle)
	if err != nil { // it comes from a rulebook that was read
		return 0
	}
	return d.Elapsed()
}

// speaksFor reports whether an issuer speaks for a person, and no other does.
func speaksFor(rb *rulebook.Rulebook, issuer *rulebook.Issuer, p *rulebook.Person) bool {
	return p == nil || rb.IssuerFor(p) == issuer
}

func namesOf(methods *demand.Methods, sets []demand.Set) [][]string {
	list := make([][]string, len(sets))
	for i, s := range sets {
		s.Each(func(id int) { list[i] = append(list[i], methods.All()[id].Name) })
	}
	return list
}

// answer is what the gateway is told.
func (v *visit) answer(d *signon.Decision, who *bearer) answer {
	switch d.Outcome {
	case signon.Grant:
		return answer{status: http.StatusNoContent, header: map[string]string{"Decision-ID": v.id, "Remote-User": encoded(who.user())}}
	case signon.StepUp:
		age := ""
		if d.MaxAge != signon.NoMaxAge {
			age = strconv.FormatInt(d.MaxAge, 10)
		}
		return v.unknown(d.Challenge(), map[string]string{"acr_values": d.ACR, "max_age": age})
	}
	return v.blocked(d.Message)
}

// unknown is the answer to somebody who has to sign on, with what more the desk is to know.
func (v *visit) unknown(challenge string, more map[string]string) answer {
	header := map[string]string{"Decision-ID": v.id, "WWW-Authenticate": challenge}
	if at := signOnURL(v.rb, v.issuer, v.address, v.query, more); at != "" {
		header["Sign-On-URL"] = at
	}
	return answer{status: http.StatusUnauthorized, header: header}
}

func (v *visit) blocked(why string) answer {
	return answer{status: http.StatusForbidden, header: map[string]string{"Decision-ID": v.id}, value: map[string]string{"error": why, "id": v.id}}
}

// encoded is a name as a header can hold it: what is no visible ASCII is percent-encoded, and so is "%", so that no two
// names come out the same.
func encoded(name string) string {
	var b strings.Builder
	for _, c := range []byte(name) {
		if c <= ' ' || c >= 0x7f || c == '%' {
			fmt.Fprintf(&b, "%%%02X", c)
			continue
		}
		b.WriteByte(c)
	}
	return b.String()
}

// tellNoApp keeps for whoever is signed on that no app has an address.
func (s *Service) tellNoApp(ctx context.Context, a *asked, v *visit) {
	who, _, err := s.bearer(ctx, a.Request, v.rb, (*rulebook.Issuer).AllAudiences)
	if err != nil || !s.told.May(who.user()) {
		return
	}
	at, err := s.memory.Clock(ctx)
	if err == nil {
		err = s.memory.Tell(ctx, who.user(), v.id, noApp(at), at)
	}
	if err != nil {
		s.Log.Warn("why somebody was not let in cannot be told later", slog.Any("error", err))
	}
}

// tell keeps what the person can be told of a decision.
func (s *Service) tell(ctx context.Context, v *visit, q *question, at time.Time) {
	if !s.told.May(q.User) {
		return
	}
	if err := s.memory.Tell(ctx, q.User, v.id, reasonOf(v, q, at), at); err != nil {
		s.Log.Warn("why somebody was not let in cannot be told later", slog.Any("error", err))
	}
}
