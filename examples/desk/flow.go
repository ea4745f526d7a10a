package desk

// Signing on, step by step: what comes next is what the decision says.

import (
	"context"
	"net/http"
	"strings"
	"time"

	"github.com/go-webauthn/webauthn/webauthn"

	"briskwarden.example/briskwarden/examples/desk/vault"
	"briskwarden.example/briskwarden/signon"
)

// flow is one sign-on on its way to where it was asked for.
type flow struct {
	id      string
	browser string   // the only one that it is for, by its cookie then
	owner   *browser // the same, whatever its cookie is now
	to      destination
	fresh   bool // nobody who has signed on before counts
	begun   time.Time
	over    bool // somebody has come to where it leads
	attempt
}

// attempt is all that a flow holds of a person. Whoever names another person begins a new flow, with an empty attempt.
type attempt struct {
	user     string
	named    string   // who was named last, with a wrong password
	proved   []string // in this flow, what counts as presented with it
	at       time.Time
	chosen   []string              // methods to prove now
	act      *act                  // what she wants to change
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
	// start is where somebody begins to go there; empty is nowhere that the desk knows.
	start() string
	// onDevice says whether it counts on which device somebody signs on.
	onDevice() bool
	// finish leads back, once somebody is let in.
	finish(w http.ResponseWriter, r *http.Request, f *flow, b *browser, d signon.Decision)
}

// flowsFor is how long a flow lasts.
const (
	flowsFor   = 10 * time.Minute
	flowsKnown = time.Hour // for so long it is known where it led
)

