package engine

// The facts of a sign-on, each worked out when it is first asked for.

import (
	"fmt"
	"net/netip"
	"slices"
	"time"

	"briskwarden.example/briskwarden/internal/fact"
	"briskwarden.example/briskwarden/internal/history"
	"briskwarden.example/briskwarden/internal/known"
	"briskwarden.example/briskwarden/internal/place"
	"briskwarden.example/briskwarden/internal/set"
	"briskwarden.example/briskwarden/signon"
)

// Now is the time of the sign-on.
func (f *frame) Now() time.Time { return f.now }

// Member tells whether the sign-on belongs to any of some declared sets.
func (f *frame) Member(s fact.Slot, ids []int) known.Truth {
	if s == fact.Network {
		in, ok := f.networksOf()
		return whenKnown(ok, slices.ContainsFunc(ids, in.Has))
	}
	t := known.False
	for _, id := range ids {
		if t = t.Or(f.member(s, id)); t == known.True {
			break
		}
	}
	return t
}

func (f *frame) member(s fact.Slot, id int) known.Truth {
	switch s {
	case fact.Group:
		return known.Of(f.person.In(int32(id)))
	case fact.Tag:
		return known.Of(slices.Contains(f.target.app.Tags, id))
	case fact.Time:
		return f.rb.Schedules[id].In(f.now)
	case fact.UserHas:
		return known.Of(f.rb.Within[id].Within(f.rb.Methods, f.person.Methods))
	}
	return f.baseline(id)
}

// networksOf are the networks that the address lies in; not ok without an address.
func (f *frame) networksOf() (in set.Set, ok bool) {
	if !f.networks.done && f.so.IP.IsValid() {
		f.networks = lazy[set.Set]{f.lists.of(f.so.IP.Unmap(), f.rb.Networks.Table.Networks), true}
	}
	return f.networks.value, f.networks.done
}

func whenKnown(ok, holds bool) known.Truth {
	if !ok {
		return known.Unknown
	}
	return known.Of(holds)
}

// baseline is the conjunction of the baseline's checks.
func (f *frame) baseline(id int) known.Truth {
	b := &f.baselines[id]
	if !b.done {
		b.value, b.done = known.True, true
		for _, c := range f.rb.Baselines[id].Checks {
			b.value = b.value.And(c.When.Eval(f))
		}
	}
	return b.value
}

// Meets tells whether the device meets the baseline; nobody can meet it at the prompt.
func (f *frame) Meets(id int) bool { return f.baseline(id) == known.True }

// YesNo gives a yes-no fact.
func (f *frame) YesNo(s fact.Slot) known.Truth {
	if f.supposed != nil {
		if v, is := f.supposed[s]; is {
			return v.YesNo
		}
	}
	if i, is := s.DeviceFlag(); is {
		flag := &signon.DeviceFlags[i]
		if v := *flag.Of(f.device); v != signon.Unknown || !flag.Inventory || !f.hasDevice {
			return truth(v)
		}
		return known.False
	}
	switch s {
	case fact.NetworkTrusted:
		in, ok := f.networksOf()
		return whenKnown(ok, in.Intersects(f.rb.Networks.Trusted))
	case fact.NetworkAnonymous:
		in, ok := f.networksOf()
		return whenKnown(ok, in.Intersects(f.rb.Networks.Anonymous))
	case fact.DeviceOwned:
		if f.record == nil || f.record.Owner == "" {
			return known.Unknown
		}
		return known.Of(f.record.Owner == f.person.ID)
	case fact.NewCountry:
		return f.past().NewCountry
	case fact.NewDevice:
		return f.past().NewDevice
	case fact.OddHour:
		return f.past().OddHour
	case fact.UserCompromised:
		if f.recalled == nil {
			return known.Unknown
		}
		return f.recalled.Signals.Compromised
	case fact.PublisherVerified:
		return truth(f.consent().Verified)
	case fact.ConsentOwner:
		return truth(f.consent().Owner)
	}
	if v := f.attribute(s); v.Known {
		return v.YesNo
	}
	return known.Unknown
}

// truth converts what a sign-on states; the two have their values in a different order.
func truth(v signon.YesNo) known.Truth {
	switch v {
	case signon.Yes:
		return known.True
	case signon.No:
		return known.False
	}
	return known.Unknown
}

func (f *frame) consent() *signon.Consent {
	if f.so.Consent == nil {
		return &noConsent
	}
	return f.so.Consent
}

func (f *frame) past() *history.Facts {
	if !f.history.done {
		f.history.done = true
		q := f.query()
		if source := f.pastSource(); source != nil {
			f.history.value = source.Before(q)
		}
	}
	return &f.history.value
}

// query is what a history is asked, or taught, about the sign-on.
func (f *frame) query() *history.Query {
	q := &f.historyQuery
	*q = history.Query{User: f.so.User, At: f.now, Country: f.countryCode(), Device: f.device.ID, Place: *f.location()}
	return q
}

