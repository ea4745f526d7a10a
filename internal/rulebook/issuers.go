package rulebook

// Who issues the tokens by which people are known to gateways.

import (
	"fmt"
	"io"
	"net/netip"
	"net/url"
	"strings"

	"briskwarden.example/briskwarden/internal/jwt"
	"briskwarden.example/briskwarden/language/ast"
)

// Issuer issues tokens that say who a person is.
type Issuer struct {
	Name     string
	URL      string // its tokens' "iss"
	Keys     Keys
	Audience string // its tokens' "aud", for apps that are not in Audiences; empty: no token is for them
	// Audiences are those of some apps alone, so that what one site is given counts at no other.
	Audiences []Audience
	Cookie    string // in which a browser brings a token; may be empty
	Who       Who    // of whom it speaks
	SignOn    string // where people sign on
	Sessions  string // callers and issuers of the same word share sessions; empty: with nobody
	Decl      *ast.Issuer
}

// Audience is for whom tokens are that count for some apps.
type Audience struct {
	Name string
	For  To
}

// AudienceFor is the audience that a token has which counts for an app; empty is none.
func (i *Issuer) AudienceFor(a *App) string {
	for _, one := range i.Audiences {
		if one.For.Holds(a) {
			return one.Name
		}
	}
	return i.Audience
}

// AllAudiences are those of all apps.
func (i *Issuer) AllAudiences() []string {
	all := []string{i.Audience}
	for _, one := range i.Audiences {
		all = append(all, one.Name)
	}
	return all
}

// Keys are the public keys of who signs: those of a file, or an address where they are.
type Keys struct {
	*jwt.Keys
	URL string // empty where they are of a file
}

func (r *resolver) issuers() {
	urls := map[string]*Issuer{}
	for _, d := range r.decls.issuers.list {
		i := &Issuer{Name: d.Name.Text, URL: r.https(d.URL), Keys: r.keys(d.Keys),
			Cookie: d.Cookie.Text, Who: r.who(d.Who), SignOn: r.https(d.SignOn), Sessions: d.Sessions.Text, Decl: d}
		r.audiences(i)
		if d.Cookie.Given() && !isToken(i.Cookie) {
			r.fail(d.Cookie, "letters, digits and hyphens", "%q cannot be a cookie's name", i.Cookie)
		}
		if other := urls[i.URL]; other != nil && i.URL != "" {
			r.fail(d.URL, "give each its own", "the issuer %s has the same address", other.Decl.Name)
		}
		urls[i.URL] = i
		r.rb.Issuers = append(r.rb.Issuers, i)
	}
	r.disjoint()
}

// audiences reads for whom an issuer's tokens are: one audience for each app, and none for two parts of them.
func (r *resolver) audiences(i *Issuer) {
	plain, named := false, map[string]bool{}
	owners := map[*App]string{}
	for _, d := range i.Decl.Audience {
		name := r.notEmpty(d.Name)
		if named[name] && name != "" {
			r.fail(d.Name, "list its apps in one place", "the audience %q is there twice", name)
		}
		named[name] = true
		if len(d.For.Items) == 0 {
			if plain {
				r.fail(d.Name, `write "for app …" for all but one`, "two audiences are for all other apps")
			}
			plain, i.Audience = true, name
			continue
		}
		one := Audience{name, r.to(d.For)}
		for _, id := range keysOf(r.rb.Apps) {
			app := r.rb.Apps[id]
			if !one.For.Holds(app) {
				continue
			}
			if other, taken := owners[app]; taken {
				r.fail(d.Name, "let each app have one", "the audiences %q and %q are both for %q", other, name, id)
				break
			}
			owners[app] = name
		}
		i.Audiences = append(i.Audiences, one)
	}
}

// disjoint sees to it that no two issuers speak for the same person.
func (r *resolver) disjoint() {
	for i, a := range r.rb.Issuers {
		for _, b := range r.rb.Issuers[:i] {
			for _, id := range keysOf(r.rb.People) {
				if p := r.rb.People[id]; a.Who.Holds(p) && b.Who.Holds(p) {
					r.fail(a.Decl.Name, fmt.Sprintf("let each person be known by one: \"who … except …\"; the other stands at %s", b.Decl.Name.Pos),
						"the issuers %s and %s both speak for %q", b.Decl.Name, a.Decl.Name, id)
					break
				}
			}
		}
	}
}

// IssuerFor is the only issuer that speaks for a person; nil where there is none, or several.
func (rb *Rulebook) IssuerFor(p *Person) (one *Issuer) {
	for _, i := range rb.Issuers {
		if i.Who.Holds(p) {
			if one != nil {
				return nil
			}
			one = i
		}
	}
	return one
}

// isToken reports a token of RFC 9110, section 5.6.2.
func isToken(s string) bool {
	return s != "" && !strings.ContainsFunc(s, func(c rune) bool {
		return c <= ' ' || c >= 0x7f || strings.ContainsRune(`"(),/:;<=>?@[\]{}`, c)
	})
}

func (r *resolver) notEmpty(n ast.Name) string {
	if strings.TrimSpace(n.Text) == "" {
		r.fail(n, "say which", "an empty name stands for nothing")
	}
	return n.Text
}

// https reads an address that something is asked at, or that stands in tokens.
func (r *resolver) https(n ast.Name) string {
	if why := NotHTTPS(n.Text); why != "" {
		r.fail(n, `it reads "https://desk.skerry.example"`, "%q %s", n.Text, why)
	}
	return n.Text
}

// NotHTTPS says why a text is no address that is asked over TLS; "" is that it is one. This machine may be asked without.
func NotHTTPS(text string) string {
	u, err := url.Parse(text)
	switch {
	case err != nil || u.Host == "" || u.Opaque != "" || strings.ContainsFunc(text, func(c rune) bool { return c <= ' ' || c == 0x7f || c == '\\' }):
		return "is no address"
	case u.User != nil || u.Fragment != "":
		return "holds a name, a password or a fragment"
	case u.Scheme == "https":
		return ""
	}
	host := u.Hostname()
	if a, err := netip.ParseAddr(host); u.Scheme == "http" && (host == "localhost" || strings.HasSuffix(host, ".localhost") || err == nil && a.IsLoopback()) {
		return ""
	}
	return "does not begin with https://"
}

// keys reads public keys: a file, or the address where they are.
func (r *resolver) keys(n ast.Name) (k Keys) {
	if strings.Contains(n.Text, "://") {
		return Keys{URL: r.https(n)}
	}
	files := r.paths(n)
	if len(files) > 1 {
		r.fail(n, "name one", "%d files are named like %q: one set of keys is meant", len(files), n.Text)
		return k
	}
	for _, file := range files {
		err := r.stream(file, func(in io.Reader) error {
			data, err := io.ReadAll(io.LimitReader(in, jwt.MostBytes+1))
			if err != nil {
				return err
			}
			if k.Keys, err = jwt.ParseKeys(data); err != nil {
				return err
			}
			loaded := r.loading(file)
			loaded.add(k.Len(), "key")
			loaded.aside(k.Aside(), "key for another use, or of another kind")
			return nil
		})
		if err != nil {
			r.fail(n, "", "%s cannot be read: %v", file, err)
		}
	}
	return k
}
