package rulebook

// Actions and apps.

import "briskwarden.example/briskwarden/internal/appurl"

// BuiltInActions are the actions that every rulebook knows.
var BuiltInActions = []string{SignOn, EnrolMethod, "reset-password", Consent}

// The built-in actions that mean something of their own: the one of policies and sign-ons
// that name none, the one that says whether a user may enrol, the one that can be reviewed.
const (
	SignOn      = "sign-on"
	EnrolMethod = "enrol-method"
	Consent     = "consent"
)

func (r *resolver) apps() {
	r.rb.Actions = map[string]bool{}
	for _, a := range BuiltInActions {
		r.rb.Actions[a] = true
	}
	for _, d := range r.decls.actions.list {
		if r.rb.Actions[d.Name.Text] {
			r.fail(d.Name, "choose another name", "%q is a built-in action", d.Name.Text)
		}
		r.rb.Actions[d.Name.Text] = true
	}
	for _, d := range r.decls.apps.list {
		a := &App{Name: d.Name.Text, Decl: d}
		r.once(d.Tags)
		for _, t := range d.Tags {
			id, _ := r.tagID(t.Text)
			a.Tags = append(a.Tags, id)
		}
		r.rb.Apps[a.Name] = a
		r.address(a)
	}
}

// address notes where an app stands on the web.
func (r *resolver) address(a *App) {
	at := a.Decl.URL
	if !at.Given() {
		return
	}
	pattern, err := appurl.ParsePattern(at.Text)
	if err != nil {
		r.fail(at, "it reads https://roster.skerry.example/*", "%q cannot be an app's address: %v", at.Text, err)
		return
	}
	if other, taken := r.rb.Addresses.Add(pattern, a.Name); taken {
		r.fail(at, "give each its own", "the app %q has the same address", other)
	}
}
