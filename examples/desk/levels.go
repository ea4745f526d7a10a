package desk

// How much what somebody proved is worth, by the assurance levels of NIST SP 800-63B.

import (
	"slices"
	"strconv"
	"strings"

	"briskwarden.example/briskwarden/examples/desk/vault"
)

// levelOf is the level that methods reach together: 0 is none.
func levelOf(methods []string) int {
	has := func(m string) bool { return slices.Contains(methods, m) }
	second := has(vault.AppCode) || has(vault.RecoveryCode) || has(vault.SecurityKey)
	switch {
	case has(vault.Passkey), has(vault.SecurityKey) && has(vault.Password):
		return 3
	case has(vault.SyncedPasskey), has(vault.Password) && second: // whoever has the account that keeps a synced key has the key
		return 2
	case has(vault.Password) || second:
		return 1
	}
	return 0
}

// askedLevel is the first level that a client prefers; 0 is that it asks for none that there is.
func askedLevel(values string) int {
	for _, v := range strings.Fields(values) {
		if n, err := strconv.Atoi(strings.TrimPrefix(v, "aal")); err == nil && strings.HasPrefix(v, "aal") && n >= 1 && n <= 3 {
			return n
		}
	}
	return 0
}

// counted is what counts towards a level: what was proved in the session, or in the flow alone where nothing from before counts.
func (f *flow) counted(b *browser) []string {
	if f.fresh || b.user != f.user {
		return f.proved
	}
	return append(slices.Clone(b.shown), f.proved...)
}

// toReach are the methods that the person has here with which a level is reached; none is nil.
func (d *Desk) toReach(f *flow, b *browser, level int) (sets [][]string) {
	for _, m := range verifiable {
		if !slices.Contains(f.proved, m) && d.Vault.Has(f.user, m) && levelOf(append(slices.Clone(f.counted(b)), m)) >= level {
			sets = append(sets, []string{m})
		}
	}
	return sets
}
