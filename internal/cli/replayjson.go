package cli

import (
	"maps"
	"slices"
	"time"

	"briskwarden.example/briskwarden/internal/replay"
	"briskwarden.example/briskwarden/internal/rulebook"
	"briskwarden.example/briskwarden/signon"
)

// The JSON of a replay.
type (
	jsonReplay struct {
		Rulebook  string           `json:"rulebook"`
		SignOns   int              `json:"sign_ons"`
		First     time.Time        `json:"first,omitzero"`
		Last      time.Time        `json:"last,omitzero"`
		Outcomes  map[string]int   `json:"outcomes"`
		Changes   []jsonChange     `json:"changes"`
		Apps      []jsonRow        `json:"apps"`
		Cases     []jsonCase       `json:"cases"`
		Grounds   []jsonRow        `json:"grounds"`
		Countries []jsonRow        `json:"countries"`
		Networks  []jsonRow        `json:"networks"`
		Forms     []jsonRow        `json:"forms"`
		Days      []jsonRow        `json:"days"`
		Hours     [7][24]jsonHour  `json:"hours"` // from Monday, 00:00
		Watched   []jsonWatched    `json:"watched"`
		People    []jsonPerson     `json:"people"`
		Consents  jsonConsents     `json:"consents"` // requests for consent, which count nowhere else but in watched
		BadLines  int              `json:"bad_lines"`
		Bad       []replay.BadLine `json:"first_bad_lines"`
	}
	jsonHour     map[string]int
	jsonConsents struct {
		Requests int            `json:"requests"`
		Outcomes map[string]int `json:"outcomes"`
		Changes  []jsonChange   `json:"changes"`
		Clients  []jsonRow      `json:"clients"`
		Cases    []jsonCase     `json:"cases"`
	}
	jsonChange struct {
		From  string `json:"from"`
		To    string `json:"to"`
		Count int    `json:"count"`
	}
	jsonRow struct {
		Name     string         `json:"name"` // empty is unknown, or none
		SignOns  int            `json:"sign_ons"`
		Outcomes map[string]int `json:"outcomes"`
	}
	jsonCase struct {
		Policy  string         `json:"policy"`
		Case    string         `json:"case"`
		Taken   map[string]int `json:"taken"`
		Unknown int            `json:"unknown"`
		Decided map[string]int `json:"decided"`
	}
	jsonWatched struct {
		Policy  string         `json:"policy"`
		Applied int            `json:"applied"`
		Block   map[string]int `json:"would_block"`   // by user
		StepUp  map[string]int `json:"would_step_up"` // by user
		Already int            `json:"already_stopped"`
		Unsure  int            `json:"unsure"` // how many of would_block rest on unknown facts alone
	}
	jsonPerson struct {
		User     string         `json:"user"`
		Outcomes map[string]int `json:"outcomes"`
		Stricter int            `json:"stricter"` // than the log recorded
		Looser   int            `json:"looser"`
	}
)

func outcomesJSON(o *replay.Outcomes) map[string]int {
	m := map[string]int{}
	for i, n := range o {
		if n > 0 {
			m[signon.Outcome(i).String()] = n
		}
	}
	return m
}

func rowsJSON(rows []replay.Row) []jsonRow {
	list := []jsonRow{}
	for _, r := range rows {
		list = append(list, jsonRow{r.Name, r.All(), outcomesJSON(&r.Outcomes)})
	}
	return list
}

func replayJSON(rb *rulebook.Rulebook, s *replay.Summary) jsonReplay {
	j := jsonReplay{Rulebook: rb.Digest, SignOns: s.Outcomes.All(), First: s.First, Last: s.Last, Outcomes: outcomesJSON(&s.Outcomes), Changes: changesJSON(&s.Recorded),
		Apps: rowsJSON(replay.Rows(s.Apps)), Cases: casesJSON(&s.Reasoning), Grounds: rowsJSON(replay.Rows(s.Grounds)), Countries: rowsJSON(replay.Rows(s.Countries)),
		Networks: rowsJSON(s.NetworkRows()), Forms: rowsJSON(replay.Rows(s.Forms)), Days: rowsJSON(s.DayRows()), Watched: []jsonWatched{},
		People: []jsonPerson{}, BadLines: s.BadLines, Bad: s.Bad}
	c := &s.Consents
	j.Consents = jsonConsents{c.Outcomes.All(), outcomesJSON(&c.Outcomes), changesJSON(&c.Recorded), rowsJSON(replay.Rows(c.Clients)), casesJSON(&c.Reasoning)}
	for d := range s.Hours {
		for h := range s.Hours[d] {
			j.Hours[d][h] = outcomesJSON(&s.Hours[d][h])
		}
	}
	for _, p := range rb.Policies {
		if w, ok := s.Watched[p]; ok {
			j.Watched = append(j.Watched, jsonWatched{p.Name, w.Applied, w.Block, w.StepUp, w.Already, w.Unsure})
		}
	}
	for _, u := range slices.Sorted(maps.Keys(s.People)) {
		p := s.People[u]
		j.People = append(j.People, jsonPerson{u, outcomesJSON(&p.Outcomes), p.Stricter, p.Looser})
	}
	return j
}

func changesJSON(table *replay.Table) []jsonChange {
	list := []jsonChange{}
	changes, _, _ := table.Changes()
	for _, c := range changes {
		list = append(list, jsonChange{c.From.String(), c.To.String(), c.Count})
	}
	return list
}

func casesJSON(r *replay.Reasoning) []jsonCase {
	list := []jsonCase{}
	for i := range r.Cases {
		if t := &r.Cases[i]; t.Heard() {
			list = append(list, jsonCase{t.Policy.Name, t.Case.Label, outcomesJSON(&t.Taken), t.Open, outcomesJSON(&t.Decided)})
		}
	}
	return list
}
