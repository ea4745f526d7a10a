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
	Audience string // its tokens' "aud"
	Cookie   string // in which a browser brings a token; may be empty
	Who      Who    // of whom it speaks
	SignOn   string // where people sign on
	Sessions string // callers and issuers of the same word share sessions; empty: with nobody
	Decl     *ast.Issuer
}

// Keys are the public keys of who signs: those of a file, or an address where they are.
type Keys struct {
	*jwt.Keys
	URL string // empty where they are of a file
}

func (r *resolver) issuers() {
	urls := map[string]*Issuer{}
	for _, d := range r.decls.issuers.list {
		i := &Issuer{Name: d.Name.Text, URL: r.https(d.URL), Keys: r.keys(d.Keys), Audience: r.notEmpty(d.Audience),
			Cookie: d.Cookie.Text, Who: r.who(d.Who), SignOn: r.https(d.SignOn), Sessions: d.Sessions.Text, Decl: d}
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
