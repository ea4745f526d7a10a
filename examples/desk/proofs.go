package desk

// Which proofs a person can choose from, and takes.

import (
	"net/http"
	"slices"
	"strings"

	"briskwarden.example/briskwarden/examples/desk/vault"
	"briskwarden.example/briskwarden/signon"
)

// choice is a set of methods that somebody can choose.
type choice struct {
	Methods []string
	Name    string // "Passkey and app code"
	Value   string
}

// choices are the sets whose methods the desk can do, in the order of preference; all where it is nil.
func choices(sets [][]string, can []string) (list []choice) {
	for _, set := range sets {
		if can != nil && slices.ContainsFunc(set, func(m string) bool { return !slices.Contains(can, m) }) {
			continue
		}
		var names []string
		for _, m := range set {
			names = append(names, nameOf(m))
		}
		list = append(list, choice{set, strings.Join(names, " and "), strings.Join(set, "+")})
	}
	return list
}

// nameOf is what people call a method.
func nameOf(method string) string {
	if name, ok := map[string]string{vault.Password: "Password", vault.AppCode: "Code of your app", vault.RecoveryCode: "Recovery code", vault.Passkey: "Passkey",
		vault.SyncedPasskey: "Synced passkey", vault.SecurityKey: "Security key"}[method]; ok {
		return name
	}
	return method
}

// verify has the person prove something: of what she has here, what she chose, or the only one that there is.
func (d *Desk) verify(w http.ResponseWriter, f *flow, sets [][]string, message string) {
	list := slices.DeleteFunc(choices(sets, verifiable), func(c choice) bool {
		return slices.ContainsFunc(c.Methods, func(m string) bool { return !d.Vault.Has(f.user, m) })
	})
	if !slices.ContainsFunc(list, func(c choice) bool { return slices.Equal(c.Methods, f.chosen) }) {
		f.chosen = nil
	}
	switch {
	case len(list) == 0:
		d.show(w, http.StatusForbidden, "stopped", page{Title: "You cannot prove that here", Flow: f, To: f.to.name(), Choices: choices(sets, nil), Contact: d.Contact})
		return
	case len(list) == 1:
		f.chosen = list[0].Methods
	case f.chosen == nil:
		d.show(w, http.StatusOK, "choose", page{Title: "One more proof is needed", Text: message, Flow: f, Choices: list, Failed: f.fault()})
		return
	}
	for _, m := range f.chosen {
		if !slices.Contains(f.proved, m) {
			d.show(w, http.StatusOK, "prove", page{Title: nameOf(m), Flow: f, To: f.to.name(), Method: m, IsKey: isKey(m), More: len(list) > 1, Failed: f.fault()})
			return
		}
	}
	f.chosen = nil // it was not enough
	d.show(w, http.StatusOK, "choose", page{Title: "One more proof is needed", Text: message, Flow: f, Choices: list})
}

func isKey(method string) bool {
	return method == vault.Passkey || method == vault.SyncedPasskey || method == vault.SecurityKey
}

// prove notes that something was proved.
func (d *Desk) prove(f *flow, b *browser, method string) {
	if !slices.Contains(f.proved, method) {
		f.proved = append(f.proved, method)
	}
	f.at = d.Now()
	b.proved = f.at
	if b.user == f.user && !slices.Contains(b.shown, method) {
		b.shown = append(b.shown, method)
	}
}

// choose takes the methods that somebody chose.
func (d *Desk) choose(w http.ResponseWriter, r *http.Request, f *flow, _ *browser) {
	f.chosen = nil
	if chosen := r.PostFormValue("methods"); chosen != "" {
		f.chosen = strings.Split(chosen, "+")
	}
	again(w, r, f)
}

// give takes a password or a code. Only somebody who has said who she is gives one.
func (d *Desk) give(w http.ResponseWriter, r *http.Request, f *flow, b *browser) {
	method, given := r.PathValue("method"), r.PostFormValue("value")
	ok := false
	switch {
	case f.user == "" || !slices.Contains(f.chosen, method):
	case method == vault.Password:
		ok = d.Vault.CheckPassword(d.try(r, f.user), given)
	case method == vault.AppCode:
		ok = d.Vault.CheckCode(d.try(r, f.user), strings.ReplaceAll(given, " ", ""))
	case method == vault.RecoveryCode:
		ok = d.Vault.CheckRecoveryCode(d.try(r, f.user), given)
	}
	if ok {
		d.prove(f, b, method)
	} else {
		f.failed = "That is not right, is too old, or was tried too often: then wait a minute."
	}
	again(w, r, f)
}

// change takes a new password.
func (d *Desk) change(w http.ResponseWriter, r *http.Request, f *flow, b *browser) {
	if f.user == "" {
		again(w, r, f)
		return
	}
	decision, err := d.decide(r, f, b, plainSignOn)
	if err != nil || len(decision.Next) == 0 || decision.Next[0].Do != signon.ChangePassword {
		again(w, r, f) // it is not the time for it
		return
	}
	one, two := r.PostFormValue("new"), r.PostFormValue("again")
	if one != two {
		f.failed = "The two are not the same."
	} else if err := d.Vault.SetPassword(f.user, one); err != nil {
		f.failed = "That password is " + err.Error() + ". Twelve characters at least, and not your name."
	} else {
		d.prove(f, b, vault.ChangePassword)
		if b.user == f.user {
			d.endWhere(b, func(*browser) bool { return true })
		}
	}
	again(w, r, f)
}
