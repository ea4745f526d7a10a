package rulebook

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
	}
}
