// Package vault keeps the made-up credentials of the desk's people: passwords, app codes (TOTP, RFC 6238), recovery codes,
// passkeys and security keys. Whoever tries somebody unknown learns nothing from the answer, nor from its time.
package vault

import (
	"crypto/pbkdf2"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base32"
	"encoding/hex"
	"errors"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/go-webauthn/webauthn/webauthn"
	"github.com/pquerna/otp"
	"github.com/pquerna/otp/totp"
)

// The methods that the desk can verify, by the names that rulebooks have for them.
const (
	Password       = "password"
	AppCode        = "app-code"
	RecoveryCode   = "recovery-code"
	Passkey        = "passkey"
	SyncedPasskey  = "synced-passkey" // one that may be copied to other devices, through the account that keeps it
	SecurityKey    = "security-key"
	ChangePassword = "change-password" // what counts as proof that it was changed
	AnyKey         = ""                // whatever the method of a key
)

// Vault keeps credentials. It is safe for concurrent use.
type Vault struct {
	now    func() time.Time
	mu     sync.Mutex
	people map[string]*Person
	nobody *Person // whom those are compared with whom nobody knows
	tries  tries
}

// Person has the credentials of one person. It is a user of WebAuthn.
type Person struct {
	id       string
	handle   []byte
	salt     []byte
	digest   []byte               // of the password
	secret   string               // of app codes; empty where there are none
	since    map[string]time.Time // when app codes and recovery codes were set up, by method
	lastStep int64                // of the last code that was taken: none counts twice
	recovery map[string]bool
	keys     []key
}

// key is a passkey or a security key.
type key struct {
	method string
	since  time.Time
	webauthn.Credential
}

// New returns an empty vault.
func New(now func() time.Time) *Vault {
	v := &Vault{now: now, people: map[string]*Person{}}
	v.nobody = v.add("", random())
	delete(v.people, "")
	return v
}

func random() string {
	b := make([]byte, 20)
	_, _ = rand.Read(b) // never fails
	return base32.StdEncoding.WithPadding(base32.NoPadding).EncodeToString(b)
}

// Add adds a person with a password.
func (v *Vault) Add(id, password string) {
	v.mu.Lock()
	defer v.mu.Unlock()
	v.add(id, password)
}

func (v *Vault) add(id, password string) *Person {
	p := &Person{id: id, handle: []byte(random()), salt: []byte(random()), recovery: map[string]bool{}, since: map[string]time.Time{}}
	p.digest = p.derive(password)
	v.people[id] = p
	return p
}

// rounds is how often a password is hashed.
const rounds = 20_000

func (p *Person) derive(password string) []byte {
	digest, err := pbkdf2.Key(sha256.New, password, p.salt, rounds, 32)
	if err != nil {
		panic(err) // of sizes that are none
	}
	return digest
}

// find finds a person who may try once more, or somebody whom nothing fits. With the lock held, it is told what came of it.
func (v *Vault) find(t Try) (p *Person, came func(right bool) bool) {
	end, may := v.tries.begin(t, v.now())
	p = v.people[t.User]
	if p == nil || !may {
		return v.nobody, func(bool) bool { return false }
	}
	return p, func(right bool) bool { end(right); return right }
}

// CheckPassword reports whether a password is the person's.
func (v *Vault) CheckPassword(t Try, password string) bool {
	v.mu.Lock()
	p, came := v.find(t)
	salted := *p
	v.mu.Unlock()
	if len(password) > 1024 {
		password = ""
	}
	right := subtle.ConstantTimeCompare(salted.derive(password), salted.digest) == 1
	v.mu.Lock()
	defer v.mu.Unlock()
	return came(right)
}

// LeastPassword is how long a new password is, in characters.
const LeastPassword = 12

// SetPassword changes a password. The error says what is wrong with the new one.
func (v *Vault) SetPassword(id, password string) error {
	switch {
	case len([]rune(password)) < LeastPassword:
		return errors.New("too short")
	case len(password) > 1024 || strings.Contains(strings.ToLower(password), strings.ToLower(id)):
		return errors.New("too easily guessed")
	}
	v.mu.Lock()
	defer v.mu.Unlock()
	p := v.people[id]
	switch {
	case p == nil:
		return errors.New("of nobody")
	case subtle.ConstantTimeCompare(p.derive(password), p.digest) == 1: // which is asked of somebody who has proved the old one, and is no try
		return errors.New("the old one")
	}
	p.digest = p.derive(password)
	return nil
}

