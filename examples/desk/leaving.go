package desk

// Signing out, as people ask for it: here, or led by a site or a client (OpenID Connect RP-Initiated Logout 1.0).

import (
	"net/http"
	"net/url"
	"slices"
)

// leaves asks whether to sign out.
func (d *Desk) leaves(w http.ResponseWriter, r *http.Request) {
	leading := url.Values{}
	for _, name := range []string{"return", "client_id", "post_logout_redirect_uri", "state"} {
		if v := one(r.URL.Query(), name); v != "" {
			leading.Set(name, v)
		}
	}
	p := page{Title: "Sign out?", SignedOn: d.signedOnAs(w, r), Leaving: leading}
	p.Back, p.To = d.onward(leading)
	d.show(w, http.StatusOK, "sign-out", p)
}

// onward is where a link leads after signing out: to a site or to an address of the client's, and to the desk otherwise.
func (d *Desk) onward(q url.Values) (address, name string) {
	if site := d.siteOf(one(q, "return")); site != nil {
		return site.back, site.name()
	}
	c, address := d.client(one(q, "client_id")), one(q, "post_logout_redirect_uri")
	if c == nil || !slices.Contains(c.Leave, address) {
		return "/", "the sign-on desk"
	}
	at, err := url.Parse(address)
	if err != nil { // it is one of the client's own
		return "/", "the sign-on desk"
	}
	if state := one(q, "state"); state != "" {
		values := at.Query()
		values.Set("state", state)
		at.RawQuery = values.Encode()
	}
	return at.String(), c.Name
}

func (d *Desk) signedOut(w http.ResponseWriter, r *http.Request) {
	if err := r.ParseForm(); err != nil {
		d.show(w, http.StatusBadRequest, "over", page{Title: "That cannot be read", Back: "/sign-out", To: "signing out"})
		return
	}
	b, done := d.lockedBrowser(w, r)
	defer done()
	p := page{Title: "You are signed out", Text: "Here, and of everything that you had signed on to in this session."}
	p.Back, p.To = d.onward(r.PostForm)
	status := http.StatusOK
	if !d.signOut(r.Context(), w, b) {
		status, p.Title = http.StatusServiceUnavailable, "You are signed out here"
		p.Text = "The service that decides does not answer. The desk tells it as soon as it does; until then other sites may still let you in."
	} else if r.PostForm.Has("post_logout_redirect_uri") && p.Back != "/" {
		http.Redirect(w, r, p.Back, http.StatusSeeOther)
		return
	}
	d.show(w, status, "over", p)
}
