// Package appurl tells to which application an address on the web belongs: what a rulebook says of the addresses of
// its applications, and how the address of a request is brought into one form (RFC 3986, sections 6.2.2 and 6.2.3), so
// that no other spelling of it leads to another application.
package appurl

import (
	"bytes"
	"errors"
	"fmt"
	"net/netip"
	"net/url"
	"strings"
	"unicode/utf8"
)

// Address is an address of a request in its one form.
type Address struct {
	origin   // with the host as it is
	path     string
	whole    string
	wildcard origin // with "*" for the first label of the host
}

// String is the address, without its query.
func (a Address) String() string { return a.whole }

type origin struct{ scheme, host string }

// Pattern is what a rulebook says of the addresses of an application, such as "https://*.skerry.example/admin/*".
type Pattern struct {
	origin
	path string // without a slash at its end
	rest bool   // and all below it
}

// Table finds the application that an address belongs to. The zero Table has none.
type Table struct {
	owners  map[Pattern]string
	folded  map[Pattern]bool // the patterns, with their paths in small letters
	deepest int              // segments that any of the patterns has
}

// Add adds the addresses of an application; it gives the application that has the very same ones already.
func (t *Table) Add(p Pattern, app string) (other string, taken bool) {
	if other, taken = t.owners[p]; taken {
		return other, true
	}
	if t.owners == nil {
		t.owners, t.folded = map[Pattern]string{}, map[Pattern]bool{}
	}
	t.owners[p] = app
	t.folded[p.folded()] = true
	t.deepest = max(t.deepest, strings.Count(p.path, "/"))
	return "", false
}

// App finds the application that an address fits most specifically: by its whole host rather than by a wildcard, then
// by the longest path. Paths are compared as they are. An address whose path would fit more specifically in other
// letters or encodings belongs to no application: some servers take "/Admin" for "/admin".
func (t *Table) App(a Address) (app string, ok bool) {
	folded := fold(a.path)
	for _, o := range [...]origin{a.origin, a.wildcard} {
		p, found := mostSpecific(t.owners, t.deepest, o, a.path)
		inOtherLetters, any := mostSpecific(t.folded, t.deepest, o, folded)
		switch {
		case any && (!found || inOtherLetters != p.folded()):
			return "", false
		case found:
			return t.owners[p], true
		}
	}
	return "", false
}

// folded is the pattern with its path folded.
func (p Pattern) folded() Pattern {
	p.path = fold(p.path)
	return p
}

// fold is a path as a server may read it that decodes all of it and does not tell capitals from small letters.
func fold(path string) string {
	if decoded, err := url.PathUnescape(path); err == nil {
		path = decoded
	}
	return strings.ToLower(strings.ToUpper(path))
}

// mostSpecific finds the pattern that a path fits most specifically.
func mostSpecific[V any](patterns map[Pattern]V, deepest int, o origin, path string) (p Pattern, ok bool) {
	p = Pattern{o, path, false}
	if _, ok = patterns[p]; ok {
		return p, true
	}
	p.rest = true
	for n := strings.Count(path, "/"); ; n-- {
		if n <= deepest {
			if _, ok = patterns[p]; ok || p.path == "" {
				return p, ok
			}
		}
		p.path = p.path[:strings.LastIndexByte(p.path, '/')]
	}
}

// ParsePattern reads what a rulebook says of the addresses of an application: scheme, host and path, where "*." may
// stand for the first label of the host and "*" for all that follows in the path. "/admin/*" covers "/admin" too.
func ParsePattern(text string) (Pattern, error) {
	body, rest := strings.CutSuffix(text, "/*")
	scheme, after, ok := strings.Cut(body, "://")
	if !ok {
		return Pattern{}, errors.New(`an address reads https://roster.skerry.example/*`)
	}
	_, anyLabel := strings.CutPrefix(after, "*.")
	if anyLabel {
		body = scheme + "://x" + after[1:]
	}
	switch {
	case strings.Contains(body, "*"):
		return Pattern{}, errors.New(`"*" stands for the first label of the host, as in "*.skerry.example", or at the end, for all that follows a "/"`)
	case strings.ContainsAny(body, "?#"):
		return Pattern{}, errors.New("an address of an app has no query and no fragment")
	}
	a, err := Parse(body)
	if err != nil {
		return Pattern{}, err
	}
	p := Pattern{a.origin, a.path, rest}
	if anyLabel {
		if p.origin = a.wildcard; strings.Count(p.host, ".") < 2 {
			return Pattern{}, fmt.Errorf("%q would be all hosts of a top domain", text)
		}
	}
	return p, nil
}

// mostBytes is how long an address may be.
const mostBytes = 8192

