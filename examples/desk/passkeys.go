package desk

// Passkeys and security keys (WebAuthn), and setting up a method.

import (
	"net/http"
	"slices"

	"github.com/go-webauthn/webauthn/protocol"
	"github.com/go-webauthn/webauthn/webauthn"

	"briskwarden.example/briskwarden/examples/desk/vault"
)

// verification says whether a key has to verify its user: a passkey does, a security key is something that one has.
func verification(method string) protocol.UserVerificationRequirement {
	if method == vault.SecurityKey {
		return protocol.VerificationDiscouraged
	}
	return protocol.VerificationRequired
}

// keyOptions begins to ask for a key. What was asked for before counts no more.
func (d *Desk) keyOptions(w http.ResponseWriter, r *http.Request, f *flow, _ *browser) {
	method := r.PathValue("method")
	user := d.Vault.User(f.user, method)
	if user == nil || !slices.Contains(f.chosen, method) {
		writeJSON(w, http.StatusConflict, map[string]string{"error": "nobody asks for it"})
		return
	}
	options, ceremony, err := d.webauthn.BeginLogin(user, webauthn.WithUserVerification(verification(method)))
	if err != nil {
		writeJSON(w, http.StatusConflict, map[string]string{"error": "there is no such key"})
		return
	}
	f.ceremony = ceremony
	writeJSON(w, http.StatusOK, options)
}

// keyGiven takes what a key has signed. Each challenge counts once.
func (d *Desk) keyGiven(w http.ResponseWriter, r *http.Request, f *flow, b *browser) {
	method := r.PathValue("method")
	ceremony := f.ceremony
	f.ceremony = nil
	user := d.Vault.User(f.user, method)
	if ceremony == nil || user == nil || !slices.Contains(f.chosen, method) {
		writeJSON(w, http.StatusConflict, map[string]string{"error": "nobody asks for it"})
		return
	}
	key, err := d.webauthn.FinishLogin(user, *ceremony, r)
	if err != nil || method != vault.SecurityKey && !key.Flags.UserVerified || !d.Vault.Used(f.user, key) {
		f.failed = "The key was not accepted."
		writeJSON(w, http.StatusForbidden, map[string]string{"error": "not accepted"})
		return
	}
	d.prove(f, b, method)
	writeJSON(w, http.StatusOK, map[string]string{"next": "/flow/" + f.id})
}

// passkeyOptions begins to ask for a passkey of whoever it is: nobody has to be named, and so nobody is shut out by guesses.
func (d *Desk) passkeyOptions(w http.ResponseWriter, _ *http.Request, f *flow, _ *browser) {
	options, ceremony, err := d.webauthn.BeginDiscoverableLogin(webauthn.WithUserVerification(protocol.VerificationRequired))
	if err != nil {
		writeJSON(w, http.StatusConflict, map[string]string{"error": "it cannot be asked for"})
		return
	}
	f.ceremony = ceremony
	writeJSON(w, http.StatusOK, options)
}

// passkeyGiven signs on whoever has the passkey, in a flow of her own.
func (d *Desk) passkeyGiven(w http.ResponseWriter, r *http.Request, f *flow, b *browser) {
	ceremony := f.ceremony
	f.ceremony = nil
	if ceremony == nil || f.user != "" {
		writeJSON(w, http.StatusConflict, map[string]string{"error": "nobody asks for it"})
		return
	}
	user, key, err := d.webauthn.FinishPasskeyLogin(func(_, handle []byte) (webauthn.User, error) { return d.Vault.ByHandle(handle) }, *ceremony, r)
	if err != nil || !key.Flags.UserVerified || !d.Vault.Used(user.WebAuthnName(), key) {
		f.failed = "The key was not accepted."
		writeJSON(w, http.StatusForbidden, map[string]string{"error": "not accepted"})
		return
	}
	f = d.known(w, r, f, b, d.try(r, user.WebAuthnName()), d.Vault.MethodOf(user.WebAuthnName(), key.ID))
	writeJSON(w, http.StatusOK, map[string]string{"next": "/flow/" + f.id})
}

