package desk

// Signing on, step by step: what comes next is what the decision says.

import (
	"context"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"

	"github.com/go-webauthn/webauthn/webauthn"

	"briskwarden.example/briskwarden/examples/desk/vault"
	"briskwarden.example/briskwarden/signon"
)

// flow is one sign-on on its way to where it was asked for.
type flow struct {
	id      string
	browser string // the only one that it is for
	to      destination
	fresh   bool // nobody who has signed on before counts
	begun   time.Time

	user     string
	proved   []string // in this flow, what counts as presented with it
	at       time.Time
	chosen   []string              // methods to prove now
	enrol    string                // the method that is being set up
	secret   string                // of app codes that are being set up
	ceremony *webauthn.SessionData // of the key that is asked for
	failed   string                // what went wrong at the last step
	codes    []string              // recovery codes, to be shown once
	asked    bool                  // she has allowed what a client asks for
}

// destination is what a flow leads to.
type destination interface {
	// question is the app that is signed on to, and its address where it is known by that.
	question() (app, address string)
	// name is what people know it by.
	name() string
	// onDevice says whether it counts on which device somebody signs on.
	onDevice() bool
	// finish leads back, once somebody is let in.
	finish(w http.ResponseWriter, r *http.Request, f *flow, b *browser, d signon.Decision)
}

// flowsFor is how long a flow lasts.
const flowsFor = 10 * time.Minute

// begin begins a flow, and leads to its first page.
func (d *Desk) begin(w http.ResponseWriter, r *http.Request, to destination, fresh bool) {
	b := d.browserOf(w, r)
	f := &flow{id: randomID(), browser: b.id, to: to, fresh: fresh, begun: d.Now()}
	if !fresh {
		f.user = b.user
	}
	d.mu.Lock()
	for id, old := range d.flows {
		if d.Now().Sub(old.begun) > flowsFor {
			delete(d.flows, id)
		}
	}
	d.flows[f.id] = f
	d.mu.Unlock()
	http.Redirect(w, r, "/flow/"+f.id, http.StatusSeeOther)
}

// step is what is done in a flow. A browser does one thing at a time.
type step func(w http.ResponseWriter, r *http.Request, f *flow, b *browser)

// in finds the flow of a request: it is this browser's, and not over.
func (d *Desk) in(do step) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		b := d.browserOf(w, r)
		b.busy.Lock()
		defer b.busy.Unlock()
		d.mu.Lock()
		f := d.flows[r.PathValue("flow")]
		d.mu.Unlock()
		if f == nil || f.browser != b.id || d.Now().Sub(f.begun) > flowsFor {
			d.show(w, http.StatusNotFound, "over", page{Title: "This page is no longer here", Text: "Signing on took too long, or was begun in another window. Go back to where you came from, and try again."})
			return
		}
		do(w, r, f, b)
	}
}

// decide asks the service what it says of the sign-on as it stands.
func (d *Desk) decide(r *http.Request, f *flow, b *browser, action string) (signon.Decision, error) {
	app, address := f.to.question()
	so := signon.SignOn{User: f.user, App: app, Action: action, Client: "browser", Presented: f.proved}
	if b.user == f.user {
		so.Session = signon.Session{ID: b.session, Started: b.signedOn}
	}
	so.IP, so.Device = d.Circumstances(r)
	switch {
	case !f.to.onDevice():
		so.Device = nil
	case b.remembered != "" && (so.Device == nil || so.Device.ID == ""):
		known := signon.Device{}
		if so.Device != nil {
			known = *so.Device
		}
		known.ID = "browser-" + b.remembered
		so.Device = &known
	}
	return d.Decisions.Decide(r.Context(), so, address)
}

// next shows what comes next.
func (d *Desk) next(w http.ResponseWriter, r *http.Request, f *flow, b *browser) {
	if f.user == "" {
		d.show(w, http.StatusOK, "identify", page{Title: "Sign on", Flow: f, To: f.to.name()})
		return
	}
	if f.codes != nil {
		d.show(w, http.StatusOK, "codes", page{Title: "Your recovery codes", Flow: f, Codes: f.codes})
		return
	}
	if f.enrol != "" {
		d.showEnrolment(w, f)
		return
	}
	decision, err := d.decide(r, f, b, plainSignOn)
	if err != nil {
		d.Log.Error("the decision service cannot be asked", "error", err)
		d.show(w, http.StatusServiceUnavailable, "stopped", page{Title: "Nobody can be let in just now", Text: "The service that decides cannot be reached. Please try again in a while.", Flow: f})
		return
	}
	if decision.Outcome == signon.Block && b.user == f.user && d.over(r, f, b) {
		d.forget(w, b, f)
		again(w, r, f)
		return
	}
	d.follow(w, r, f, b, decision)
}

