package replay

// The JSON of what logs are put through.

import (
	"maps"
	"slices"
	"time"

	"github.com/go-json-experiment/json/jsontext"

	"github.com/go-json-experiment/json"

	"briskwarden.example/briskwarden/signon"
)

// The JSON of a
type (
	jsonReplay struct {
		Rulebook  string          `json:"rulebook"`
		SignOns   int             `json:"sign_ons"`
		First     time.Time       `json:"first,omitzero"`
		Last      time.Time       `json:"last,omitzero"`
		Outcomes  map[string]int  `json:"outcomes"`
		Changes   []jsonChange    `json:"changes"`
		Apps      []jsonRow       `json:"apps"`
		Cases     []jsonCase      `json:"cases"`
		Grounds   []jsonRow       `json:"grounds"`
		Countries []jsonRow       `json:"countries"`
		Networks  []jsonRow       `json:"networks"`
		Forms     []jsonRow       `json:"forms"`
		Days      []jsonRow       `json:"days"`
		Hours     [7][24]jsonHour `json:"hours"` // from Monday, 00:00
		Watched   []jsonWatched   `json:"watched"`
		People    []jsonPerson    `json:"people"`
		Consents  jsonConsents    `json:"consents"` // requests for consent, which count nowhere else but in watched
		BadLines  int             `json:"bad_lines"`
		Bad       []BadLine       `json:"first_bad_lines"`
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

func outcomesJSON(o *Outcomes) map[string]int {
	m := map[string]int{}
	for i, n := range o {
		if n > 0 {
			m[signon.Outcome(i).String()] = n
		}
	}
	return m
}

func rowsJSON(rows []Row) []jsonRow {
	list := []jsonRow{}
	for _, r := range rows {
		list = append(list, jsonRow{r.Name, r.All(), outcomesJSON(&r.Outcomes)})
	}
	return list
}

// MarshalJSON gives the JSON of "brisk replay --json".
func (s *Summary) MarshalJSON() ([]byte, error) {
	j := jsonReplay{Rulebook: s.rb.Digest, SignOns: s.Outcomes.All(), First: s.First, Last: s.Last, Outcomes: outcomesJSON(&s.Outcomes), Changes: changesJSON(&s.Recorded),
		Apps: rowsJSON(Rows(s.Apps)), Cases: casesJSON(&s.Reasoning), Grounds: rowsJSON(Rows(s.Grounds)), Countries: rowsJSON(Rows(s.Countries)),
		Networks: rowsJSON(s.NetworkRows()), Forms: rowsJSON(Rows(s.Forms)), Days: rowsJSON(s.DayRows()), Watched: []jsonWatched{},
		People: peopleJSON(s.People), BadLines: s.BadLines, Bad: s.Bad}
	c := &s.Consents
	j.Consents = jsonConsents{c.Outcomes.All(), outcomesJSON(&c.Outcomes), changesJSON(&c.Recorded), rowsJSON(Rows(c.Clients)), casesJSON(&c.Reasoning)}
	for d := range s.Hours {
		for h := range s.Hours[d] {
			j.Hours[d][h] = outcomesJSON(&s.Hours[d][h])
		}
	}
	for _, w := range s.Watched {
		j.Watched = append(j.Watched, jsonWatched{w.Policy, w.Applied, w.Block, w.StepUp, w.Already, w.Unsure})
	}
	return marshal(j)
}

// marshal writes JSON with its maps sorted, whatever bytes a log has.
func marshal(v any) ([]byte, error) {
	return json.Marshal(v, json.Deterministic(true), jsontext.AllowInvalidUTF8(true))
}

func peopleJSON(people map[string]*PersonTally) []jsonPerson {
	list := []jsonPerson{}
	for _, u := range slices.Sorted(maps.Keys(people)) {
		p := people[u]
		list = append(list, jsonPerson{u, outcomesJSON(&p.Outcomes), p.Stricter, p.Looser})
	}
	return list
}

func changesJSON(table *Table) []jsonChange {
	list := []jsonChange{}
	changes, _, _ := table.Changes()
	for _, c := range changes {
		list = append(list, jsonChange{c.From.String(), c.To.String(), c.Count})
	}
	return list
}

func casesJSON(r *Reasoning) []jsonCase {
	list := []jsonCase{}
	for i := range r.Cases {
		if t := &r.Cases[i]; t.Occurred() {
			list = append(list, jsonCase{t.Policy, t.Label, outcomesJSON(&t.Taken), t.Open, outcomesJSON(&t.Decided)})
		}
	}
	return list
}

type jsonGroup struct {
	From     signon.Outcome `json:"from"`
	To       signon.Outcome `json:"to"`
	Because  []string       `json:"because"`
	Count    int            `json:"count"`
	People   map[string]int `json:"people"`
	Examples []Example      `json:"examples"`
}

// jsonDifference is what changes of sign-ons, or of requests for consent.
type jsonDifference struct {
	Compared int          `json:"compared"`
	Changed  int          `json:"changed"`
	Changes  []jsonChange `json:"outcomes"` // from outcome to outcome, those that stay included
	Groups   []jsonGroup  `json:"groups"`
	People   []jsonPerson `json:"people"`
}

func differenceJSON(d *Difference) jsonDifference {
	_, _, changed := d.From.Changes()
	j := jsonDifference{Compared: d.Compared, Changed: changed, Changes: []jsonChange{}, Groups: []jsonGroup{}, People: peopleJSON(d.People)}
	for from := range d.From {
		for to, n := range d.From[from] {
			if n > 0 {
				j.Changes = append(j.Changes, jsonChange{signon.Outcome(from).String(), signon.Outcome(to).String(), n})
			}
		}
	}
	for _, g := range d.Groups {
		j.Groups = append(j.Groups, jsonGroup{g.From, g.To, g.Because, g.Count, g.People, g.Examples})
	}
	return j
}

// MarshalJSON gives the JSON of "brisk compare --log --json".
func (c *Comparison) MarshalJSON() ([]byte, error) {
	return marshal(struct {
		jsonDifference
		Consents jsonDifference `json:"consents"` // requests for consent, which count nowhere else
		BadLines int            `json:"bad_lines"`
		Bad      []BadLine      `json:"first_bad_lines"`
	}{differenceJSON(&c.Difference), differenceJSON(&c.Consents), c.BadLines, c.Bad})
}

type jsonRisky struct {
	ID      string       `json:"id,omitzero"`
	User    string       `json:"user"`
	App     string       `json:"app"`
	Time    time.Time    `json:"time"`
	Outcome string       `json:"outcome,omitzero"` // as recorded
	At      string       `json:"at"`
	Band    string       `json:"band"`
	Risk    *signon.Risk `json:"risk"`
}

// MarshalJSON gives the JSON of "brisk risk --json".
func (r *Risk) MarshalJSON() ([]byte, error) {
	accounts, all := r.Accounts()
	answer := struct {
		Scored   int            `json:"scored"`
		Unscored int            `json:"unscored"`
		Risky    int            `json:"risky"`
		Open     int            `json:"open"`
		Bands    map[string]int `json:"bands"`
		SignOns  []jsonRisky    `json:"sign_ons"`
		AllUsers int            `json:"risky_accounts"`
		Accounts []*Account     `json:"accounts"`
		Bad      []BadLine      `json:"bad_lines"`
	}{r.Scored, r.Unscored, r.Risky, r.Open, r.ByBand, []jsonRisky{}, all, accounts, r.Bad}
	zone := r.engine.Rulebook().Zone
	for _, x := range r.SignOns() {
		so := &x.Line.SignOn
		j := jsonRisky{so.ID, so.User, so.App, so.Time.In(zone), "", x.Line.Place(), x.Band, x.Risk}
		if x.Line.Recorded {
			j.Outcome = x.Line.Outcome.String()
		}
		answer.SignOns = append(answer.SignOns, j)
	}
	return marshal(answer)
}
