package engine

// What a fact's value comes from, in words.

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"briskwarden.example/briskwarden/internal/fact"
	"briskwarden.example/briskwarden/internal/history"
	"briskwarden.example/briskwarden/internal/known"
	"briskwarden.example/briskwarden/internal/place"
	"briskwarden.example/briskwarden/internal/rulebook"
	"briskwarden.example/briskwarden/signon"
)

// whatIsKnown tells where the sign-on is from, and what is known of its device: whose it is, how
// old its last report is, and what fails of the baselines that would mend the block.
func (f explainer) whatIsKnown(next []signon.Step) (list []string) {
	if len(f.supposed) > 0 {
		list = append(list, "supposed: "+f.supposedText())
	}
	if f.so.IP.IsValid() {
		list = append(list, fmt.Sprintf("%s is in %s, in %s", f.so.IP.Unmap(), cmp.Or(f.networkNames(), "no named network"),
			cmp.Or(f.countryCode(), "an unknown country")))
	}
	switch d := f.device; {
	case f.hasDevice && d.ID == "":
		list = append(list, "the device has no id")
	case f.hasDevice && f.record == nil:
		list = append(list, d.ID+" is not in the inventory")
	case f.hasDevice:
		list = append(list, fmt.Sprintf("%s %s (%s)%s", d.ID, f.owned(), f.recordAt(), f.lastReport()))
	}
	for _, s := range next {
		if s.Do == signon.Remedy {
			list = append(list, f.ShowBaseline(slices.IndexFunc(f.rb.Baselines, func(b *rulebook.Baseline) bool { return b.Name == s.Baseline })))
		}
	}
	return list
}

func (f explainer) owned() string {
	switch f.record.Owner {
	case "":
		return "has no owner"
	case f.person.ID:
		return "is the user's own"
	}
	return fmt.Sprintf("is %s's, not %s's", f.record.Owner, f.person.ID)
}

func (f explainer) lastReport() string {
	if f.device.Reported.IsZero() {
		return ", and never reported"
	}
	return ", and reported " + age(f.now.Sub(f.device.Reported))
}

// networkNames are the named networks that the address lies in.
func (f explainer) networkNames() string {
	in, _ := f.networksOf()
	var names []string
	for id := range in.All() {
		if id < len(f.rb.Networks.Names) {
			names = append(names, f.rb.Networks.Names[id])
		}
	}
	return strings.Join(names, " and ")
}

// MemberEvidence tells what makes the sign-on be in a network or schedule, or not.
func (f explainer) MemberEvidence(s fact.Slot, id int) string {
	switch {
	case s == fact.Time:
		if event := f.rb.Schedules[id].Exception(f.now); event != "" {
			return "is closed: " + event
		}
	case s == fact.Network && f.so.IP.IsValid():
		return f.networkEvidence(id)
	}
	return ""
}

func (f explainer) networkEvidence(id int) string {
	a := f.so.IP.Unmap()
	if t, ok := f.rb.Networks.Table.Trace(a, id); ok {
		if t.Prefix.IsSingleIP() {
			return fmt.Sprintf("%s (%s:%d)", a, t.File, t.Line)
		}
		return fmt.Sprintf("%s is in %s", a, t)
	}
	switch v4, v6 := f.rb.Networks.Table.Lists(id); {
	case a.Is6() && v4 && !v6:
		return "lists only IPv4, and this is IPv6"
	case a.Is4() && v6 && !v4:
		return "lists only IPv6, and this is IPv4"
	}
	return ""
}

// flaggedEvidence tells which of the networks so flagged holds the address.
func (f explainer) flaggedEvidence(s fact.Slot) string {
	flagged := f.rb.Networks.Trusted
	if s == fact.NetworkAnonymous {
		flagged = f.rb.Networks.Anonymous
	}
	in, ok := f.networksOf()
	if !ok {
		return sansAddress
	}
	for id := range flagged.All() {
		if in.Has(id) {
			return f.networkEvidence(id)
		}
	}
	return ""
}

// What is said where there is nothing to go by.
const (
	sansAddress = "the sign-on has no address"
	sansDevice  = "the sign-on names no device"
	sansPast    = "no past sign-ons are at hand"
)

// Evidence tells what a fact's value comes from, or why it is unknown.
func (f explainer) Evidence(s fact.Slot) string {
	if _, is := f.supposed[s]; is && !f.nobodyTells(s) {
		return "supposed"
	}
	switch s {
	case fact.Network:
		if !f.so.IP.IsValid() {
			return sansAddress
		}
		return ""
	case fact.NetworkTrusted, fact.NetworkAnonymous:
		return f.flaggedEvidence(s)
	case fact.Country:
		return f.countryEvidence()
	case fact.NewCountry, fact.NewDevice, fact.OddHour, fact.TravelSpeed:
		return f.pastEvidence(s)
	case fact.UserCompromised:
		return f.compromiseEvidence()
	case fact.UserRisk:
		if f.recalled != nil && f.recalled.Signals.RiskBy != "" {
			return "by " + f.recalled.Signals.RiskBy
		}
	case fact.DeviceOwned:
		return f.ownerEvidence()
	case fact.ScopesWeight:
		return f.weighing()
	case fact.DeviceOS, fact.DeviceForm, fact.DeviceID, fact.DeviceVersion, fact.DeviceReported:
		if !f.Known(s) {
			return f.unknownDevice()
		}
	}
	if i, is := s.DeviceFlag(); is {
		return f.flagEvidence(&signon.DeviceFlags[i])
	}
	return ""
}