// Parse brings the address of a request into its one form; the error says why it belongs to no application, whatever
// the rulebook says. The query is left out.
func Parse(raw string) (Address, error) {
	raw, _, _ = strings.Cut(raw, "?")
	scheme, after, ok := strings.Cut(raw, "://")
	if scheme = strings.ToLower(scheme); !ok || scheme != "https" && scheme != "http" {
		return Address{}, errors.New("it does not begin with https:// or http://")
	}
	if len(raw) > mostBytes {
		return Address{}, fmt.Errorf("it is longer than %d bytes", mostBytes)
	}
	authority, path := after, "/"
	if i := strings.IndexByte(after, '/'); i >= 0 {
		authority, path = after[:i], after[i:]
	}
	host, err := hostOf(scheme, authority)
	if err != nil {
		return Address{}, err
	}
	if path, err = normalised(path); err != nil {
		return Address{}, err
	}
	a := Address{origin: origin{scheme, host}, path: strings.TrimSuffix(path, "/"), whole: scheme + "://" + host + path}
	if _, domain, ok := strings.Cut(host, "."); ok && host[0] != '[' {
		a.wildcard = origin{scheme, "*." + domain}
	}
	return a, nil
}

// hostOf reads host and port; a port that is the scheme's own is left out.
func hostOf(scheme, authority string) (string, error) {
	host := strings.ToLower(authority)
	name, port := host, ""
	if i := strings.LastIndexByte(host, ':'); i >= 0 && !strings.HasSuffix(host, "]") {
		name, port = host[:i], host[i+1:]
	}
	if strings.Trim(port, "0123456789") != "" || len(port) > 5 {
		return "", fmt.Errorf("%q is no port", port)
	}
	if literal, is := strings.CutPrefix(name, "["); is {
		address, err := netip.ParseAddr(strings.TrimSuffix(literal, "]"))
		if err != nil || !strings.HasSuffix(literal, "]") || address.Zone() != "" || !address.Is6() {
			return "", fmt.Errorf("%q is no host", authority)
		}
		name = "[" + address.String() + "]"
	} else if name == "" || strings.Trim(name, "abcdefghijklmnopqrstuvwxyz0123456789-._") != "" {
		return "", fmt.Errorf("%q is no host", authority) // with user information, too
	}
	port = strings.TrimLeft(port, "0")
	if port == "" || port == map[string]string{"https": "443", "http": "80"}[scheme] {
		return name, nil
	}
	return name + ":" + port, nil
}

// normalised is a path with the characters decoded that need no encoding, and the other encodings in capitals. What
// servers read in different ways is refused, not normalised: another program would not normalise it the same way.
func normalised(path string) (string, error) {
	decoded, err := decode(path)
	if err != nil {
		return "", err
	}
	segments := strings.Split(decoded[1:], "/")
	for i, segment := range segments {
		plain := strings.ReplaceAll(segment, "%20", " ")
		switch {
		case segment == "" && i < len(segments)-1:
			return "", errors.New("a segment of its path is empty")
		case segment != "" && strings.Trim(plain, ". ") == "":
			return "", errors.New("a segment of its path consists of dots or spaces")
		}
	}
	return decoded, nil
}

const (
	unreserved = "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789-._~"
	inPath     = unreserved + "!$&'()*+,=:@/" // without ";", which begins a path parameter
	// refused are characters that some servers take for a separator, a dot or an encoding, or remove: also those that
	// Unicode's compatibility mappings turn into one.
	refused = "/\\%;" + "\u037e\u2024\u2025\u2026\u2044\u2215\u2216\u29f8\u29f5\ufe52\ufe54\ufe68\ufe6a\uff05\uff0e\uff0f\uff1b\uff3c\ufeff\u200b\u200c\u200d\u00ad"
)

// decode decodes the unreserved characters of a path, and refuses what servers read in different ways.
func decode(path string) (string, error) {
	var b strings.Builder
	var whole []byte // all of it decoded
	for i := 0; i < len(path); i++ {
		c := path[i]
		if c != '%' {
			if strings.IndexByte(inPath, c) < 0 {
				return "", fmt.Errorf("%q is in its path", c)
			}
			b.WriteByte(c)
			whole = append(whole, c)
			continue
		}
		if i+2 >= len(path) || !isHex(path[i+1]) || !isHex(path[i+2]) {
			return "", errors.New(`a "%" in its path encodes nothing`)
		}
		encoded := strings.ToUpper(path[i : i+3])
		c = fromHex(encoded[1])<<4 | fromHex(encoded[2])
		switch {
		case c < ' ' || c == 0x7f || c < utf8.RuneSelf && strings.IndexByte(refused, c) >= 0:
			return "", fmt.Errorf("%s is in its path", encoded)
		case strings.IndexByte(unreserved, c) >= 0:
			b.WriteByte(c)
		default:
			b.WriteString(encoded)
		}
		whole = append(whole, c)
		i += 2
	}
	if !utf8.Valid(whole) { // such as a dot in two bytes, which old decoders accept
		return "", errors.New("its path is not UTF-8")
	}
	if at := bytes.IndexFunc(whole, func(r rune) bool { return r >= utf8.RuneSelf && strings.ContainsRune(refused, r) }); at >= 0 {
		return "", errors.New("its path has a character that is easily taken for another")
	}
	return b.String(), nil
}

func isHex(c byte) bool {
	return c >= '0' && c <= '9' || c >= 'a' && c <= 'f' || c >= 'A' && c <= 'F'
}

// fromHex reads a digit in capitals.
func fromHex(c byte) byte {
	if c >= 'A' {
		return c - 'A' + 10
	}
	return c - '0'
}
