package directory

// Distinguished names as text (RFC 4514).

import (
	"encoding/hex"
	"errors"
	"fmt"
	"slices"
	"strings"
	"unicode/utf8"

	"briskwarden.example/briskwarden/internal/spell"
)

// distinguishedName names an entry by the relative names from it up to the root.
type distinguishedName [][]namingValue

type namingValue struct{ kind, value string }

// parseDN reads a distinguished name. As RFC 2253 asks of readers, spaces may stand beside what
// separates, and semicolons may separate.
func parseDN(text string) (dn distinguishedName, err error) {
	if strings.TrimSpace(text) == "" {
		return nil, nil
	}
	for relative := range splitUnescaped(text, ",;") {
		var rdn []namingValue
		for pair := range splitUnescaped(relative, "+") {
			kind, value, found := strings.Cut(pair, "=")
			a := namingValue{kind: strings.Trim(kind, " ")}
			if !found || !isAttributeType(a.kind) {
				return nil, fmt.Errorf("%q is no type of an attribute, as in cn=deck", spell.Clip(a.kind))
			}
			if a.value, err = parseValue(value); err != nil {
				return nil, err
			}
			rdn = append(rdn, a)
		}
		dn = append(dn, rdn)
	}
	return dn, nil
}

// splitUnescaped gives the parts between separators that no backslash stands before.
func splitUnescaped(text, separators string) func(yield func(string) bool) {
	return func(yield func(string) bool) {
		start := 0
		for i := 0; i < len(text); i++ {
			switch {
			case text[i] == '\\':
				i++
			case strings.IndexByte(separators, text[i]) >= 0:
				if !yield(text[start:i]) {
					return
				}
				start = i + 1
			}
		}
		yield(text[start:])
	}
}

// isAttributeType reports whether a text is a name or an object identifier (RFC 4512, section 1.4).
func isAttributeType(text string) bool { return text != "" && strings.IndexFunc(text, notInType) < 0 }

var notInType = exceptAlphanumeric("-._")

// exceptAlphanumeric tells what is neither a letter nor a digit of ASCII, nor one of some other characters.
func exceptAlphanumeric(others string) func(rune) bool {
	return func(r rune) bool {
		return (r < '0' || r > '9') && (r < 'a' || r > 'z') && (r < 'A' || r > 'Z') && !strings.ContainsRune(others, r)
	}
}

var (
	errEmptyName = errors.New("it is empty")
	errBadValue  = errors.New("a value holds a character that is to be escaped, or an escape that is none")
	errBadOctets = errors.New("what stands after \"#\" is no text in BER")
)

// parseValue reads a value, which is escaped text, or # and the octets of its BER encoding.
func parseValue(text string) (string, error) {
	if octets, encoded := strings.CutPrefix(text, "#"); encoded {
		return berString(octets)
	}
	text = strings.TrimLeft(text, " ")
	var value []byte
	kept := 0 // up to which spaces at the end count, since they are escaped
	for i := 0; i < len(text); i++ {
		c := text[i]
		if c != '\\' {
			if strings.IndexByte("\"<>\x00", c) >= 0 {
				return "", errBadValue
			}
			if value = append(value, c); c != ' ' {
				kept = len(value)
			}
			continue
		}
		if i++; i == len(text) {
			return "", errBadValue
		}
		if strings.IndexByte(" \"#+,;<=>\\", text[i]) >= 0 {
			value = append(value, text[i])
		} else {
			octet, err := hex.DecodeString(text[i:min(i+2, len(text))])
			if err != nil {
				return "", errBadValue
			}
			value = append(value, octet...)
			i++
		}
		kept = len(value)
	}
	return string(value[:kept]), nil
}

// stringTypes are the types whose octets are the text itself, by their tags, with what may stand in each (ITU-T X.680, section 41).
var stringTypes = map[byte]func(text string) bool{
	0x04: func(string) bool { return true },                                           // octets, which need be no text
	0x0c: utf8.ValidString,                                                            // UTF8String
	0x13: func(text string) bool { return strings.IndexFunc(text, notPrintable) < 0 }, // PrintableString
	0x16: func(text string) bool { return strings.IndexFunc(text, notASCII) < 0 },     // IA5String
}

// berString is the content of one string in the definite, primitive encoding of BER (ITU-T X.690).
// A value of another type is none, though its octets may be those of a text.
func berString(octets string) (string, error) {
	data, err := hex.DecodeString(octets)
	if err != nil || len(data) < 2 {
		return "", errBadOctets
	}
	holds := stringTypes[data[0]]
	length, content := int(data[1]), data[2:]
	if size := length - 0x80; size >= 0 {
		if size == 0 || size > 3 || size > len(content) {
			return "", errBadOctets
		}
		length = 0
		for _, b := range content[:size] {
			length = length<<8 | int(b)
		}
		content = content[size:]
	}
	if holds == nil || length != len(content) || !holds(string(content)) {
		return "", errBadOctets
	}
	return string(content), nil
}

var notPrintable = exceptAlphanumeric(" '()+,-./:=?")

func notASCII(r rune) bool { return r < ' ' || r > '~' }

// key is the name as it is compared: in small letters, in one way of writing.
func (dn distinguishedName) key() string {
	names := make([]string, len(dn))
	for i, rdn := range dn {
		pairs := make([]string, len(rdn))
		for j, a := range rdn {
			pairs[j] = strings.ToLower(a.kind) + "=" + escapeValue(foldValue(a.value))
		}
		slices.Sort(pairs)
		names[i] = strings.Join(pairs, "+")
	}
	return strings.Join(names, ",")
}

// foldValue is a value in small letters; what is no text stays as it is.
func foldValue(value string) string {
	if !utf8.ValidString(value) {
		return value
	}
	return strings.ToLower(value)
}

// escapeValue writes a value as the standard does, and octets that are no text in hexadecimal digits.
func escapeValue(value string) string {
	var b strings.Builder
	for i := 0; i < len(value); {
		r, n := utf8.DecodeRuneInString(value[i:])
		switch {
		case r == utf8.RuneError && n == 1 || r < ' ' || r == 0x7f:
			fmt.Fprintf(&b, "\\%02x", value[i])
		case strings.ContainsRune("\"+,;<>\\", r), r == ' ' && (i == 0 || i == len(value)-1), r == '#' && i == 0:
			b.WriteByte('\\')
			fallthrough
		default:
			b.WriteString(value[i : i+n])
		}
		i += n
	}
	return b.String()
}
