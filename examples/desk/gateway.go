package desk

// Sites behind a web gateway. Each site has a cookie of its own with a token that counts at that site alone. A browser gets
// it by a code, which only the browser can change that the site knows by another cookie, the nonce:
//
//	desk  /sign-on?return=…           no nonce yet: on to the site
//	site  /signed-on?return=…         sets the nonce, back to the desk
//	desk  /sign-on?return=…&nonce=…   the person signs on
//	site  /signed-on?code=…           changes the code into the cookie, on to the page

import (
	"net/http"
	"net/url"
	"regexp"
	"slices"
	"strings"
	"time"

	"briskwarden.example/briskwarden/examples/desk/vault"
	"briskwarden.example/briskwarden/signon"
)

// Site is a site behind a web gateway.
type Site struct {
	Name     string   // what people call it
	Audience []string // of its tokens
}

// The header in which a gateway says for which site it asks, and the cookie with the nonce.
const (
	askedSite   = "Asked-Site"
	nonceCookie = "__Host-sign-on"
)

var nonceShape = regexp.MustCompile(`^[0-9a-f]{64}$`)

// gatewaySite is a page of a site to which somebody signs on.
type gatewaySite struct {
	*Desk
	origin string
	back   string
	nonce  string
}

func (g *gatewaySite) question() (app, address string) { return "", g.back }

func (g *gatewaySite) onDevice() bool { return false } // a gateway cannot tell

func (g *gatewaySite) name() string { return g.Sites[g.origin].Name }

func (g *gatewaySite) start() string { return g.back }

// siteGrant is what a code for a site stands for. It counts once, for a minute.
type siteGrant struct {
	*gatewaySite
	claims claims
	made   time.Time
}

// tokensFor is how long a token for gateways lasts: the service ends sessions before.
const tokensFor = 12 * time.Hour

// The bound for browsers that a site sends to the desk again and again.
const (
	returnsWithin = 10 * time.Second
	mostReturns   = 4
)

// finish leads back to the site, with a code for a token that says what was proved in this flow.
func (g *gatewaySite) finish(w http.ResponseWriter, r *http.Request, f *flow, b *browser, _ signon.Decision) {
	f.drop()
	b.returns = append(slices.DeleteFunc(b.returns, func(t time.Time) bool { return g.Now().Sub(t) > returnsWithin }), g.Now())
	if len(b.returns) > mostReturns {
		g.show(w, http.StatusForbidden, "over", page{Title: "You were sent here again and again", Text: "The site does not accept your sign-on. Your browser may refuse its cookies.", Back: g.back, To: g.name()})
		return
	}
	c := claims{"iss": g.URL, "aud": g.Sites[g.origin].Audience, "sub": b.user, "sid": b.session, "iat": g.Now().Unix(), "exp": g.Now().Add(tokensFor).Unix()}
	if len(f.proved) > 0 {
		c["auth_time"], c["amr"] = numericDate(f.at), amrOf(f.proved)
	}
	code := randomID()
	g.mu.Lock()
	for old, grant := range g.siteCodes {
		if g.Now().Sub(grant.made) > codesFor {
			delete(g.siteCodes, old)
		}
	}
	g.siteCodes[code] = &siteGrant{g, c, g.Now()}
	g.mu.Unlock()
	http.Redirect(w, r, g.origin+"/signed-on?code="+code, http.StatusSeeOther)
}

// amrOf are the values of RFC 8176 of methods.
func amrOf(methods []string) (list []string) {
	for _, m := range methods {
		for _, v := range map[string][]string{vault.Password: {"pwd"}, vault.AppCode: {"otp"}, vault.RecoveryCode: {"recovery"}, vault.Passkey: {"hwk", "pop", "user"}, vault.SyncedPasskey: {"synced"},
			vault.SecurityKey: {"hwk", "pop"}, Certificate: {"swk", "pop"}}[m] {
			if !slices.Contains(list, v) {
				list = append(list, v)
			}
		}
	}
	return list
}

// siteOf is the site of an address, and nil where it is none of the desk's.
func (d *Desk) siteOf(back string) *gatewaySite {
	at, err := url.Parse(back)
	if err != nil || at.User != nil || strings.ContainsAny(back, "\\\r\n\t") {
		return nil
	}
	origin := at.Scheme + "://" + at.Host
	if _, ok := d.Sites[origin]; !ok {
		return nil
	}
	return &gatewaySite{Desk: d, origin: origin, back: back}
}

// signOnFor signs somebody on for a web gateway, and leads back to one of its sites and to nowhere else.
func (d *Desk) signOnFor(w http.ResponseWriter, r *http.Request) {
	q := r.URL.Query()
	site := d.siteOf(one(q, "return"))
	switch {
	case site == nil:
		d.show(w, http.StatusBadRequest, "over", page{Title: "There is nowhere to go", Text: "Go to the page that you want to see, and sign on from there."})
	case one(q, "problem") == "cookie-twice":
		d.show(w, http.StatusOK, "over", page{Title: "Your browser sent a cookie twice", Text: "Delete the cookies of the site in your browser, and then go back.", Back: site.back, To: site.name()})
	case !nonceShape.MatchString(one(q, "nonce")):
		q.Del("nonce")
		http.Redirect(w, r, site.origin+"/signed-on?"+q.Encode(), http.StatusSeeOther)
	default:
		site.nonce = one(q, "nonce")
		d.begin(w, r, site, false)
	}
}

// signedOnAt answers a gateway that passes a request for /signed-on of one of its sites on: it gives the browser a nonce, or
// the token that a code stands for.
func (d *Desk) signedOnAt(w http.ResponseWriter, r *http.Request) {
	q, cookies := r.URL.Query(), r.CookiesNamed(nonceCookie)
	nonce := ""
	if len(cookies) == 1 && nonceShape.MatchString(cookies[0].Value) {
		nonce = cookies[0].Value
	}
	asking := r.Header.Values(askedSite)
	if site := d.siteOf(one(q, "return")); site != nil && len(asking) == 1 && asking[0] == site.origin {
		if nonce == "" {
			nonce = randomID()
			http.SetCookie(w, &http.Cookie{Name: nonceCookie, Value: nonce, Path: "/", HttpOnly: true, Secure: true, SameSite: http.SameSiteLaxMode})
		}
		q.Set("nonce", nonce)
		http.Redirect(w, r, d.URL+"/sign-on?"+q.Encode(), http.StatusSeeOther)
		return
	}
	d.mu.Lock()
	g := d.siteCodes[one(q, "code")]
	delete(d.siteCodes, one(q, "code"))
	d.mu.Unlock()
	if g == nil || d.Now().Sub(g.made) > codesFor || len(asking) != 1 || asking[0] != g.origin || nonce != g.nonce {
		p := page{Title: "This page is no longer here", Text: "Signing on took too long, or was begun in another browser. Go back to where you came from, and try again."}
		if len(asking) == 1 && d.Sites[asking[0]].Name != "" {
			p.Back, p.To = asking[0]+"/", d.Sites[asking[0]].Name
		}
		d.show(w, http.StatusForbidden, "over", p)
		return
	}
	token, err := d.keys.sign("JWT", g.claims)
	if err != nil {
		http.Error(w, "no token", http.StatusInternalServerError)
		return
	}
	http.SetCookie(w, &http.Cookie{Name: d.Cookie, Value: token, Path: "/", HttpOnly: true, Secure: true, SameSite: http.SameSiteLaxMode})
	http.Redirect(w, r, g.back, http.StatusSeeOther)
}
