// Package fact is the table of the facts that conditions can ask about: their names, their
// types and the slots under which an evaluation finds their values.
package fact

import (
	"time"

	"briskwarden.example/briskwarden/internal/known"
	"briskwarden.example/briskwarden/signon"
)

// Slot identifies a fact. The built-in facts have the constants below; declared attributes follow them.
type Slot uint16

// The slots of the built-in facts.
const (
	Network Slot = iota
	NetworkTrusted
	NetworkAnonymous
	Group
	Tag
	Country
	Time
	Client
	UserID
	UserType
	UserRisk
	UserHas
	UserJoined
	UserCompromised
	DeviceReported
	firstDeviceFlag // and those of the other yes-no fields of a device, in the order of [signon.DeviceFlags]
)

// The slots of the built-in facts behind the yes-no fields of a device.
const (
	DeviceOwned Slot = iota + firstDeviceFlag + Slot(len(signon.DeviceFlags))
	DeviceOS
	DeviceForm
	DeviceID
	DeviceVersion
	DeviceMeets
	NewCountry
	NewDevice
	OddHour
	TravelSpeed
	Risk
	RiskBand
	ReportedRisk
	PublisherVerified
	PublisherName
	ClientAppID
	Scopes
	ScopesCount
	ScopesWeight
	ConsentFor
	ConsentOwner
	firstAttribute
)

// Type is the type of a fact; it decides which operators it takes.
type Type uint8

// The types of facts.
const (
	Membership  Type = iota // of declared sets: network, group, tag
	Addresses               // membership that also takes literal addresses: network
	YesNo                   // bare, is yes, is no
	Word                    // a word of its own or of a fixed list
	CountryCode             // a country, in sets of countries
	Level                   // one of a fixed, ordered list of words
	Band                    // a band of the risk model
	Clock                   // the time of the sign-on
	Instant                 // a moment of which the age is asked
	Date                    // a date attribute
	Version                 // a dotted version
	Number                  // a number
	Methods                 // user has …
	Baselines               // device meets …
	ScopeSet                // scopes within, touch
)

var typeNames = [...]string{"membership", "membership", "yes or no", "word", "country", "level", "band", "instant", "instant", "date",
	"version", "number", "methods", "baseline", "scopes"}

// String names the type for a message.
func (t Type) String() string { return typeNames[t] }

// Keyword is the type as the declaration of an attribute names it.
func (t Type) Keyword() string {
	if t == YesNo {
		return "yes-no"
	}
	return t.String()
}

// Fact is one row of the table.
type Fact struct {
	Slot   Slot
	Name   string
	Type   Type
	Values []string // the words that a Word or Level can be, in order; nil when any
}

// Levels are the values of user.risk, from the lowest.
var Levels = []string{"none", "low", "medium", "high"}

// UserTypes are the values of user.type.
var UserTypes = []string{"employee", "guest", "service"}

var builtin = withDeviceFlags([firstAttribute]Fact{
	Network:           {Name: "network", Type: Addresses},
	NetworkTrusted:    {Name: "network.trusted", Type: YesNo},
	NetworkAnonymous:  {Name: "network.anonymous", Type: YesNo},
	Group:             {Name: "group", Type: Membership},
	Tag:               {Name: "tag", Type: Membership},
	Country:           {Name: "country", Type: CountryCode},
	Time:              {Name: "time", Type: Clock},
	Client:            {Name: "client", Type: Word, Values: []string{"browser", "native", "legacy", "unattended"}},
	UserID:            {Name: "user.id", Type: Word},
	UserType:          {Name: "user.type", Type: Word, Values: UserTypes},
	UserRisk:          {Name: "user.risk", Type: Level, Values: Levels},
	UserHas:           {Name: "user", Type: Methods},
	UserJoined:        {Name: "user.joined", Type: Instant},
	UserCompromised:   {Name: "user.compromised", Type: YesNo},
	DeviceReported:    {Name: "device.reported", Type: Instant},
	DeviceOwned:       {Name: "device.owned", Type: YesNo},
	DeviceOS:          {Name: "device.os", Type: Word},
	DeviceForm:        {Name: "device.form", Type: Word},
	DeviceID:          {Name: "device.id", Type: Word},
	DeviceVersion:     {Name: "device.version", Type: Version},
	DeviceMeets:       {Name: "device", Type: Baselines},
	NewCountry:        {Name: "new.country", Type: YesNo},
	NewDevice:         {Name: "new.device", Type: YesNo},
	OddHour:           {Name: "odd.hour", Type: YesNo},
	TravelSpeed:       {Name: "travel.speed", Type: Number},
	Risk:              {Name: "risk", Type: Number},
	RiskBand:          {Name: "risk.band", Type: Band},
	ReportedRisk:      {Name: "reported.risk", Type: Number},
	PublisherVerified: {Name: "publisher.verified", Type: YesNo},
	PublisherName:     {Name: "publisher.name", Type: Word},
	ClientAppID:       {Name: "client-app.id", Type: Word},
	Scopes:            {Name: "scopes", Type: ScopeSet},
	ScopesCount:       {Name: "scopes.count", Type: Number},
	ScopesWeight:      {Name: "scopes.weight", Type: Number},
	ConsentFor:        {Name: "consent.for", Type: Word, Values: []string{"self", "group", "everyone"}},
	ConsentOwner:      {Name: "consent.owner", Type: YesNo},
})