// Word gives a fact that is a word, a country or a version.
func (f *frame) Word(s fact.Slot) (string, bool) {
	if f.supposed != nil {
		if v, is := f.supposed[s]; is {
			return v.Word, v.Known
		}
	}
	var w string
	switch s {
	case fact.Country:
		w = f.countryCode()
	case fact.Client:
		w = string(f.so.Client)
	case fact.UserID:
		w = f.person.ID
	case fact.UserType:
		w = f.person.Type
	case fact.UserRisk:
		w = f.person.Risk
	case fact.DeviceOS:
		w = f.device.OS
	case fact.DeviceForm:
		w = f.device.Form
	case fact.DeviceID:
		w = f.device.ID
	case fact.DeviceVersion:
		w = f.device.Version
	case fact.PublisherName:
		w = f.consent().Publisher
	case fact.ClientAppID:
		w = f.consent().Client
	case fact.ConsentFor:
		w = string(f.consent().For)
	default:
		v := f.attribute(s)
		return v.Word, v.Known
	}
	return w, w != ""
}

func (f *frame) countryCode() string {
	if f.so.Country != "" {
		return f.so.Country
	}
	return f.location().Country
}

// location is where the address is, as far as the geo sources know.
func (f *frame) location() *place.Location {
	if !f.where.done {
		f.where.done = true
		switch addr := f.so.IP.Unmap(); {
		case !addr.IsValid():
		case f.e.sources.Places == nil:
			f.where.value = f.locations.of(addr, f.locate)
		default:
			at, err := f.e.sources.Places.Locate(f.ctx, addr)
			if err != nil {
				f.fail(fmt.Errorf("where %s is cannot be looked up: %w", addr, err))
				break
			}
			f.where.value = at
		}
	}
	return &f.where.value
}

// locate tells where an address is by the rulebook's own files.
func (f *frame) locate(addr netip.Addr) place.Location {
	at, _ := f.rb.Atlas.Locate(addr)
	return at
}

// Number gives a number, or the interval in which it lies.
func (f *frame) Number(s fact.Slot) (known.Interval, bool) {
	if f.supposed != nil {
		if v, is := f.supposed[s]; is {
			return known.Exactly(v.Number), v.Known
		}
	}
	switch s {
	case fact.Risk, fact.RiskBand:
		if !f.risk.done {
			f.risk = lazy[known.Interval]{f.rb.Risk.Score(f), true}
		}
		return f.risk.value, true
	case fact.TravelSpeed:
		return known.Exactly(f.past().TravelSpeed), f.past().TravelKnown
	case fact.ReportedRisk:
		if f.so.Risk == nil {
			return known.Interval{}, false
		}
		return known.Exactly(*f.so.Risk), true
	case fact.ScopesCount:
		return known.Exactly(float64(len(f.consent().Scopes))), f.consent().Scopes != nil
	case fact.ScopesWeight:
		return known.Exactly(float64(f.rb.Weigh(f.consent().Scopes))), f.consent().Scopes != nil
	}
	v := f.attribute(s)
	return known.Exactly(v.Number), v.Known
}

// Instant gives the moment of which the age is asked.
func (f *frame) Instant(s fact.Slot) (time.Time, bool) {
	if f.supposed != nil {
		if v, is := f.supposed[s]; is {
			return v.At(), v.Known
		}
	}
	t := f.device.Reported
	if s == fact.UserJoined {
		t = f.person.Joined
	}
	return t, !t.IsZero()
}

// Date gives the bounds of a date attribute.
func (f *frame) Date(s fact.Slot) (start, next time.Time, ok bool) {
	v := f.attribute(s)
	if v.Day == nil {
		return start, next, false
	}
	return v.Day.Start, v.Day.Next, true
}

// Known tells whether a fact is known.
func (f *frame) Known(s fact.Slot) bool {
	switch t := f.rb.Facts.Fact(s).Type; {
	case s == fact.Network:
		return f.so.IP.IsValid()
	case s == fact.Risk:
		score, _ := f.Number(s)
		return score.Low == score.High
	case s == fact.RiskBand:
		score, _ := f.Number(s)
		return f.rb.Risk.BandAt(int(score.Low)) == f.rb.Risk.BandAt(int(score.High))
	case s == fact.Scopes:
		return f.consent().Scopes != nil
	case t == fact.YesNo:
		return f.YesNo(s) != known.Unknown
	case t == fact.Number:
		_, ok := f.Number(s)
		return ok
	case t == fact.Instant:
		_, ok := f.Instant(s)
		return ok
	case t == fact.Date:
		return f.attribute(s).Known
	case t == fact.Membership || t == fact.Clock:
		return true
	}
	_, ok := f.Word(s)
	return ok
}

// Scopes tells whether the scopes asked for lie within the sets, or touch them.
func (f *frame) Scopes(within bool, sets []int) known.Truth {
	scopes := f.consent().Scopes
	if scopes == nil || within && len(scopes) == 0 {
		return known.Unknown
	}
	inSets := f.inScopeSets(sets)
	if within {
		return known.Of(!slices.ContainsFunc(scopes, func(s string) bool { return !inSets(s) }))
	}
	return known.Of(slices.ContainsFunc(scopes, inSets))
}

func (f *frame) inScopeSets(sets []int) func(scope string) bool {
	return func(scope string) bool {
		return slices.ContainsFunc(sets, func(id int) bool { return f.rb.InScopeSet(id, scope) })
	}
}
