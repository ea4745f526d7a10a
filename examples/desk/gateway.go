package desk

// Sites behind a web gateway, which the desk sends people back to.

import (
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"

	"briskwarden.example/briskwarden/examples/desk/vault"
	"briskwarden.example/briskwarden/signon"
)

// gatewaySite is a site behind a web gateway.
type gatewaySite struct {
	*Desk
	back string
}

func (g *gatewaySite) question() (app, address string) { return "", g.back }

func (g *gatewaySite) onDevice() bool { return false } // a gateway cannot tell

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