// over reports a block that is because the session has ended: without it, it would be none.
func (d *Desk) over(r *http.Request, f *flow, b *browser) bool {
	anew := *f
	anew.proved = nil
	stranger := &browser{remembered: b.remembered}
	decision, err := d.decide(r, &anew, stranger, plainSignOn)
	return err == nil && decision.Outcome != signon.Block
}

// forget has whoever signed on in this browser sign on anew.
func (d *Desk) forget(w http.ResponseWriter, b *browser, f *flow) {
	d.mu.Lock()
	defer d.mu.Unlock()
	b.user, b.session = "", ""
	d.renew(w, b)
	f.user, f.proved, f.browser = "", nil, b.id
}

const (
	plainSignOn = "sign-on"
	enrolNew    = "enrol-method"
)

// follow does what a decision says.
func (d *Desk) follow(w http.ResponseWriter, r *http.Request, f *flow, b *browser, decision signon.Decision) {
	if a, is := f.to.(*authorization); is && decision.Outcome == signon.Grant && levelOf(f.proved) < a.level {
		if more := d.toReach(f, a.level); more != nil { // else it is told what was reached
			d.verify(w, f, more, "The program asks for a stronger proof.")
			return
		}
	}
	if decision.Outcome == signon.Grant {
		f.to.finish(w, r, f, b, decision)
		return
	}
	if len(decision.Next) == 0 || decision.Outcome == signon.Block {
		d.stop(w, f, decision)
		return
	}
	switch step := decision.Next[0]; step.Do {
	case signon.Verify:
		d.verify(w, f, step.AnyOf, decision.Message)
	case signon.Enrol:
		d.show(w, http.StatusOK, "choose-enrol", page{Title: "Set up one more way to prove who you are", Flow: f, Choices: choices(step.AnyOf, enrollable)})
	case signon.ChangePassword:
		d.show(w, http.StatusOK, "change", page{Title: "Choose another password", Text: "Your password may be known to somebody else.", Flow: f, Failed: f.fault()})
	case signon.WaitForReview:
		d.show(w, http.StatusOK, "review", page{Title: "Your request waits for a review", Text: "Somebody looks at it. You can come back to this page, or ask again later.", Flow: f})
	default:
		d.stop(w, f, decision)
	}
}

// stop says that somebody is not let in, and what she can do.
func (d *Desk) stop(w http.ResponseWriter, f *flow, decision signon.Decision) {
	p := page{Title: "You were not let in", Text: decision.Message, Flow: f, To: f.to.name(), Contact: d.Contact, Reference: decision.ID}
	for _, s := range decision.Next {
		switch s.Do {
		case signon.Remedy:
			p.Points = append(p.Points, s.Checks...)
		case signon.EnrolElsewhere:
			p.Choices = choices(s.AnyOf, nil)
		}
	}
	d.show(w, http.StatusForbidden, "stopped", p)
}

// choice is a set of methods that somebody can choose.
type choice struct {
	Methods []string
	Name    string // "Passkey and app code"
	Value   string
}

var (
	verifiable = []string{vault.Password, vault.AppCode, vault.RecoveryCode, vault.Passkey, vault.SecurityKey}
	enrollable = []string{vault.Passkey, vault.SecurityKey, vault.AppCode, vault.RecoveryCode}
)

// choices are the sets whose methods the desk can do, in the order of preference; all where it is nil.
func choices(sets [][]string, can []string) (list []choice) {
	for _, set := range sets {
		if can != nil && slices.ContainsFunc(set, func(m string) bool { return !slices.Contains(can, m) }) {
			continue
		}
		var names []string
		for _, m := range set {
			names = append(names, nameOf(m))
		}
		list = append(list, choice{set, strings.Join(names, " and "), strings.Join(set, "+")})
	}
	return list
}