func withDeviceFlags(facts [firstAttribute]Fact) [firstAttribute]Fact {
	for i, flag := range signon.DeviceFlags {
		facts[DeviceFlag(i)] = Fact{Name: "device." + flag.Name, Type: YesNo}
	}
	return facts
}

// DeviceFlag is the slot of a yes-no field of a device, by its place in [signon.DeviceFlags].
func DeviceFlag(i int) Slot { return firstDeviceFlag + Slot(i) }

// DeviceFlag is the place in [signon.DeviceFlags] of the yes-no field of a device that the slot is of.
func (s Slot) DeviceFlag() (i int, is bool) {
	i = int(s) - int(firstDeviceFlag)
	return i, i >= 0 && i < len(signon.DeviceFlags)
}

// Value is the value of an attribute; the field that counts follows from the fact's type.
// The zero Value is unknown.
type Value struct {
	Known  bool
	Word   string
	Number float64
	YesNo  known.Truth
	Day    *Day // of a date
}

// At is the instant that a date begins with, or that an instant is; zero where there is none.
func (v Value) At() time.Time {
	if v.Day == nil {
		return time.Time{}
	}
	return v.Day.Start
}

// Day is when a date begins, and when the day after it does.
type Day struct{ Start, Next time.Time }

// Equal reports whether two values of a type are the same.
func (v Value) Equal(w Value, t Type) bool {
	switch {
	case v.Known != w.Known:
		return false
	case t == YesNo:
		return v.YesNo == w.YesNo
	case t == Number:
		return v.Number == w.Number
	}
	return v.Word == w.Word
}

// JSON is the value as a request states it: a string, bool or float64.
func (v Value) JSON(t Type) any {
	switch t {
	case YesNo:
		return v.YesNo == known.True
	case Number:
		return v.Number
	}
	return v.Word
}

// Attribute is a declared fact of users or devices.
type Attribute struct {
	*Fact
	OfDevice    bool
	Index       int // among the attributes of its kind, user or device
	Default     Value
	FromRequest bool
}

// Table holds the built-in facts and the declared attributes.
type Table struct {
	facts      []*Fact
	byName     map[string]*Fact
	attributes []*Attribute
	users      int
	devices    int
}

// NewTable returns a table of the built-in facts.
func NewTable() *Table {
	t := &Table{byName: make(map[string]*Fact, len(builtin))}
	for slot := range builtin {
		f := builtin[slot]
		f.Slot = Slot(slot)
		t.facts = append(t.facts, &f)
		t.byName[f.Name] = &f
	}
	return t
}

// Declare adds an attribute under the full name, such as user.department, and returns it for
// its default to be filled in. It returns nil when the name is taken.
func (t *Table) Declare(name string, typ Type, ofDevice, fromRequest bool) *Attribute {
	if t.byName[name] != nil {
		return nil
	}
	f := &Fact{Slot: Slot(len(t.facts)), Name: name, Type: typ}
	t.facts = append(t.facts, f)
	t.byName[name] = f
	a := &Attribute{Fact: f, OfDevice: ofDevice, Index: t.users, FromRequest: fromRequest}
	if ofDevice {
		a.Index = t.devices
		t.devices++
	} else {
		t.users++
	}
	t.attributes = append(t.attributes, a)
	return a
}

// Lookup finds a fact by its name.
func (t *Table) Lookup(name string) (*Fact, bool) {
	f, ok := t.byName[name]
	return f, ok
}

// Fact returns the fact of a slot.
func (t *Table) Fact(s Slot) *Fact { return t.facts[s] }

// Attribute returns the attribute of a slot, or nil for a built-in fact.
func (t *Table) Attribute(s Slot) *Attribute {
	if s < firstAttribute {
		return nil
	}
	return t.attributes[s-firstAttribute]
}

// Attributes lists the declared attributes in the order in which they were declared.
func (t *Table) Attributes() []*Attribute { return t.attributes }

// AttributeNamed finds a declared attribute by its full name.
func (t *Table) AttributeNamed(name string) (*Attribute, bool) {
	f, ok := t.byName[name]
	if !ok || f.Slot < firstAttribute {
		return nil, false
	}
	return t.Attribute(f.Slot), true
}

// Users and Devices count the attributes of either kind.
func (t *Table) Users() int { return t.users }

// Devices counts the attributes of devices.
func (t *Table) Devices() int { return t.devices }

// Names lists all facts, as they are written.
func (t *Table) Names() []string {
	names := make([]string, 0, len(t.facts))
	for _, f := range t.facts {
		names = append(names, f.Name)
	}
	return names
}