// compromiseEvidence tells who says that the user's credential is known to somebody else, or why nobody says.
func (f explainer) compromiseEvidence() string {
	switch {
	case !f.rb.Accepts(rulebook.CredentialCompromise):
		return "no source of signals tells of it"
	case f.recalled == nil:
		return "the service's state knows: give it with --state"
	case f.recalled.Signals.Compromised == known.True:
		return "by a signal from " + f.recalled.Signals.CompromisedBy
	case f.recalled.Signals.Compromised == known.Unknown:
		return f.recalled.Signals.CompromisedBy + " could not be asked for an hour"
	}
	return ""
}

// unknownDevice tells why something of the device is unknown.
func (f explainer) unknownDevice() string {
	switch {
	case !f.hasDevice:
		return sansDevice
	case f.device.ID != "" && f.record == nil:
		return f.device.ID + " is not in the inventory"
	}
	return ""
}

// flagEvidence is about a yes-no field of the device.
func (f explainer) flagEvidence(flag *signon.DeviceFlag) string {
	switch {
	case f.complied && flag.Name == "compliant":
		return "by a signal from " + f.recalled.Signals.CompliantBy
	case *flag.Of(f.device) != signon.Unknown:
		return ""
	case flag.Inventory && f.unknownDevice() == "":
		return "nothing says that it is"
	}
	return f.unknownDevice()
}

func (f explainer) ownerEvidence() string {
	switch r := f.record; {
	case f.record == nil && f.hasDevice && f.device.ID == "":
		return "the device has no id"
	case f.record == nil:
		return f.unknownDevice()
	case r.Owner == "":
		return fmt.Sprintf("the inventory names no owner of %s (%s)", r.ID, f.recordAt())
	default:
		return fmt.Sprintf("%s is %s's (%s)", r.ID, r.Owner, f.recordAt())
	}
}

func (f explainer) recordAt() string {
	if f.record.File == "" {
		return "inventory"
	}
	return fmt.Sprintf("%s:%d", f.record.File, f.record.Line)
}

func (f explainer) countryEvidence() string {
	switch {
	case f.so.Country != "":
		return "" // the sign-on states it
	case !f.so.IP.IsValid():
		return sansAddress
	}
	a := f.so.IP.Unmap()
	t, traced := place.Trace{}, false
	if f.e.sources.Places == nil {
		t, traced = f.rb.Atlas.Trace(a)
	}
	switch {
	case traced && f.countryCode() == "":
		return fmt.Sprintf("%s is nowhere, by %s", a, t)
	case traced:
		return fmt.Sprintf("%s is in %s", a, t)
	case f.countryCode() == "":
		return fmt.Sprintf("no source knows %s", a)
	}
	return ""
}

func (f explainer) pastEvidence(s fact.Slot) string {
	if f.pastSource() == nil {
		return sansPast
	}
	q := *f.query()
	q.Counts = true
	p := f.pastSource().Before(&q)
	switch {
	case s == fact.NewCountry:
		return f.newEvidence(p.NewCountry, f.countryCode(), p.CountrySeen, "the country is unknown")
	case s == fact.NewDevice:
		return f.newEvidence(p.NewDevice, f.device.ID, p.DeviceSeen, sansDevice)
	case s == fact.TravelSpeed:
		return f.travelEvidence(&p)
	case p.OddHour == known.Unknown:
		return fmt.Sprintf("of the sign-ons of %s in 90 days, too many are remembered in part alone", f.person.ID)
	case p.Learned == 0:
		return fmt.Sprintf("no sign-on of %s is known", f.person.ID)
	}
	text := fmt.Sprintf("%d of %d in 90 days were within an hour of %s", p.AroundNow, p.Learned, f.now.In(f.rb.Zone).Format("15:04"))
	if p.OddHour == known.False && p.Learned < history.LeastForOdd {
		text += fmt.Sprintf(", and fewer than %d tell nothing", history.LeastForOdd)
	}
	return text
}

func (f explainer) newEvidence(isNew known.Truth, what string, seen time.Time, unknown string) string {
	switch {
	case what == "":
		return unknown
	case isNew == known.Unknown:
		return fmt.Sprintf("whether %s was seen in 90 days is no longer remembered", what)
	case seen.IsZero():
		return what + " was not seen in 90 days"
	}
	return fmt.Sprintf("%s was last seen %s", what, age(f.now.Sub(seen)))
}

func (f explainer) travelEvidence(p *history.Facts) string {
	switch {
	case p.Strayed:
		return "where the user was before is no longer remembered"
	case !p.TravelKnown && !f.so.IP.IsValid():
		return sansAddress
	case !p.TravelKnown:
		return fmt.Sprintf("the position of %s is unknown", f.so.IP.Unmap())
	case p.TravelSpeed == history.AtOnce:
		return "at the same instant the user was elsewhere"
	case p.TravelSince.IsZero():
		return "no earlier position is known"
	}
	return fmt.Sprintf("%.0f km from where the user was %s", p.TravelKM, age(p.TravelledFor))
}
