package consent

// Clients and past consents from files.

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"

	"briskwarden.example/briskwarden/internal/lines"
	"briskwarden.example/briskwarden/internal/schedule"
	"briskwarden.example/briskwarden/internal/spell"
	"briskwarden.example/briskwarden/signon"
)

// registration is client metadata in the JSON of RFC 7591, with the id of section 3.2.1 and
// two members of our own.
type registration struct {
	ID        string       `json:"client_id"`
	Name      string       `json:"client_name"`
	Publisher string       `json:"publisher"`
	Verified  signon.YesNo `json:"publisher_verified"`
	Metadata  `json:",embed"`
}

// ReadClients reads client metadata (RFC 7591): one object, an array of them, or JSON Lines.
// The error says on which line something is wrong.
func ReadClients(in io.Reader) (list []*Client, err error) {
	data, err := io.ReadAll(io.LimitReader(in, lines.Longest+1))
	switch {
	case err != nil:
		return nil, err
	case len(data) > lines.Longest:
		return nil, lines.At(1, fmt.Errorf("is longer than %d MiB", lines.Longest>>20))
	}
	if data, err = lines.Unmarked(data); err != nil {
		return nil, lines.At(1, err)
	}
	d := jsontext.NewDecoder(bytes.NewReader(data))
	if d.PeekKind() == '[' {
		if _, err := d.ReadToken(); err != nil {
			return nil, lines.At(1, err)
		}
	}
	at := func(offset int64, err error) error { // what stands from there on
		rest := bytes.TrimLeft(data[offset:], ", \t\r\n")
		return lines.At(1+bytes.Count(data[:len(data)-len(rest)], []byte("\n")), err)
	}
	for {
		kind, begin := d.PeekKind(), d.InputOffset()
		if kind == 0 || kind == ']' {
			if _, err := d.ReadToken(); err != nil && !errors.Is(err, io.EOF) {
				_, plain := lines.JSON(err)
				return nil, at(begin, plain)
			}
			if end := d.InputOffset(); len(bytes.TrimLeft(data[end:], " \t\r\n")) > 0 {
				return nil, at(end, errors.New("something stands behind the end of the list"))
			}
			return list, nil
		}
		var r registration
		if err := json.UnmarshalDecode(d, &r); err != nil {
			_, plain := lines.JSON(err)
			return nil, at(begin, plain)
		}
		if strings.TrimSpace(r.ID) == "" {
			return nil, at(begin, errors.New("client_id is missing: the ledger knows clients by it"))
		}
		list = append(list, &Client{ID: r.ID, Name: r.Name, Publisher: r.Publisher, Verified: r.Verified, Metadata: r.Metadata})
	}
}

// columns of a file of past consents; those of the first line must be there.
var columns = []string{"user", "client", "app", "scopes",
	"for", "group", "given", "by", "until", "because"}

// ReadPast reads consents that were given earlier and elsewhere, from a comma-separated file
// (RFC 4180) with the columns user, client, app and scopes (with spaces between, as in RFC
// 6749), and perhaps for, group, given, by, until and because. Apps are those of known.
func ReadPast(in io.Reader, zone *time.Location, apps []string) (list []*Consent, err error) {
	err = lines.EachRow(in, lines.Header{Needs: "user", Known: columns, Free: func(string) bool { return false }}, func(t *lines.Table) error {
		cells := map[string]string{}
		for i, column := range t.Columns {
			if !slices.Contains(columns, column) {
				return lines.At(1, fmt.Errorf("there is no column %q%s", column, hint(column, columns)))
			}
			cells[column] = t.Cell(i)
			if column != "because" && column != "scopes" {
				if _, err := t.Name(i); err != nil {
					return err
				}
			}
		}
		c, err := past(cells, zone, apps)
		if err == nil {
			list = append(list, c)
		}
		return err
	})
	return list, err
}

func hint(name string, known []string) string {
	if text := spell.Hint(name, known); text != "" {
		return ": " + text
	}
	return "; known here: " + strings.Join(known, ", ")
}

