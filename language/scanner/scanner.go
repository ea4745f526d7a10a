// Package scanner turns the text of a rulebook file into tokens.
package scanner

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"unicode"
	"unicode/utf8"

	"briskwarden.example/briskwarden/language/token"
)

// MaxSize is the size in bytes of the largest source text that is read: a rulebook is
// written by people, and what is larger is some other file.
const MaxSize = 8 << 20

// maxWord is the size in bytes of the longest word.
const maxWord = 4096

// Scanner reads one source text. After an error it goes on with the next token.
type Scanner struct {
	file   string
	src    string
	errors *token.ErrorList

	offset    int // of what comes next, in bytes
	line      int32
	column    int32 // in characters
	afterWord bool  // the last token was a word or a string
}

// New prepares a scanner for src; file is the name that positions carry.
// Errors are added to errors as they are met.
func New(file string, src []byte, errors *token.ErrorList) *Scanner {
	s := &Scanner{file: file, line: 1, column: 1, errors: errors}
	if at, why := unreadable(src); why != "" {
		errors.Add(posOf(file, src, at), 1, "save the rulebook as UTF-8 text", "%s", why)
		return s
	}
	s.src = strings.TrimPrefix(string(src), "\ufeff")
	return s
}

// unreadable tells where and why src is no text of a rulebook.
func unreadable(src []byte) (at int, why string) {
	if len(src) > MaxSize {
		return 0, "the file is larger than " + strconv.Itoa(MaxSize>>20) + " MiB"
	}
	for i := 0; i < len(src); {
		r, size := utf8.DecodeRune(src[i:])
		switch {
		case r == utf8.RuneError && size == 1:
			return i, "the file is not UTF-8 text: byte 0x" + strconv.FormatUint(uint64(src[i]), 16)
		case r == 0:
			return i, "the file is not text: it holds a zero byte"
		}
		i += size
	}
	return 0, ""
}

func posOf(file string, src []byte, at int) token.Pos {
	before := string(src[:at])
	line := strings.Count(before, "\n")
	last := before[strings.LastIndexByte(before, '\n')+1:]
	return token.Pos{File: file, Line: int32(line + 1), Column: int32(utf8.RuneCountInString(last) + 1)}
}

// All scans the whole of src, comments included, and ends with an EOF token.
func All(file string, src []byte, errors *token.ErrorList) []token.Token {
	s := New(file, src, errors)
	tokens := make([]token.Token, 0, len(s.src)/6+1)
	for {
		t := s.Next()
		if t.Kind != token.Illegal {
			tokens = append(tokens, t)
		}
		if t.Kind == token.EOF {
			return tokens
		}
	}
}

// Next returns the next token. What cannot be a token is reported and returned as [token.Illegal].
func (s *Scanner) Next() token.Token {
	spaced := s.skipSpace()
	t := token.Token{Pos: token.Pos{File: s.file, Line: s.line, Column: s.column}}
	if s.offset >= len(s.src) {
		return t
	}
	start, touching := s.offset, s.afterWord && !spaced
	s.afterWord = false
	switch r := s.peek(); {
	case r == '#':
		if touching {
			s.fail(t.Pos, 1, "put a space before it", `"#" directly after a word`)
		}
		s.toLineEnd()
		t.Kind = token.Comment
	case r == '"':
		s.afterWord = true
		return s.str(t)
	case isWord(r):
		for s.offset < len(s.src) && isWord(s.peek()) {
			s.advance()
		}
		s.afterWord = true
		t.Kind = token.Word
		if s.offset-start > maxWord {
			t.Kind = token.Illegal
			s.fail(t.Pos, 1, "", "a word of more than %d bytes", maxWord)
		} else if word := s.src[start:s.offset]; strings.Trim(word, "-.") == "" {
			t.Kind = token.Illegal
			s.fail(t.Pos, len(word), "write a range as one word, without spaces: 192.0.2.1-192.0.2.9, 06:00-20:00, 2026-12-24..2026-12-26",
				"a lone %q", word)
		}
	default:
		t.Kind = s.mark(t.Pos, r)
	}
	t.Raw = s.src[start:s.offset]
	if t.Kind == token.Comment {
		t.Raw = strings.TrimRightFunc(t.Raw, unicode.IsSpace)
	}
	t.Text = t.Raw
	return t
}

func isWord(r rune) bool {
	if r < utf8.RuneSelf {
		return r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' || strings.ContainsRune("_.-:/@+", r)
	}
	return unicode.IsLetter(r) || unicode.IsDigit(r)
}

// IsWord reports whether text could stand in a rulebook as one bare word.
func IsWord(text string) bool {
	for _, r := range text {
		if !isWord(r) {
			return false
		}
	}
	return strings.Trim(text, "-.") != "" && !token.IsReserved(text) && utf8.ValidString(text)
}

// Quote gives a name as it is written in a rulebook: bare where it can be, else as a string.
func Quote(name string) string {
	if IsWord(name) {
		return name
	}
	return strconv.Quote(name)
}

