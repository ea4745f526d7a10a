package directory

// What every reader of people gives, and to whom.

import (
	"fmt"
	"strings"
	"time"

	"briskwarden.example/briskwarden/internal/known"
	"briskwarden.example/briskwarden/internal/spell"
)

// User is what a source states of one user. What it does not state is zero. Reuse of the
// struct and its slices is the source's affair: a [Sink] keeps neither.
type User struct {
	ID         string
	Key        string // by which the source's groups name the user: a resource id, or a DN; may be empty
	Type       string // employee, guest or service
	Groups     []Reference
	Methods    []string
	Joined     time.Time // where the source states an instant
	JoinedText string    // where it states a date or an instant in words
	Risk       string
	Active     known.Truth
	Attributes []Attribute
}

// Attribute is one attribute of a user, as the source states it.
type Attribute struct {
	Name  string // without "user."
	Value any    // a string, bool or float64
}

// Group is what a source states of one group.
type Group struct {
	Name    string
	Key     string
	Members []Reference // users and groups
}

// Reference names a user or a group.
type Reference struct {
	Key  string // its resource id or DN; empty where it is named outright
	Name string // its name; for what only a key names, how it is called if nothing has that key
}

// Sink takes what a source states; line is where it stands. An error ends the reading.
type Sink interface {
	User(line int, u *User) error
	Group(line int, g *Group) error
	Aside(what string)      // something that is neither
	Listed(read, total int) // how many resources a file's lists have, and say there are
}

// userTypes are the types of users as sources call them, in small letters.
var userTypes = map[string]string{
	"employee": "employee", "staff": "employee", "internal": "employee", "intern": "employee",
	"guest": "guest", "contractor": "guest", "partner": "guest", "external": "guest", "consultant": "guest", "supplier": "guest",
	"vendor": "guest", "visitor": "guest", "temp": "guest", "temporary": "guest", "freelancer": "guest", "agency": "guest",
	"service": "service", "machine": "service", "system": "service", "robot": "service",
}

// TypeOf is the type of a user as the language names it.
func TypeOf(stated string) (string, error) {
	folded := strings.ToLower(stated)
	if t, ok := userTypes[folded]; ok || stated == "" {
		return t, nil
	}
	names := make([]string, 0, len(userTypes))
	for name := range userTypes {
		names = append(names, name)
	}
	help := "write employee, guest (or contractor, partner, external) or service"
	if hint := spell.Hint(folded, names); hint != "" {
		help = hint
	}
	return "", fmt.Errorf("%q is no type of user: %s", stated, help)
}