// nameOf is what people call a method.
func nameOf(method string) string {
	if name, ok := map[string]string{vault.Password: "Password", vault.AppCode: "Code of your app", vault.RecoveryCode: "Recovery code", vault.Passkey: "Passkey",
		vault.SecurityKey: "Security key"}[method]; ok {
		return name
	}
	return method
}

// verify has the person prove something: of what she has here, what she chose, or the only one that there is.
func (d *Desk) verify(w http.ResponseWriter, f *flow, sets [][]string, message string) {
	list := slices.DeleteFunc(choices(sets, verifiable), func(c choice) bool {
		return slices.ContainsFunc(c.Methods, func(m string) bool { return !d.Vault.Has(f.user, m) })
	})
	if !slices.ContainsFunc(list, func(c choice) bool { return slices.Equal(c.Methods, f.chosen) }) {
		f.chosen = nil
	}
	switch {
	case len(list) == 0:
		d.show(w, http.StatusForbidden, "stopped", page{Title: "You cannot prove that here", Flow: f, To: f.to.name(), Choices: choices(sets, nil), Contact: d.Contact})
		return
	case len(list) == 1:
		f.chosen = list[0].Methods
	case f.chosen == nil:
		d.show(w, http.StatusOK, "choose", page{Title: "One more proof is needed", Text: message, Flow: f, Choices: list, Failed: f.fault()})
		return
	}
	for _, m := range f.chosen {
		if !slices.Contains(f.proved, m) {
			d.show(w, http.StatusOK, "prove", page{Title: nameOf(m), Flow: f, To: f.to.name(), Method: m, IsKey: isKey(m), More: len(list) > 1, Failed: f.fault()})
			return
		}
	}
	f.chosen = nil // it was not enough
	d.show(w, http.StatusOK, "choose", page{Title: "One more proof is needed", Text: message, Flow: f, Choices: list})
}

func isKey(method string) bool { return method == vault.Passkey || method == vault.SecurityKey }

// fault says once what went wrong.
func (f *flow) fault() string {
	text := f.failed
	f.failed = ""
	return text
}

// prove notes that something was proved.
func (d *Desk) prove(f *flow, b *browser, method string) {
	if !slices.Contains(f.proved, method) {
		f.proved = append(f.proved, method)
	}
	f.at = d.Now()
	b.proved = f.at
}

// again leads to what comes next.
func again(w http.ResponseWriter, r *http.Request, f *flow) {
	http.Redirect(w, r, "/flow/"+f.id, http.StatusSeeOther)
}

// identify takes a name and a password. What it answers does not tell whether somebody has that name.
func (d *Desk) identify(w http.ResponseWriter, r *http.Request, f *flow, b *browser) {
	user := strings.TrimSpace(r.PostFormValue("user"))
	if !d.Vault.CheckPassword(user, r.PostFormValue("password")) {
		d.show(w, http.StatusUnauthorized, "identify", page{Title: "Sign on", Flow: f, To: f.to.name(), User: user, Failed: "That name and password do not belong together, or were tried too often."})
		return
	}
	d.signOn(w, b, user)
	f.user, f.browser = user, b.id
	if r.PostFormValue("remember") == "yes" {
		d.remember(w, b)
	}
	d.prove(f, b, vault.Password)
	again(w, r, f)
}

// choose takes the methods that somebody chose.
func (d *Desk) choose(w http.ResponseWriter, r *http.Request, f *flow, _ *browser) {
	f.chosen = nil
	if chosen := r.PostFormValue("methods"); chosen != "" {
		f.chosen = strings.Split(chosen, "+")
	}
	again(w, r, f)
}

// give takes a password or a code. Only somebody who has said who she is gives one.
func (d *Desk) give(w http.ResponseWriter, r *http.Request, f *flow, b *browser) {
	method, given := r.PathValue("method"), r.PostFormValue("value")
	ok := false
	switch {
	case f.user == "" || !slices.Contains(f.chosen, method):
	case method == vault.Password:
		ok = d.Vault.CheckPassword(f.user, given)
	case method == vault.AppCode:
		ok = d.Vault.CheckCode(f.user, strings.ReplaceAll(given, " ", ""))
	case method == vault.RecoveryCode:
		ok = d.Vault.CheckRecoveryCode(f.user, given)
	}
	if ok {
		d.prove(f, b, method)
	} else {
		f.failed = "That is not right, is too old, or was tried too often."
	}
	again(w, r, f)
}

