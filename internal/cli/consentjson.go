package cli

// The JSON of brisk consent.

import (
	"time"

	"briskwarden.example/briskwarden/consent"
	"briskwarden.example/briskwarden/signon"
)

// The JSON of consents.
type (
	jsonAnswer struct {
		Outcome  signon.Outcome   `json:"outcome"`
		Consent  *consent.Consent `json:"consent,omitzero"`
		Held     []consent.ID     `json:"held"`  // consents given earlier that answer the request, or a part of it
		Asked    []string         `json:"asked"` // the scopes that the policies were asked about
		Again    bool             `json:"waits_already"`
		Banned   consent.Ban      `json:"banned,omitzero"`
		Decision *signon.Decision `json:"decision,omitzero"`
	}
	jsonWaiting struct {
		*consent.Consent `json:",embed"`
		Weight           int   `json:"weight"`
		Seconds          int64 `json:"waiting_seconds"`
	}
	jsonHolding struct {
		consent.Client `json:",embed"`
		Weight         int       `json:"weight"`
		Scopes         []string  `json:"scopes"`
		People         int       `json:"people"`
		Groups         []string  `json:"groups"`
		Everyone       bool      `json:"everyone"`
		Consents       int       `json:"consents"`
		Waiting        int       `json:"waiting"`
		Last           time.Time `json:"last_asked,omitzero"`
	}
	jsonStanding struct {
		*consent.Consent `json:",embed"`
		Standing         string `json:"standing"`
	}
	jsonFile struct {
		Consent   *jsonStanding    `json:"consent,omitzero"` // the one asked for
		Client    jsonHolding      `json:"client"`
		LookAlike []string         `json:"looks_like"`
		Consents  []jsonStanding   `json:"consents"`
		Journal   []*consent.Entry `json:"journal"`
	}
	jsonUngiven struct {
		Consent *consent.Consent `json:"consent"`
		Outcome signon.Outcome   `json:"outcome"` // of today
		Policy  string           `json:"policy"`
		Group   string           `json:"reviewers,omitzero"`
	}
)

func answerJSON(a *consent.Answer) jsonAnswer {
	j := jsonAnswer{Outcome: a.Outcome, Consent: a.Consent, Held: []consent.ID{}, Asked: append([]string{}, a.New...), Again: a.Again, Decision: a.Decision}
	if a.Decision == nil {
		j.Asked = []string{}
	}
	for _, c := range a.Held {
		j.Held = append(j.Held, c.ID)
	}
	if a.Client.IsBanned() {
		j.Banned = a.Client.Banned
	}
	return j
}

func holdingJSON(h *consent.Holding) jsonHolding {
	return jsonHolding{h.Client, h.Weight, append([]string{}, h.Scopes...), h.People, append([]string{}, h.Groups...), h.Everyone, h.Holds, h.Waiting, h.Last}
}

func fileJSON(f *consent.File, one *consent.Consent) jsonFile {
	j := jsonFile{Client: holdingJSON(f.Holding), LookAlike: []string{}, Consents: []jsonStanding{}, Journal: f.Entries}
	if one != nil {
		j.Consent = &jsonStanding{one, f.Standing[one.ID]}
	}
	for _, c := range f.LookAlike {
		j.LookAlike = append(j.LookAlike, c.ID)
	}
	for _, c := range f.Consents {
		j.Consents = append(j.Consents, jsonStanding{c, f.Standing[c.ID]})
	}
	return j
}

func auditJSON(checked int, found []consent.Finding) any {
	answer := struct {
		Checked  int           `json:"checked"`
		Findings []jsonUngiven `json:"findings"`
	}{checked, []jsonUngiven{}}
	for _, f := range found {
		answer.Findings = append(answer.Findings, jsonUngiven{f.Consent, f.Outcome, f.Policy, f.Group})
	}
	return answer
}