var codes = totp.ValidateOpts{Period: 30, Digits: otp.DigitsSix, Algorithm: otp.AlgorithmSHA1}

// CheckCode reports whether a code is the person's now. It counts once.
func (v *Vault) CheckCode(t Try, code string) bool {
	v.mu.Lock()
	defer v.mu.Unlock()
	p, came := v.find(t)
	step, ok := stepOf(p.secret, code, v.now())
	if !came(ok && step > p.lastStep) {
		return false
	}
	p.lastStep = step
	return true
}

// stepOf finds the time step of a code, the one before and the one after included, for clocks that differ.
func stepOf(secret, code string, now time.Time) (step int64, ok bool) {
	if secret == "" {
		return 0, false
	}
	for _, off := range []time.Duration{-30 * time.Second, 0, 30 * time.Second} {
		want, err := totp.GenerateCodeCustom(secret, now.Add(off), codes)
		if err == nil && subtle.ConstantTimeCompare([]byte(want), []byte(code)) == 1 {
			step, ok = now.Add(off).Unix()/30, true
		}
	}
	return step, ok
}

// NewSecret makes a secret for app codes, which counts once a code of it was given to [Vault.SetSecret].
func NewSecret() string { return random() }

// SetSecret gives a person a secret, if a code shows that the app has it.
func (v *Vault) SetSecret(id, secret, code string) bool {
	v.mu.Lock()
	defer v.mu.Unlock()
	p := v.people[id]
	step, ok := stepOf(secret, code, v.now())
	if p == nil || !ok {
		return false
	}
	p.secret, p.lastStep, p.since[AppCode] = secret, step, v.now()
	return true
}

// Give gives a person a secret for app codes, which some app has.
func (v *Vault) Give(id string) {
	v.mu.Lock()
	defer v.mu.Unlock()
	if p := v.people[id]; p != nil {
		p.secret = random()
	}
}

// Code is what the person's app shows now: it stands in for a phone.
func (v *Vault) Code(id string) (code string, ok bool) {
	v.mu.Lock()
	defer v.mu.Unlock()
	p := v.people[id]
	if p == nil || p.secret == "" {
		return "", false
	}
	code, err := totp.GenerateCodeCustom(p.secret, v.now(), codes)
	return code, err == nil
}

// NewRecoveryCodes gives a person new recovery codes in place of the old ones. They are shown once.
func (v *Vault) NewRecoveryCodes(id string) (list []string) {
	v.mu.Lock()
	defer v.mu.Unlock()
	p := v.people[id]
	if p == nil {
		return nil
	}
	clear(p.recovery)
	p.since[RecoveryCode] = v.now()
	for range 8 {
		code := strings.ToLower(random()[:12])
		p.recovery[hashed(code)] = true
		list = append(list, code)
	}
	return list
}

func hashed(code string) string {
	sum := sha256.Sum256([]byte(strings.ToLower(strings.TrimSpace(code))))
	return hex.EncodeToString(sum[:])
}

// CheckRecoveryCode reports whether a code is one of the person's. It counts once.
func (v *Vault) CheckRecoveryCode(t Try, code string) bool {
	v.mu.Lock()
	defer v.mu.Unlock()
	p, came := v.find(t)
	digest := hashed(code)
	if !came(p.recovery[digest]) {
		return false
	}
	delete(p.recovery, digest)
	return true
}

// AddKey adds a passkey or a security key. It reports false where somebody has one of the same id already.
func (v *Vault) AddKey(id, method string, c *webauthn.Credential) bool {
	v.mu.Lock()
	defer v.mu.Unlock()
	for _, p := range v.people {
		if slices.ContainsFunc(p.keys, func(k key) bool { return slices.Equal(k.ID, c.ID) }) {
			return false
		}
	}
	p := v.people[id]
	if p == nil {
		return false
	}
	p.keys = append(p.keys, key{method, v.now(), *c})
	return true
}

