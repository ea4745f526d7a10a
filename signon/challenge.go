package signon

// The challenge of RFC 9470.

import (
	"strconv"
	"strings"
)

// Challenge is the value of the WWW-Authenticate header with which a protected resource answers a
// step-up: the challenge of RFC 9470, section 3, in the Bearer scheme of RFC 6750. It is empty for
// other outcomes, which no proof changes.
func (d *Decision) Challenge() string {
	if d.Outcome != StepUp {
		return ""
	}
	text := `Bearer error="insufficient_user_authentication", error_description="a stronger or fresher proof is needed"`
	if d.ACR != "" {
		text += ", acr_values=" + quotedString(d.ACR)
	}
	if d.MaxAge != NoMaxAge {
		text += `, max_age="` + strconv.FormatInt(d.MaxAge, 10) + `"`
	}
	return text
}

// quotedString is a quoted-string of RFC 9110, section 5.6.4. What a header cannot hold is left out.
func quotedString(text string) string {
	var b strings.Builder
	b.WriteByte('"')
	for _, c := range []byte(text) {
		if c < ' ' || c > '~' {
			continue
		}
		if c == '"' || c == '\\' {
			b.WriteByte('\\')
		}
		b.WriteByte(c)
	}
	b.WriteByte('"')
	return b.String()
}