func (d *Desk) tellEnrolled(r *http.Request, f *flow, method string) {
	if err := d.enrolled(r.Context(), f.user, method); err != nil {
		d.Log.Error("the service was not told of an enrolment", "method", method, "error", err)
		f.failed = "It is set up here, but the service that decides does not know of it yet."
	}
}

// showEnrolment shows how a method is set up.
func (d *Desk) showEnrolment(w http.ResponseWriter, f *flow) {
	if f.enrol == vault.AppCode && f.secret == "" {
		f.secret = vault.NewSecret()
	}
	d.show(w, http.StatusOK, "enrol", page{Title: "Set up: " + nameOf(f.enrol), Flow: f, Method: f.enrol, IsKey: isKey(f.enrol), Secret: f.secret, Failed: f.fault()})
}

// newKeyOptions begins to make a key.
func (d *Desk) newKeyOptions(w http.ResponseWriter, r *http.Request, f *flow, _ *browser) {
	user, all := d.Vault.User(f.user, f.enrol), d.Vault.User(f.user, vault.AnyKey) // one authenticator is one method
	if user == nil || !isKey(f.enrol) {
		writeJSON(w, http.StatusConflict, map[string]string{"error": "nobody asks for it"})
		return
	}
	selection := protocol.AuthenticatorSelection{UserVerification: verification(f.enrol), ResidentKey: protocol.ResidentKeyRequirementDiscouraged}
	if f.enrol == vault.Passkey {
		selection.ResidentKey = protocol.ResidentKeyRequirementRequired
	}
	options, ceremony, err := d.webauthn.BeginRegistration(user, webauthn.WithAuthenticatorSelection(selection),
		webauthn.WithExclusions(webauthn.Credentials(all.WebAuthnCredentials()).CredentialDescriptors()))
	if err != nil {
		writeJSON(w, http.StatusConflict, map[string]string{"error": "it cannot be made"})
		return
	}
	f.ceremony = ceremony
	writeJSON(w, http.StatusOK, options)
}

// newKey takes a key that was made.
func (d *Desk) newKey(w http.ResponseWriter, r *http.Request, f *flow, _ *browser) {
	ceremony := f.ceremony
	f.ceremony = nil
	user := d.Vault.User(f.user, f.enrol)
	if ceremony == nil || user == nil {
		writeJSON(w, http.StatusConflict, map[string]string{"error": "nobody asks for it"})
		return
	}
	key, err := d.webauthn.FinishRegistration(user, *ceremony, r)
	method := f.enrol
	if err == nil && method == vault.Passkey && key.Flags.BackupEligible {
		method = vault.SyncedPasskey
	}
	if err != nil || f.enrol == vault.Passkey && !key.Flags.UserVerified || !d.Vault.AddKey(f.user, method, key) {
		f.failed = "The key was not accepted."
		writeJSON(w, http.StatusForbidden, map[string]string{"error": "not accepted"})
		return
	}
	d.tellEnrolled(r, f, method)
	f.done()
	if method == vault.SyncedPasskey {
		f.failed = "Your passkey is kept in an account and copied to other devices. It counts as a synced passkey, which is not enough where one that stays on its device is asked for."
	}
	writeJSON(w, http.StatusOK, map[string]string{"next": "/flow/" + f.id})
}

// newCode takes the first code of an app.
func (d *Desk) newCode(w http.ResponseWriter, r *http.Request, f *flow, _ *browser) {
	switch {
	case f.enrol != vault.AppCode || f.secret == "":
	case !d.Vault.SetSecret(f.user, f.secret, r.PostFormValue("value")):
		f.failed = "That is not the code that belongs to this key."
	default:
		d.tellEnrolled(r, f, vault.AppCode)
		f.done()
	}
	again(w, r, f)
}