// Used notes that a key was used: its counter must not go back.
func (v *Vault) Used(id string, c *webauthn.Credential) (ok bool) {
	v.mu.Lock()
	defer v.mu.Unlock()
	p := v.people[id]
	if p == nil {
		return false
	}
	i := slices.IndexFunc(p.keys, func(k key) bool { return slices.Equal(k.ID, c.ID) })
	if i < 0 || c.Authenticator.CloneWarning {
		return false
	}
	p.keys[i].Credential = *c
	return true
}

// Has reports whether the person can give something by a method here.
func (v *Vault) Has(id, method string) bool {
	v.mu.Lock()
	defer v.mu.Unlock()
	p := v.people[id]
	switch {
	case p == nil:
		return false
	case method == Password:
		return true
	case method == AppCode:
		return p.secret != ""
	case method == RecoveryCode:
		return len(p.recovery) > 0
	}
	return slices.ContainsFunc(p.keys, func(k key) bool { return k.method == method })
}

// User is a person with the keys of one method, as WebAuthn asks for it; nil is nobody.
func (v *Vault) User(id, method string) webauthn.User {
	v.mu.Lock()
	defer v.mu.Unlock()
	p := v.people[id]
	if p == nil {
		return nil
	}
	u := &user{id: p.id, handle: p.handle}
	for _, k := range p.keys {
		if k.method == method || method == AnyKey {
			u.keys = append(u.keys, k.Credential)
		}
	}
	return u
}

// ByHandle is the person whose passkeys have a handle, with these.
func (v *Vault) ByHandle(handle []byte) (webauthn.User, error) {
	v.mu.Lock()
	defer v.mu.Unlock()
	for _, p := range v.people {
		if !slices.Equal(p.handle, handle) {
			continue
		}
		u := &user{id: p.id, handle: p.handle}
		for _, k := range p.keys {
			if k.method != SecurityKey {
				u.keys = append(u.keys, k.Credential)
			}
		}
		return u, nil
	}
	return nil, errors.New("nobody has it")
}

// MethodOf is the method of a person's key; empty where she has none such.
func (v *Vault) MethodOf(id string, key []byte) string {
	v.mu.Lock()
	defer v.mu.Unlock()
	if p := v.people[id]; p != nil {
		for _, k := range p.keys {
			if slices.Equal(k.ID, key) {
				return k.method
			}
		}
	}
	return ""
}

// Held is something that a person has set up.
type Held struct {
	ID     string
	Method string
	Since  time.Time // zero is not known
}

// Held lists what a person has set up.
func (v *Vault) Held(id string) (list []Held) {
	v.mu.Lock()
	defer v.mu.Unlock()
	p := v.people[id]
	if p == nil {
		return nil
	}
	for _, k := range p.keys {
		list = append(list, Held{k.named(), k.method, k.since})
	}
	if p.secret != "" {
		list = append(list, Held{AppCode, AppCode, p.since[AppCode]})
	}
	if len(p.recovery) > 0 {
		list = append(list, Held{RecoveryCode, RecoveryCode, p.since[RecoveryCode]})
	}
	return list
}

// named is how a key is named on pages.
func (k *key) named() string { return hashed(string(k.ID))[:16] }

// Remove removes something that a person has set up, by its id in [Vault.Held]. It reports the method, and whether that was the
// last of it.
func (v *Vault) Remove(id, what string) (method string, last bool) {
	v.mu.Lock()
	defer v.mu.Unlock()
	p := v.people[id]
	switch {
	case p == nil:
		return "", false
	case what == AppCode:
		p.secret = ""
		return AppCode, true
	case what == RecoveryCode:
		clear(p.recovery)
		return RecoveryCode, true
	}
	for i, k := range p.keys {
		if k.named() == what {
			p.keys = slices.Delete(p.keys, i, i+1)
			return k.method, !slices.ContainsFunc(p.keys, func(other key) bool { return other.method == k.method })
		}
	}
	return "", false
}

type user struct {
	id     string
	handle []byte
	keys   []webauthn.Credential
}

func (u *user) WebAuthnID() []byte                         { return u.handle }
func (u *user) WebAuthnName() string                       { return u.id }
func (u *user) WebAuthnDisplayName() string                { return u.id }
func (u *user) WebAuthnCredentials() []webauthn.Credential { return u.keys }
