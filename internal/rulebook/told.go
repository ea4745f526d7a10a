package rulebook

// A sign-on, told in clauses.

import (
	"fmt"
	"maps"
	"math"
	"slices"
	"strconv"
	"strings"
	"time"

	"briskwarden.example/briskwarden/internal/posture"
	"briskwarden.example/briskwarden/language/scanner"
	"briskwarden.example/briskwarden/signon"
)

// Clauses tells a sign-on in clauses, as [Rulebook.Tell] reads them; not ok where they have no words for it.
func Clauses(so *signon.SignOn) (text string, ok bool) {
	if len(so.Properties) > 0 || so.User == "" || so.App == "" || so.Time.IsZero() {
		return "", false
	}
	var parts []string
	add := func(clause, value string) {
		if value != "" {
			parts = append(parts, clause+" "+scanner.Quote(value))
		}
	}
	add("user", so.User)
	add("app", so.App)
	if so.Action != SignOn {
		add("doing", so.Action)
	}
	if so.IP.IsValid() {
		add("ip", so.IP.String())
	}
	add("country", so.Country)
	add("at", so.Time.Format(time.RFC3339))
	add("client", string(so.Client))
	if so.Device != nil {
		parts = append(parts, tellDevice(so.Device))
	}
	if so.Session.ID != "" {
		add("session", so.Session.ID)
		if !so.Session.Started.IsZero() {
			parts = append(parts, "started "+so.Session.Started.Format(time.RFC3339))
		}
	}
	if len(so.Presented) > 0 {
		parts = append(parts, "presenting "+strings.Join(so.Presented, ", "))
	}
	for _, e := range so.Evidence {
		age := so.Time.Sub(e.Time)
		if age < 0 {
			return "", false
		}
		having := fmt.Sprintf("having %s %dm", scanner.Quote(e.Method), int(math.Ceil(age.Minutes())))
		for _, x := range [][2]string{{"in session", e.Session}, {"on device", e.Device}, {"for app", e.App}} {
			if x[1] != "" {
				having += " " + x[0] + " " + scanner.Quote(x[1])
			}
		}
		parts = append(parts, having)
	}
	if so.Risk != nil {
		parts = append(parts, fmt.Sprintf("risk %g", *so.Risk))
	}
	if so.Consent != nil {
		parts = append(parts, tellConsent(so.Consent)...)
	}
	if len(so.Suppose) > 0 {
		parts = append(parts, "suppose "+tellSupposed(so.Suppose))
	}
	return strings.Join(parts, "  "), true
}

// tellConsent tells what a client application asks for. What a clause cannot tell shows when
// the clauses are decided once more.
func tellConsent(c *signon.Consent) (parts []string) {
	if c.Client != "" {
		parts = append(parts, "client-app "+scanner.Quote(c.Client))
	}
	if c.Publisher != "" {
		publisher := "publisher " + scanner.Quote(c.Publisher)
		if c.Verified == signon.Yes {
			publisher += " verified"
		}
		parts = append(parts, publisher)
	}
	if len(c.Scopes) > 0 {
		quoted := make([]string, len(c.Scopes))
		for i, s := range c.Scopes {
			quoted[i] = scanner.Quote(s)
		}
		parts = append(parts, "scopes "+strings.Join(quoted, ", "))
	}
	if c.For != "" {
		whom := "for " + string(c.For)
		if c.Group != "" {
			whom += " " + scanner.Quote(c.Group)
		}
		if c.Owner == signon.Yes {
			whom += " owner"
		}
		parts = append(parts, whom)
	}
	return parts
}

// tellDevice tells the device, with its fields in braces.
func tellDevice(d *signon.Device) string {
	copied := *d
	var fields []string
	for name, word := range posture.Words(&copied) {
		if name != "id" && *word != "" {
			fields = append(fields, name+" "+scanner.Quote(*word))
		}
	}
	for name, flag := range posture.Flags(&copied) {
		if *flag != signon.Unknown {
			fields = append(fields, name+" "+tellValue(*flag == signon.Yes))
		}
	}
	for name, value := range d.Attributes {
		fields = append(fields, name+" "+tellValue(value))
	}
	if !d.Reported.IsZero() {
		fields = append(fields, "reported "+d.Reported.Format(time.RFC3339))
	}
	text := "device"
	if d.ID != "" {
		text += " " + scanner.Quote(d.ID)
	}
	if len(fields) == 0 && d.ID != "" {
		return text
	}
	slices.Sort(fields)
	return text + " { " + strings.Join(fields, "  ") + " }"
}

// tellValue tells the value of a field or a fact.
func tellValue(v any) string {
	switch v := v.(type) {
	case nil:
		return "unknown"
	case bool:
		return map[bool]string{true: "yes", false: "no"}[v]
	case string:
		if v == "unknown" {
			return strconv.Quote(v)
		}
		return scanner.Quote(v)
	}
	return fmt.Sprint(v)
}

// tellSupposed lists what is supposed.
func tellSupposed(facts map[string]any) string {
	var list []string
	for _, name := range slices.Sorted(maps.Keys(facts)) {
		list = append(list, name+" "+tellValue(facts[name]))
	}
	return strings.Join(list, ", ")
}
