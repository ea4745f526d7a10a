package engine

// Who signs on, to what, from which device, and with which proof.

import (
	"cmp"
	"context"
	"fmt"

	"briskwarden.example/briskwarden/internal/demand"
	"briskwarden.example/briskwarden/internal/known"
	"briskwarden.example/briskwarden/internal/posture"
	"briskwarden.example/briskwarden/internal/rulebook"
	"briskwarden.example/briskwarden/signon"
)

// identify finds the user, the app and the action. Where one of them stops the sign-on, stop says so
// to the person, and ground is no longer that policies decide.
func (f *frame) identify(action string) (stop string, ground signon.Ground, err error) {
	if f.person, err = f.who(); err != nil {
		return "", ground, fmt.Errorf("the user %q cannot be looked up: %w", f.so.User, err)
	}
	target, declared := f.e.targets[f.so.App]
	switch {
	case f.so.User == "":
		return "No user is named.", signon.GroundUnknownUser, nil
	case f.person == nil:
		return fmt.Sprintf("The user %q is not known.", f.so.User), signon.GroundUnknownUser, nil
	case f.person.Active == known.False:
		return fmt.Sprintf("The user %q is disabled.", f.so.User), signon.GroundDisabledUser, nil
	case f.recalled != nil && f.recalled.Ended:
		return "This session has ended. Please sign on again.", signon.GroundEndedSession, nil
	case f.so.App == "":
		return "No app is named.", signon.GroundUnknownTarget, nil
	case !declared:
		return fmt.Sprintf("The app %q is not known.", f.so.App), signon.GroundUnknownTarget, nil
	}
	if f.target, f.index = target, target.index(action); f.index == nil {
		return fmt.Sprintf("The action %q is not known.", action), signon.GroundUnknownTarget, nil
	}
	return "", signon.GroundPolicies, nil
}

// ready takes a sign-on up and readies its facts, for those who need no words; it is not known where the user,
// the app or the action stops it.
func (f *frame) ready(so *signon.SignOn) (known bool, err error) {
	f.begin(so)
	_, ground, err := f.identify(cmp.Or(so.Action, rulebook.SignOn))
	if err != nil || ground != signon.GroundPolicies {
		return false, err
	}
	if err := cmp.Or(f.checkStated(), f.suppose()); err != nil {
		return false, err
	}
	var unused signon.Decision
	f.gather(&unused)
	return true, nil
}

// who finds the user, who in a log is often the one of the sign-on before.
func (f *frame) who() (*rulebook.Person, error) {
	if f.recalled != nil {
		return f.recalled.Person, nil
	}
	if p := f.last; p != nil && p.ID == f.so.User {
		return p, nil
	}
	p, err := f.e.Person(f.ctx, f.so.User)
	if f.e.sources.People == nil { // so that nobody changes
		f.last = p
	}
	return p, err
}

// Person finds a user, in the rulebook or outside; nil is one that is not known.
func (e *Engine) Person(ctx context.Context, id string) (*rulebook.Person, error) {
	if b := e.beside; b != nil && b.Person != nil && b.Person.ID == id {
		return b.Person, nil
	}
	if p, ok := e.rb.People[id]; ok || e.sources.People == nil || id == "" {
		return p, nil
	}
	p, found, err := e.sources.People.Person(ctx, id)
	if err != nil || !found {
		return nil, err
	}
	return e.rb.Bind(p)
}

// gather readies what does not depend on any policy: the device and the proof.
func (f *frame) gather(d *signon.Decision) {
	so := f.so
	if so.Device != nil {
		f.hasDevice = true
		f.record = f.recordOf(so.Device.ID)
		f.device = so.Device
		if f.record != nil {
			f.merged = *so.Device
			posture.Merge(&f.merged, f.record)
			f.complied = f.recalled != nil && f.recalled.Signals.comply(&f.merged, f.record)
			f.device = &f.merged
		}
	}
	p := &f.proof
	p.Enrolled, p.Now, p.Joined = f.person.Methods, f.now, f.person.JoinedDay
	f.supposeJoined()
	p.Session, p.Started, p.Device, p.App = so.Session.ID, so.Session.Started, f.device.ID, so.App
	if p.Used = f.recalled != nil; p.Used {
		p.LastGrant = f.recalled.LastGrant
	}
	for _, name := range so.Presented {
		switch id, ok := f.methodID(name); {
		case ok && id == demand.ChangedPassword:
			p.Changed = true
		case ok:
			p.Presented.Add(id)
		}
	}
	for i := range so.Evidence {
		e := &so.Evidence[i]
		if id, ok := f.methodID(e.Method); ok && !e.Time.IsZero() {
			p.Records = append(p.Records, demand.Record{Method: id, Time: e.Time, Session: e.Session, Device: e.Device, App: e.App})
		}
	}
	f.noticeUnknownMethods(d)
}

// noticeUnknownMethods gives a notice of each method that is not known, and so counts for nothing.
func (f *frame) noticeUnknownMethods(d *signon.Decision) {
	for _, name := range f.unknownMethods[:min(len(f.unknownMethods), mostUnknown)] {
		d.Notices = append(d.Notices, fmt.Sprintf("The method %q is not known and counts for nothing.", name))
	}
	if more := len(f.unknownMethods) - mostUnknown; more > 0 {
		d.Notices = append(d.Notices, fmt.Sprintf("Nor are %d more, which count for nothing.", more))
	}
}

// recordOf finds the record of a device, which in a log is often that of the sign-on before.
func (f *frame) recordOf(id string) *posture.Record {
	switch outside := f.e.sources.Inventory; {
	case id == "":
		return nil
	case outside != nil:
		record, err := outside.Device(f.ctx, id)
		if err != nil {
			f.fail(fmt.Errorf("the device %q cannot be looked up: %w", id, err))
			return nil
		}
		return record
	case f.lastDevice != id:
		f.lastDevice, f.lastRecord = id, f.rb.Devices.Device(id)
	}
	return f.lastRecord
}

// methodID finds a method that was presented or recorded. One that the rulebook does not
// know is noted once.
func (f *frame) methodID(name string) (int, bool) {
	if m, ok := f.rb.Methods.Lookup(name); ok {
		return m.ID, true
	}
	if name == demand.ChangePassword {
		return demand.ChangedPassword, true
	}
	if name != "" && !f.noted[name] {
		if f.noted == nil {
			f.noted = make(map[string]bool, len(f.so.Presented)+len(f.so.Evidence))
		}
		f.noted[name] = true
		f.unknownMethods = append(f.unknownMethods, name)
	}
	return 0, false
}