var marks = []struct {
	text string
	kind token.Kind
}{
	{"=>", token.Arrow}, {">=", token.GE}, {"<=", token.LE}, {">", token.GT}, {"<", token.LT},
	{"{", token.LBrace}, {"}", token.RBrace}, {"(", token.LParen}, {")", token.RParen}, {",", token.Comma},
}

// habits are signs of other languages, with what is written here instead.
var habits = []struct{ text, help string }{
	{"==", `write "is"`}, {"!=", `write "is not"`}, {"&&", `write "and"`}, {"||", `write "or"`}, {"->", `write "=>"`},
	{"=<", `write "<="`}, {"!", `write "not"`}, {"=", `write "is" in a condition, "=>" before an outcome`},
	{";", "nothing needs to stand between clauses"}, {"'", `names with other characters stand in double quotes: "…"`},
	{"*", `put it in double quotes: "…*"`}, {"[", "a list has no brackets, only commas"}, {"]", "a list has no brackets, only commas"},
	{"%", "an address stands without its zone: leave out the \"%\" and what follows it"},
	{"–", `write a plain hyphen "-"`}, {"“", `write plain double quotes: "…"`}, {"”", `write plain double quotes: "…"`},
}

// starred is the prefix that is meant by an address of IPv4 that ends in a star: 198.51.100.*
func starred(before string) string {
	start := strings.LastIndexFunc(before, func(r rune) bool { return r != '.' && (r < '0' || r > '9') }) + 1
	parts := strings.Split(before[start:], ".")
	if n := len(parts) - 1; n < 1 || n > 3 || parts[n] != "" || slices.Contains(parts[:n], "") {
		return ""
	}
	n := len(parts) - 1
	return strings.Join(parts[:n], ".") + strings.Repeat(".0", 4-n) + fmt.Sprintf("/%d", 8*n)
}

func (s *Scanner) mark(pos token.Pos, r rune) token.Kind {
	rest := s.src[s.offset:]
	for _, m := range marks {
		if strings.HasPrefix(rest, m.text) {
			s.skip(len(m.text))
			return m.kind
		}
	}
	for _, h := range habits {
		if strings.HasPrefix(rest, h.text) {
			help := h.help
			if prefix := starred(s.src[:s.offset]); h.text == "*" && prefix != "" {
				help = "write the prefix: " + prefix
			}
			s.skip(len(h.text))
			s.fail(pos, utf8.RuneCountInString(h.text), help, "%q has no meaning here", h.text)
			return token.Illegal
		}
	}
	s.advance()
	s.fail(pos, 1, "names with such characters stand in double quotes", "the character %q (%U) has no meaning here", r, r)
	return token.Illegal
}

// str scans a string with Go's escapes; it ends on the line where it began.
func (s *Scanner) str(t token.Token) token.Token {
	start := s.offset
	s.advance()
	for s.offset < len(s.src) && s.peek() != '"' && s.peek() != '\n' {
		if s.peek() == '\\' {
			s.advance()
		}
		if s.offset < len(s.src) && s.peek() != '\n' {
			s.advance()
		}
	}
	if s.offset >= len(s.src) || s.peek() != '"' {
		t.Kind = token.Illegal
		s.fail(t.Pos, 1, "end it with a double quote on the same line", "the string that begins here does not end")
		return t
	}
	s.advance()
	t.Kind, t.Raw = token.String, s.src[start:s.offset]
	text, err := strconv.Unquote(t.Raw)
	if err != nil || !utf8.ValidString(text) {
		s.fail(t.Pos, int(s.column-t.Pos.Column), `write a backslash as "\\"; \" \n \t \u00e5 are known`, "the string holds an escape that is none")
	}
	t.Text = text
	return t
}

func (s *Scanner) fail(pos token.Pos, span int, help, format string, args ...any) {
	s.errors.Add(pos, span, help, format, args...)
}

func (s *Scanner) peek() rune {
	if c := s.src[s.offset]; c < utf8.RuneSelf {
		return rune(c)
	}
	r, _ := utf8.DecodeRuneInString(s.src[s.offset:])
	return r
}

func (s *Scanner) advance() {
	c := s.src[s.offset]
	switch {
	case c == '\n':
		s.offset++
		s.line++
		s.column = 1
	case c < utf8.RuneSelf:
		s.offset++
		s.column++
	default:
		_, size := utf8.DecodeRuneInString(s.src[s.offset:])
		s.offset += size
		s.column++
	}
}

func (s *Scanner) skip(bytes int) {
	for end := s.offset + bytes; s.offset < end; {
		s.advance()
	}
}

func (s *Scanner) skipSpace() (any bool) {
	for s.offset < len(s.src) && unicode.IsSpace(s.peek()) {
		s.advance()
		any = true
	}
	return any
}

func (s *Scanner) toLineEnd() {
	for s.offset < len(s.src) && s.peek() != '\n' {
		s.advance()
	}
}