// begin begins a flow, and leads to its first page.
func (d *Desk) begin(w http.ResponseWriter, r *http.Request, to destination, fresh bool) {
	b, done := d.lockedBrowser(w, r)
	defer done()
	f := &flow{id: randomID(), browser: b.id, owner: b, to: to, fresh: fresh, begun: d.Now()}
	if !fresh {
		f.user = b.user
	}
	d.mu.Lock()
	for id, old := range d.flows {
		if d.Now().Sub(old.begun) > flowsKnown {
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
		b, done := d.lockedBrowser(w, r)
		defer done()
		d.mu.Lock()
		f := d.flows[r.PathValue("flow")]
		d.mu.Unlock()
		if f == nil || f.browser != b.id || f.over || d.Now().Sub(f.begun) > flowsFor {
			p := page{Title: "This page is no longer here", Text: "You have been here before, it took too long, or it was begun in another window.", Back: "/", To: "the sign-on desk"}
			if f != nil && f.owner == b && f.to.start() != "" {
				p.Back, p.To = f.to.start(), f.to.name()
			}
			d.show(w, http.StatusNotFound, "over", p)
			return
		}
		do(w, r, f, b)
	}
}

// decide asks the service what it says of the sign-on as it stands.
func (d *Desk) decide(r *http.Request, f *flow, b *browser, action string) (signon.Decision, error) {
	app, address := f.to.question()
	so := signon.SignOn{ID: randomID()[:32], User: f.user, App: app, Action: action, Client: "browser", Presented: f.proved}
	if b.user == f.user {
		so.Session = signon.Session{ID: b.session, Started: b.signedOn}
	}
	so.IP, so.Device = d.Circumstances(r)
	switch {
	case !f.to.onDevice():
		so.Device = nil
	case d.isRemembered(b, f.user) && (so.Device == nil || so.Device.ID == ""):
		known := signon.Device{}
		if so.Device != nil {
			known = *so.Device
		}
		known.ID = "browser-" + b.device
		so.Device = &known
	}
	return d.Decisions.Decide(r.Context(), so, address)
}

// next shows what comes next.
func (d *Desk) next(w http.ResponseWriter, r *http.Request, f *flow, b *browser) {
	if f.user == "" {
		d.show(w, http.StatusOK, "identify", page{Title: "Sign on", Flow: f, To: f.to.name(), User: f.named, Failed: f.fault()})
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
	if f.act != nil {
		d.carryOut(w, r, f, b)
		return
	}
	decision, err := d.decide(r, f, b, plainSignOn)
	if err != nil {
		d.unreachable(w, f, err)
		return
	}
	if decision.Outcome == signon.Block && b.user == f.user && d.over(r, f, b) {
		d.forget(w, b, f)
		again(w, r, f)
		return
	}
	d.follow(w, r, f, b, decision)
}

func (d *Desk) unreachable(w http.ResponseWriter, f *flow, err error) {
	d.Log.Error("the decision service cannot be asked", "error", err)
	d.show(w, http.StatusServiceUnavailable, "stopped", page{Title: "Nobody can be let in just now", Text: "The service that decides cannot be reached. Please try again in a while.", Flow: f})
}

// over reports a block that is because the session has ended: without it, it would be none.
func (d *Desk) over(r *http.Request, f *flow, b *browser) bool {
	anew := *f
	anew.proved = nil
	stranger := &browser{device: b.device}
	decision, err := d.decide(r, &anew, stranger, plainSignOn)
	return err == nil && decision.Outcome != signon.Block
}

// forget has whoever signed on in this browser sign on anew.
func (d *Desk) forget(w http.ResponseWriter, b *browser, f *flow) {
	d.mu.Lock()
	defer d.mu.Unlock()
	b.user, b.session, b.shown = "", "", nil
	d.renew(w, b)
	f.attempt, f.browser = attempt{}, b.id
}

const (
	plainSignOn = "sign-on"
	enrolNew    = "enrol-method"
)

// follow does what a decision says.
func (d *Desk) follow(w http.ResponseWriter, r *http.Request, f *flow, b *browser, decision signon.Decision) {
	if a, is := f.to.(*authorization); is && decision.Outcome == signon.Grant && levelOf(f.counted(b)) < a.level {
		if more := d.toReach(f, b, a.level); more != nil { // else it is told what was reached
			d.verify(w, f, more, "The program asks for a stronger proof.")
			return
		}
	}
	if decision.Outcome == signon.Grant {
		f.to.finish(w, r, f, b, decision)
		return
	}
	if len(decision.Next) == 0 || decision.Outcome == signon.Block {
		d.stop(w, r, f, decision)
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
		d.stop(w, r, f, decision)
	}
}

// stop says that somebody is not let in, and what she can do.
func (d *Desk) stop(w http.ResponseWriter, r *http.Request, f *flow, decision signon.Decision) {
	p := page{Title: "You were not let in", Text: decision.Message, Flow: f, To: f.to.name(), Contact: d.Contact, Reference: decision.ID}
	_, device := d.Circumstances(r)
	for _, s := range decision.Next {
		switch s.Do {
		case signon.Remedy:
			if !f.to.onDevice() || device == nil {
				p.Unnamed = true // what is to be mended on a device that nobody has named is not known
				break
			}
			p.Points = append(p.Points, s.Checks...)
		case signon.EnrolElsewhere:
			p.Choices = choices(s.AnyOf, nil)
		}
	}
	d.show(w, http.StatusForbidden, "stopped", p)
}

var (
	verifiable = []string{vault.Password, vault.AppCode, vault.RecoveryCode, vault.Passkey, vault.SyncedPasskey, vault.SecurityKey}
	enrollable = []string{vault.Passkey, vault.SecurityKey, vault.AppCode, vault.RecoveryCode}
)

// fault says once what went wrong.
func (f *flow) fault() string {
	text := f.failed
	f.failed = ""
	return text
}

// again leads to what comes next.
func again(w http.ResponseWriter, r *http.Request, f *flow) {
	http.Redirect(w, r, "/flow/"+f.id, http.StatusSeeOther)
}

// identify takes a name and a password. What it answers does not tell whether somebody has that name.
func (d *Desk) identify(w http.ResponseWriter, r *http.Request, f *flow, b *browser) {
	t := d.try(r, strings.TrimSpace(r.PostFormValue("user")))
	if !d.Vault.CheckPassword(t, r.PostFormValue("password")) {
		f.named, f.failed = t.User, "That name and password do not belong together, or were tried too often: then wait a minute, or use a passkey."
		again(w, r, f)
		return
	}
	again(w, r, d.known(w, r, f, b, t, vault.Password))
}

// try is a proof by a person, from where the request comes.
func (d *Desk) try(r *http.Request, user string) vault.Try {
	from, _ := d.Circumstances(r)
	return vault.Try{User: user, From: from}
}

// known goes on with a person who has said who she is, in a flow of her own.
func (d *Desk) known(w http.ResponseWriter, r *http.Request, f *flow, b *browser, t vault.Try, method string) *flow {
	d.signOn(w, b, t)
	f = d.anew(f, b)
	f.user = t.User
	if r.FormValue("remember") == "yes" {
		d.remembers(w, b, t.User)
	}
	d.prove(f, b, method)
	return f
}

// other goes on with somebody else.
func (d *Desk) other(w http.ResponseWriter, r *http.Request, f *flow, b *browser) {
	f = d.anew(f, b)
	f.fresh = true
	again(w, r, f)
}

// anew begins a flow to the same destination, in which nothing was done yet.
func (d *Desk) anew(f *flow, b *browser) *flow {
	d.mu.Lock()
	defer d.mu.Unlock()
	f.over = true
	n := &flow{id: randomID(), browser: b.id, owner: b, to: f.to, fresh: f.fresh, begun: d.Now()}
	d.flows[n.id] = n
	return n
}

// leave leaves a page that shows something once.
func (d *Desk) leave(w http.ResponseWriter, r *http.Request, f *flow, _ *browser) {
	f.codes = nil
	again(w, r, f)
}

// drop ends a flow that has come to where it leads.
func (f *flow) drop() {
	f.over = true
}

// enrolled tells the service what somebody is enrolled in.
func (d *Desk) enrolled(ctx context.Context, user, method string) error {
	return d.Decisions.Enrolled(ctx, user, method)
}
