package desk

// A page of one's own: the methods that one has set up, the devices that are remembered, the sessions that go on.

import (
	"bytes"
	"errors"
	"image/png"
	"net/http"
	"net/url"
	"slices"
	"time"

	"github.com/pquerna/otp"

	"briskwarden.example/briskwarden/examples/desk/vault"
	"briskwarden.example/briskwarden/signon"
)

// account is where people see to how they prove who they are.
type account struct{ *Desk }

// accountApp is the app that whoever may see to it signs on to.
const accountApp = "noticeboard"

func (a *account) question() (app, address string) { return accountApp, "" }
func (a *account) onDevice() bool                  { return true }
func (a *account) name() string                    { return "how you sign on" }
func (a *account) start() string                   { return "/methods" }

// held is a method, a device or a session on the page.
type held struct {
	ID, Name, More string
	Here           bool // it is this browser's own
}

func (a *account) finish(w http.ResponseWriter, _ *http.Request, f *flow, b *browser, _ signon.Decision) {
	p := page{Title: "How you sign on", Flow: f, SignedOn: b.user, Failed: f.fault(), Sessions: a.sessionsOf(b), Devices: a.devicesOf(b)}
	for _, h := range a.Vault.Held(b.user) {
		p.Methods = append(p.Methods, held{ID: h.ID, Name: nameOf(h.Method), More: a.told(h.Since)})
	}
	for _, m := range enrollable {
		p.Choices = append(p.Choices, choice{[]string{m}, nameOf(m), m})
	}
	a.show(w, http.StatusOK, "methods", p)
}

// told is a time as people read it.
func (d *Desk) told(t time.Time) string {
	if t.IsZero() {
		return ""
	}
	return "since " + t.In(d.Zone).Format("2 January 2006, 15:04")
}

// act is a change of how somebody signs on, which takes a decision of its own.
type act struct {
	sets    string // the method that is set up; empty: something is removed
	removes string
	sure    bool // she was asked, and said yes
}

// begins takes what somebody wants to change.
func (d *Desk) begins(w http.ResponseWriter, r *http.Request, f *flow, _ *browser) {
	method, id := r.PostFormValue("methods"), r.PostFormValue("remove")
	switch {
	case f.user == "":
	case id != "":
		f.act = &act{removes: id}
	case slices.Contains(enrollable, method):
		f.act = &act{sets: method}
	}
	again(w, r, f)
}

// confirms says yes to what was asked.
func (d *Desk) confirms(w http.ResponseWriter, r *http.Request, f *flow, _ *browser) {
	if f.act != nil {
		f.act.sure = true
	}
	again(w, r, f)
}

// cancels leaves what was begun.
func (d *Desk) cancels(w http.ResponseWriter, r *http.Request, f *flow, _ *browser) {
	f.act, f.enrol, f.secret, f.ceremony, f.chosen = nil, "", "", nil, nil
	again(w, r, f)
}

// done is that an act is over: what was proved for it counts for no other.
func (f *flow) done() { f.act, f.enrol, f.secret, f.proved, f.chosen = nil, "", "", nil, nil }

// carryOut does what somebody wants to change, once the decision says that she may; until then, what it takes.
func (d *Desk) carryOut(w http.ResponseWriter, r *http.Request, f *flow, b *browser) {
	decision, err := d.decide(r, f, b, enrolNew)
	switch a := f.act; {
	case err != nil:
		d.unreachable(w, f, err)
	case decision.Outcome != signon.Grant:
		d.follow(w, r, f, b, decision)
	case !a.sure && a.removes != "":
		d.show(w, http.StatusOK, "sure", page{Title: "Remove it?", Text: d.removal(f.user, a.removes), Flow: f, Yes: "Remove it"})
	case a.removes != "":
		d.remove(r, f)
		again(w, r, f)
	case !a.sure && a.sets == vault.RecoveryCode && d.Vault.Has(f.user, vault.RecoveryCode):
		d.show(w, http.StatusOK, "sure", page{Title: "New recovery codes?", Text: "The ones that you have will count no more.", Flow: f, Yes: "Make new ones"})
	case a.sets == vault.RecoveryCode:
		f.codes = d.Vault.NewRecoveryCodes(f.user)
		d.tellEnrolled(r, f, a.sets)
		f.done()
		again(w, r, f)
	default:
		f.enrol, f.secret = a.sets, ""
		d.showEnrolment(w, f)
	}
}

