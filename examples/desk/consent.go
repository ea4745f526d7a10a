package desk

// What client applications ask people for.

import (
	"net/http"
	"slices"
	"strings"

	"briskwarden.example/briskwarden/signon"
)

// askedFor is what a client asks for, in sets, the weightiest first.
type askedFor struct {
	Title  string
	Lets   string
	weight int
	Scopes []string
}

// unlisted is what scopes weigh that no set names.
const unlisted = 100

func (d *Desk) inSets(scopes []string) (list []askedFor) {
	other := askedFor{Title: "Things that nobody has described", Lets: "Whatever these names stand for. Say no, unless you know.", weight: unlisted}
	for _, set := range d.Scopes {
		one := askedFor{Title: set.Title, Lets: set.Lets, weight: set.Weight}
		for _, scope := range scopes {
			if set.has(scope) {
				one.Scopes = append(one.Scopes, scope)
			}
		}
		if one.Scopes != nil {
			list = append(list, one)
		}
	}
	for _, scope := range scopes {
		if !slices.ContainsFunc(d.Scopes, func(s ScopeSet) bool { return s.has(scope) }) {
			other.Scopes = append(other.Scopes, scope)
		}
	}
	if other.Scopes != nil {
		list = append(list, other)
	}
	slices.SortStableFunc(list, func(a, b askedFor) int { return b.weight - a.weight })
	return list
}

func (s *ScopeSet) has(scope string) bool {
	return slices.ContainsFunc(s.Scopes, func(p string) bool {
		begin, any := strings.CutSuffix(p, "*")
		return p == scope || any && strings.HasPrefix(scope, begin)
	})
}

// consented asks the person, and then the service, whether a client gets what it asks for. It reports false where
// something was answered instead.
func (a *authorization) consented(w http.ResponseWriter, r *http.Request, f *flow, b *browser) bool {
	if !f.asked {
		a.show(w, http.StatusOK, "consent", page{Title: a.client.Name + " asks for something", Flow: f, To: a.client.Name, Publisher: a.client.Publisher, Verified: a.client.Verified,
			Asked: a.inSets(a.scopes)})
		return false
	}
	from, device := a.Circumstances(r)
	d, err := a.Decisions.Decide(r.Context(), signon.SignOn{User: f.user, App: a.client.App, Action: "consent", IP: from, Device: device, Client: "browser", Presented: f.proved,
		Session: signon.Session{ID: b.session, Started: b.signedOn},
		Consent: &signon.Consent{Client: a.client.ID, Name: a.client.Name, Publisher: a.client.Publisher, Verified: signon.IsYes(a.client.Verified), Scopes: a.scopes, For: "self"}}, "")
	switch {
	case err != nil:
		a.refuse(w, r, "temporarily_unavailable", "")
	case d.Outcome == signon.Grant:
		return true
	case d.Outcome == signon.Block && len(d.Next) == 0:
		f.drop()
		a.refuse(w, r, "access_denied", "")
	default:
		a.follow(w, r, f, b, d)
	}
	return false
}

// allow takes the person's answer to what a client asks for.
func (d *Desk) allow(w http.ResponseWriter, r *http.Request, f *flow, _ *browser) {
	a, is := f.to.(*authorization)
	switch {
	case !is:
	case r.PostFormValue("answer") == "allow":
		f.asked = true
	default:
		f.drop()
		a.refuse(w, r, "access_denied", "")
		return
	}
	again(w, r, f)
}
