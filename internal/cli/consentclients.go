package cli

// What client applications hold, on a screen.

import (
	"fmt"

	"github.com/spf13/cobra"

	"briskwarden.example/briskwarden/consent"
	"briskwarden.example/briskwarden/internal/screen"
	"briskwarden.example/briskwarden/internal/spell"
	"briskwarden.example/briskwarden/signon"
)

func holdsText(h *consent.Holding) string {
	switch {
	case len(h.Scopes) == 0:
		return "holds nothing"
	case h.IsBanned():
		return "would hold " + spell.Plural(len(h.Scopes), "scope")
	}
	return "holds " + spell.Plural(len(h.Scopes), "scope")
}

func holdersText(h *consent.Holding) string {
	var list []string
	if h.Everyone {
		list = append(list, "everyone")
	}
	for _, g := range h.Groups {
		list = append(list, "group "+g)
	}
	if h.People > 0 || len(list) == 0 {
		list = append(list, spell.Plural(h.People, "person"))
	}
	return spell.Few(list, 4)
}

func (x *consents) clientsCommand() *cobra.Command {
	return x.view("clients", "The inventory of client applications, the heaviest first", x.clients)
}

func (x *consents) clients() error {
	list, err := x.ledger.Clients(x.ctx)
	if err != nil {
		return err
	}
	if x.json {
		rows := []jsonHolding{}
		for _, h := range list {
			rows = append(rows, holdingJSON(h))
		}
		return x.writeJSON(rows)
	}
	if len(list) == 0 {
		x.out.Println("The ledger knows no client applications.")
		return nil
	}
	heavy, banned := 0, 0
	for _, h := range list {
		if h.Weight >= heavyWeight && !h.IsBanned() {
			heavy++
		}
		if h.IsBanned() {
			banned++
		}
	}
	x.out.Printf("%s: %d weigh %d or more, %d banned.\n\n", x.paint.Bold(spell.Plural(len(list), "client")), heavy, heavyWeight, banned)
	x.out.Println(x.paint.Faint(fmt.Sprintf("%6s  %s %s %s %7s %8s  %s", "weight", screen.Pad("client", 22), screen.Pad("publisher", 32), screen.Pad("held by", 18), "scopes", "waiting", "asked last")))
	seen := map[string]string{} // ids by their skeletons
	for _, h := range list {
		weight := screen.Styledf("%6d", h.Weight)
		switch {
		case h.IsBanned():
			weight = x.paint.Faint(weight)
		case h.Weight >= heavyWeight:
			weight = x.paint.Red(weight)
		}
		x.out.Printf("%s  %s %s %s %7s %8s  %s%s\n", weight, x.paint.Bold(screen.Pad(screen.Cut(h.ID, 22), 22)), screen.Pad(screen.Cut(shortPublisher(&h.Client), 32), 32),
			screen.Pad(screen.Cut(holdersText(h), 18), 18), number(len(h.Scopes)), number(h.Waiting), x.lastAsked(h), x.marks(h, seen))
	}
	return nil
}

// heavyWeight is from where on a client is called heavy.
const heavyWeight = 60

func shortPublisher(c *consent.Client) string {
	switch {
	case c.Publisher == "":
		return "unknown"
	case c.Verified == signon.Yes:
		return c.Publisher + " (verified)"
	}
	return c.Publisher
}

func (x *consents) lastAsked(h *consent.Holding) string {
	if h.Last.IsZero() {
		return "never"
	}
	return x.day(h.Last)
}

// marks tell that a client is banned, and that its id looks like that of one before it.
func (x *consents) marks(h *consent.Holding, seen map[string]string) (marks screen.Styled) {
	if h.IsBanned() {
		marks = ", " + x.paint.Red("banned")
	}
	bones := spell.Skeleton(h.ID)
	if other, there := seen[bones]; there {
		return marks + ", " + x.paint.Amber("looks like "+other)
	}
	seen[bones] = h.ID
	return marks
}