// removal says what a removal means.
func (d *Desk) removal(user, id string) string {
	for _, h := range d.Vault.Held(user) {
		if h.ID == id {
			return nameOf(h.Method) + ", " + d.told(h.Since) + ". You cannot sign on with it any more."
		}
	}
	return "It is removed already."
}

func (d *Desk) remove(r *http.Request, f *flow) {
	method, last := d.Vault.Remove(f.user, f.act.removes)
	f.done()
	if !last {
		return
	}
	if err := d.Decisions.NoLongerEnrolled(r.Context(), f.user, method); err != nil {
		d.Log.Error("the service was not told of a removal", "method", method, "error", err)
		f.failed = "It is removed here, but the service that decides does not know of it yet."
	}
}

// qr draws the key of app codes that are being set up, for a phone to read.
func (d *Desk) qr(w http.ResponseWriter, _ *http.Request, f *flow, _ *browser) {
	drawn, err := drawnKey(f)
	if err != nil {
		http.Error(w, "There is nothing to draw.", http.StatusNotFound)
		return
	}
	w.Header().Set("Content-Type", "image/png")
	_, _ = w.Write(drawn)
}

func drawnKey(f *flow) ([]byte, error) {
	if f.secret == "" {
		return nil, errors.New("there is no key")
	}
	at := url.URL{Scheme: "otpauth", Host: "totp", Path: "/Skerry Line:" + f.user, RawQuery: url.Values{"secret": {f.secret}, "issuer": {"Skerry Line"}}.Encode()}
	key, err := otp.NewKeyFromURL(at.String())
	if err != nil {
		return nil, err
	}
	image, err := key.Image(220, 220)
	if err != nil {
		return nil, err
	}
	var b bytes.Buffer
	err = png.Encode(&b, image)
	return b.Bytes(), err
}

// remembers has a browser be known again as a device of a person.
func (d *Desk) remembers(w http.ResponseWriter, b *browser, user string) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if b.device == "" {
		b.device = randomID()
	}
	if d.devices[b.device] == nil {
		d.devices[b.device] = map[string]time.Time{}
	}
	d.devices[b.device][user] = d.Now()
	http.SetCookie(w, &http.Cookie{Name: deviceCookie, Value: b.device, Path: "/", MaxAge: 400 * 24 * 3600, HttpOnly: true, Secure: true, SameSite: http.SameSiteLaxMode})
}

// isRemembered reports whether a person wanted this browser to be known again.
func (d *Desk) isRemembered(b *browser, user string) bool {
	d.mu.Lock()
	defer d.mu.Unlock()
	_, known := d.devices[b.device][user]
	return known
}

// shown is how an id that is a secret of some browser is named on a page.
func shown(secret string) string { return secret[:16] }

func (d *Desk) devicesOf(b *browser) (list []held) {
	d.mu.Lock()
	defer d.mu.Unlock()
	for id, people := range d.devices {
		if since, is := people[b.user]; is {
			list = append(list, held{ID: shown(id), Name: "A remembered browser", More: d.told(since), Here: id == b.device})
		}
	}
	return inOrder(list)
}

func (d *Desk) sessionsOf(own *browser) (list []held) {
	d.mu.Lock()
	defer d.mu.Unlock()
	for _, b := range d.browsers {
		if b.user == own.user {
			list = append(list, held{ID: shown(b.session), Name: "From " + b.from.String(), More: d.told(b.signedOn), Here: b == own})
		}
	}
	return inOrder(list)
}

func inOrder(list []held) []held {
	slices.SortFunc(list, func(a, b held) int {
		if a.Here != b.Here {
			return map[bool]int{true: -1, false: 1}[a.Here]
		}
		return slices.Compare([]string{a.More, a.ID}, []string{b.More, b.ID})
	})
	return list
}

// ends ends one of the person's sessions, or forgets a device; neither takes more than being signed on.
func (d *Desk) ends(w http.ResponseWriter, r *http.Request, f *flow, b *browser) {
	if f.user == "" || b.user != f.user {
		again(w, r, f)
		return
	}
	session, device := r.PostFormValue("session"), r.PostFormValue("device")
	if session != "" && session == shown(b.session) {
		http.Redirect(w, r, "/sign-out", http.StatusSeeOther)
		return
	}
	d.mu.Lock()
	for id, people := range d.devices {
		if shown(id) == device {
			delete(people, b.user)
		}
	}
	d.mu.Unlock()
	d.endWhere(b, func(other *browser) bool { return shown(other.session) == session })
	again(w, r, f)
}