// change takes a new password.
func (d *Desk) change(w http.ResponseWriter, r *http.Request, f *flow, b *browser) {
	if f.user == "" {
		return
	}
	decision, err := d.decide(r, f, b, plainSignOn)
	if err != nil || len(decision.Next) == 0 || decision.Next[0].Do != signon.ChangePassword {
		again(w, r, f) // it is not the time for it
		return
	}
	one, two := r.PostFormValue("new"), r.PostFormValue("again")
	if one != two {
		f.failed = "The two are not the same."
	} else if err := d.Vault.SetPassword(f.user, one); err != nil {
		f.failed = "That password is " + err.Error() + ". Twelve characters at least, and not your name."
	} else {
		d.prove(f, b, vault.ChangePassword)
	}
	again(w, r, f)
}

// leave leaves a page that shows something once.
func (d *Desk) leave(w http.ResponseWriter, r *http.Request, f *flow, _ *browser) {
	f.codes = nil
	again(w, r, f)
}

// gatewaySite is a site behind a web gateway.
type gatewaySite struct {
	*Desk
	back string
}

func (g *gatewaySite) question() (app, address string) { return "", g.back }
func (g *gatewaySite) onDevice() bool                  { return false } // a gateway cannot tell
func (g *gatewaySite) name() string {
	at, err := url.Parse(g.back)
	if err != nil { // it was read before
		return ""
	}
	return g.Sites[at.Scheme+"://"+at.Host]
}

// tokensFor is how long a token for gateways lasts: the service ends sessions before.
const tokensFor = 12 * time.Hour

// finish gives the browser a token for gateways, with what was proved in this flow, and leads back.
func (g *gatewaySite) finish(w http.ResponseWriter, r *http.Request, f *flow, b *browser, _ signon.Decision) {
	c := claims{"iss": g.URL, "aud": g.Audience, "sub": b.user, "sid": b.session, "iat": g.Now().Unix(), "exp": g.Now().Add(tokensFor).Unix()}
	if len(f.proved) > 0 {
		c["auth_time"], c["amr"] = numericDate(f.at), amrOf(f.proved)
	}
	token, err := g.keys.sign("JWT", c)
	if err != nil {
		http.Error(w, "no token", http.StatusInternalServerError)
		return
	}
	g.drop(f)
	http.SetCookie(w, &http.Cookie{Name: g.Cookie, Value: token, Domain: g.Domain, Path: "/", HttpOnly: true, Secure: true, SameSite: http.SameSiteLaxMode})
	http.Redirect(w, r, g.back, http.StatusSeeOther)
}

// drop forgets a flow that has come to its end.
func (d *Desk) drop(f *flow) {
	d.mu.Lock()
	defer d.mu.Unlock()
	delete(d.flows, f.id)
}

// amrOf are the values of RFC 8176 of methods.
func amrOf(methods []string) (list []string) {
	for _, m := range methods {
		for _, v := range map[string][]string{vault.Password: {"pwd"}, vault.AppCode: {"otp"}, vault.RecoveryCode: {"recovery"}, vault.Passkey: {"hwk", "pop", "user"},
			vault.SecurityKey: {"hwk", "pop"}, Certificate: {"swk", "pop"}}[m] {
			if !slices.Contains(list, v) {
				list = append(list, v)
			}
		}
	}
	return list
}

// signOnFor signs somebody on for a web gateway, and leads back to one of its sites and to nowhere else.
func (d *Desk) signOnFor(w http.ResponseWriter, r *http.Request) {
	back := r.URL.Query().Get("return")
	at, err := url.Parse(back)
	if err != nil || at.User != nil || strings.ContainsAny(back, "\\\r\n\t") || d.Sites[at.Scheme+"://"+at.Host] == "" {
		d.show(w, http.StatusBadRequest, "over", page{Title: "There is nowhere to go", Text: "Go to the page that you want to see, and sign on from there."})
		return
	}
	d.begin(w, r, &gatewaySite{d, back}, false)
}

// enrolled tells the service what somebody is enrolled in.
func (d *Desk) enrolled(ctx context.Context, user, method string) error {
	return d.Decisions.Enrolled(ctx, user, method)
}
