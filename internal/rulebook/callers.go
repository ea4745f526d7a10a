package rulebook

// Who may ask the decision service.

import (
	"encoding/hex"
	"fmt"
	"strings"
	"time"

	"briskwarden.example/briskwarden/internal/spell"
	"briskwarden.example/briskwarden/language/ast"
)

// Right is something that a caller may do.
type Right uint16

// The rights.
const (
	MayDecide Right = 1 << iota
	MayExplain
	MaySearch
	MaySuppose
	MayConsent
	MayProvision
	MaySignal
	MayForward
	MayOperate
)

// rights are the words for them, in the order of the reference.
var rights = []string{"decide", "explain", "search", "suppose", "consent", "provision", "signal", "forward", "operate"}

// String lists the words for the rights.
func (m Right) String() string {
	var words []string
	for i, word := range rights {
		if m&(1<<i) != 0 {
			words = append(words, word)
		}
	}
	return strings.Join(words, ", ")
}

// Digest is the SHA-256 of a token or a certificate.
type Digest [32]byte

// Caller is a program that may ask the decision service.
type Caller struct {
	Name         string
	Tokens       []Token
	Certificates []Digest // where tokens stand too, both are needed
	May          Right
	For          To     // without items: everything
	From         []int  // networks, by id; none: anywhere
	Sessions     string // callers and issuers of the same word share sessions; empty: with nobody
	Decl         *ast.Caller
}

// Token is what is known of a caller's token.
type Token struct {
	Digest Digest
	Until  time.Time // the first instant at which it counts no more; zero is never
}

// Concerns reports whether the caller may ask about an app.
func (c *Caller) Concerns(a *App) bool { return len(c.For.Items) == 0 || c.For.Holds(a) }

func (r *resolver) callers() {
	tokens, certificates := map[Digest]*Caller{}, map[Digest]*Caller{}
	for _, d := range r.decls.callers.list {
		c := &Caller{Name: d.Name.Text, For: r.to(d.For), Sessions: d.Sessions.Text, Decl: d}
		for _, t := range d.Tokens {
			c.Tokens = append(c.Tokens, r.callerToken(t))
		}
		for _, n := range d.Certificates {
			c.Certificates = append(c.Certificates, r.sha256(n))
		}
		for _, n := range d.May {
			c.May |= r.right(n)
		}
		r.once(d.May)
		for _, n := range d.From {
			if id, ok := r.names.declared(n, "network", r.names.networks); ok {
				c.From = append(c.From, id)
			}
		}
		r.once(d.From)
		if len(c.Tokens)+len(c.Certificates) == 0 {
			r.fail(d.Name, `"brisk token" makes a token, and prints the line for it`, "nothing proves that a caller is %s: it has neither token nor certificate", d.Name)
		}
		r.tellApart(c, tokens, certificates)
		r.rb.Callers = append(r.rb.Callers, c)
	}
}

// tellApart sees to it that what a caller proves itself with is nobody else's.
func (r *resolver) tellApart(c *Caller, tokens, certificates map[Digest]*Caller) {
	for i, t := range c.Tokens {
		if other := tokens[t.Digest]; other != nil && t.Digest != (Digest{}) {
			r.fail(c.Decl.Tokens[i].Digest, "give each its own, by \"brisk token\"", "the caller %s has the same token", other.Decl.Name)
		}
		tokens[t.Digest] = c
	}
	for i, digest := range c.Certificates {
		other := certificates[digest]
		if other != nil && digest != (Digest{}) && (other == c || len(c.Tokens) == 0 || len(other.Tokens) == 0) {
			r.fail(c.Decl.Certificates[i], "give each its own, or a token beside it", "the caller %s has the same certificate", other.Decl.Name)
		}
		certificates[digest] = c
	}
}

func (r *resolver) callerToken(t ast.CallerToken) Token {
	token := Token{Digest: r.sha256(t.Digest)}
	if t.Until.Given() {
		_, token.Until = r.date(t.Until)
	}
	return token
}

// sha256 reads a digest: "sha256:" and 64 hexadecimal digits.
func (r *resolver) sha256(n ast.Name) (digest Digest) {
	text, prefixed := strings.CutPrefix(n.Text, "sha256:")
	if b, err := hex.DecodeString(text); err != nil || !prefixed || len(b) != len(digest) || digest == Digest(b) {
		r.fail(n, `it reads "sha256:" and 64 hexadecimal digits; the token or certificate itself stands nowhere`, "%q is no SHA-256 digest", n.Text)
	} else {
		digest = Digest(b)
	}
	return digest
}

func (r *resolver) right(n ast.Name) Right {
	for i, word := range rights {
		if n.Text == word {
			return 1 << i
		}
	}
	help := spell.Hint(n.Text, rights)
	if help == "" {
		help = fmt.Sprintf("a caller may: %s", strings.Join(rights, ", "))
	}
	r.fail(n, help, "%q is nothing that a caller may do", n.Text)
	return 0
}