// past reads a row of past consents.
func past(cells map[string]string, zone *time.Location, apps []string) (c *Consent, err error) {
	for _, name := range columns[:4] {
		if cells[name] == "" {
			return nil, fmt.Errorf("%s is missing", name)
		}
	}
	c = &Consent{State: Granted, User: cells["user"], Client: cells["client"], App: cells["app"], For: signon.ConsentFor(cells["for"]),
		Group: cells["group"], By: cells["by"], Because: cells["because"]}
	if !slices.Contains(apps, c.App) {
		return nil, fmt.Errorf("there is no app %q%s", c.App, hint(c.App, apps))
	}
	c.Scopes = without(strings.Fields(cells["scopes"]), nil)
	if err := checkScopes("scopes", c.Scopes); err != nil {
		return nil, err
	}
	if i := slices.IndexFunc(c.Scopes, func(s string) bool { return !signon.IsScope(s) }); i >= 0 {
		return nil, fmt.Errorf("scopes: %q is no scope (RFC 6749)", c.Scopes[i])
	}
	c.Granted = c.Scopes
	switch {
	case c.For == "" && c.Group == "":
		c.For = signon.ForSelf
	case c.For == "":
		c.For = signon.ForGroup
	case c.For != signon.ForSelf && c.For != signon.ForGroup && c.For != signon.ForEveryone:
		return nil, fmt.Errorf("for: %q is none of self, group and everyone", c.For)
	}
	if (c.For == signon.ForGroup) != (c.Group != "") {
		return nil, errors.New("group is named for what is for a group, and for nothing else")
	}
	if c.Asked, err = instant(cells["given"], zone); err != nil {
		return nil, fmt.Errorf("given: %w", err)
	}
	if c.Until, err = instant(cells["until"], zone); err != nil {
		return nil, fmt.Errorf("until: %w", err)
	}
	return c, nil
}

// instant reads a date, an instant, or nothing.
func instant(text string, zone *time.Location) (time.Time, error) {
	if text == "" {
		return time.Time{}, nil
	}
	t, _, err := schedule.ParseDayOrInstant(text, zone)
	return t.UTC(), err
}

// Imported counts what an import brought.
type Imported struct {
	Clients  int `json:"clients"`
	Consents int `json:"consents"`
	Same     int `json:"same"` // that the ledger had already, as they are
}

// importAll takes clients and past consents in, all or none.
func (o *operation) importAll(clients []*Client, consents []*Consent, from string) (n Imported, err error) {
	err = o.store.Update(o.ctx, func(tx Tx) error {
		n = Imported{}
		for _, c := range clients {
			if err := o.importClient(tx, c, from, &n); err != nil {
				return err
			}
		}
		for _, c := range consents {
			if err := o.importConsent(tx, c, from, &n); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		return Imported{}, err
	}
	return n, nil
}

func (o *operation) importClient(tx Tx, c *Client, from string, n *Imported) error {
	before, err := tx.Client(c.ID)
	if err != nil {
		return err
	}
	after := *c
	if before != nil {
		after.Banned = before.Banned
	}
	if same(before, &after) {
		n.Same++
		return nil
	}
	n.Clients++
	return write(tx, &Entry{Time: o.now(), Who: "import", What: "register", Client: c.ID, Why: from,
		Before: Things{Client: before}, After: Things{Client: &after}})
}

func (o *operation) importConsent(tx Tx, c *Consent, from string, n *Imported) error {
	after := *c
	if after.Asked.IsZero() {
		after.Asked = o.now()
	}
	after.Settled = after.Asked
	for old, err := range tx.Consents(Selection{State: Granted, Client: c.Client, App: c.App, User: c.User}) {
		if err != nil {
			return err
		}
		if old.User == c.User && old.For == c.For && old.Group == c.Group && old.Until.Equal(c.Until) && len(without(c.Granted, old.Granted)) == 0 {
			n.Same++
			return nil
		}
	}
	n.Consents++
	return write(tx, &Entry{Time: o.now(), Who: "import", What: "grant", Client: c.Client, Why: from, After: Things{Consent: &after}})
}
