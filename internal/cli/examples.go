package cli

// The examples that every --help ends with.

import (
	"strings"

	"github.com/spf13/cobra"
)

// examples are calls of every command that work in the demo's folder, one after the other.
var examples = []struct {
	command string
	calls   []string
}{
	{"brisk", []string{"brisk demo", "brisk check"}},
	{"brisk init", []string{"brisk init ../payroll-rules", "brisk init ../crew-rules"}},
	{"brisk demo", []string{"brisk demo --steps", "brisk demo --step 4-6"}},
	{"brisk check", []string{"brisk check", "brisk check --json --at 2027-01-11T08:00"}},
	{"brisk fmt", []string{"brisk fmt --diff", "brisk fmt policies/crews.warden"}},
	{"brisk decide", []string{
		"brisk decide user mira.holt app crew-roster ip 198.51.100.23 presenting password",
		"brisk decide user ylva.fjell app payroll country NO at 2026-11-23T12:00 device fin-lap-01 presenting password, passkey",
	}},
	{"brisk expect", []string{"brisk expect --junit expectations.xml", "brisk expect --from signons/2026-w47.jsonl.gz"}},
	{"brisk prove", []string{"brisk prove", "brisk prove --as-enforced --until 2027-12-31 --junit promises.xml"}},
	{"brisk survey", []string{"brisk survey", "brisk survey --log signons/2026-w47.jsonl.gz --report survey.html"}},
	{"brisk replay", []string{
		"brisk replay signons/2026-w47.jsonl.gz --report replay.html",
		"brisk replay signons/2026-w46.jsonl.gz signons/2026-w47.jsonl.gz --user mira.holt --outcome block",
	}},
	{"brisk compare", []string{
		"brisk compare . .",
		"brisk compare . . --log signons/2026-w46.jsonl.gz --log signons/2026-w47.jsonl.gz --out changes.jsonl",
	}},
	{"brisk review", []string{"brisk review .", "brisk review . --log signons/2026-w47.jsonl.gz --markdown review.md"}},
	{"brisk ready", []string{"brisk ready --at 2026-11-23T08:00 --by 2027-02-01", "brisk ready --at 2026-11-23T08:00 --by 2027-02-01 --csv"}},
	{"brisk reach", []string{"brisk reach user mira.holt --columns norvik,ferries,relays", "brisk reach --all country NO --charts charts"}},
	{"brisk risk", []string{"brisk risk signons/2026-w47.jsonl.gz --above 50", "brisk risk signons/2026-w47.jsonl.gz --top 5 --json"}},
	{"brisk serve", []string{"brisk serve --open", "brisk serve --open --listen 127.0.0.1:7585 --operations 127.0.0.1:7586 --signons ../signons"}},
	{"brisk merge", []string{"brisk merge 1.json 2.json", "brisk merge 2.json 1.json --json"}},
	{"brisk alerts", []string{"brisk alerts signons/2026-w47.jsonl.gz", "brisk alerts signons/2026-w46.jsonl.gz signons/2026-w47.jsonl.gz --out messages.jsonl"}},
	{"brisk digest", []string{"brisk digest signons/2026-w46.jsonl.gz signons/2026-w47.jsonl.gz --to 2026-11-22", "brisk digest signons/2026-w46.jsonl.gz signons/2026-w47.jsonl.gz --to 2026-11-22 --html digest.html"}},
	{"brisk about", []string{"brisk about user mira.holt --log signons/2026-w47.jsonl.gz", "brisk about network relays --log signons/2026-w47.jsonl.gz"}},
	{"brisk token", []string{"brisk token", "brisk token --json"}},
	{"brisk risk raise", []string{
		`brisk risk raise leif.dale --by embla.haug --because "His phone was stolen" --state brisk.state`,
		`brisk risk raise odd.kvale --by embla.haug --because "Seen in a list of leaked passwords" --state brisk.state --json`,
	}},
	{"brisk risk settle", []string{
		`brisk risk settle leif.dale --by embla.haug --because "The phone was found" --state brisk.state`,
		`brisk risk settle odd.kvale --by embla.haug --because "Another Odd" --state brisk.state`,
	}},
	{"brisk alerts failed", []string{"brisk alerts failed --state brisk.state", "brisk alerts failed --state brisk.state --json"}},
	{"brisk risk journal", []string{"brisk risk journal --state brisk.state", "brisk risk journal --state brisk.state --json"}},
	{"brisk consent", []string{"brisk consent waiting", "brisk consent clients"}},
	{"brisk consent import", []string{"brisk consent import consents/clients.json", "brisk consent import consents/past.csv"}},
	{"brisk consent ask", []string{
		"brisk consent ask user mira.holt app crew-roster client tidy-notes scopes openid, roster.read, mail.read presenting password",
		"brisk consent ask user mira.holt app crew-roster client watch-swap scopes openid, files.all presenting password",
	}},
	{"brisk consent waiting", []string{"brisk consent waiting", "brisk consent waiting --json"}},
	{"brisk consent settle", []string{
		`brisk consent settle c-7 grant --only "openid, roster.read" --by embla.haug --because "Notes need the roster alone"`,
		`brisk consent settle c-8 refuse --by embla.haug --because "Swaps need no files"`,
	}},
	{"brisk consent show", []string{"brisk consent show quick-figures", "brisk consent show c-7"}},
	{"brisk consent withdraw", []string{
		`brisk consent withdraw c-7 --by mira.holt --because "No longer used"`,
		`brisk consent withdraw c-1 --by embla.haug --because "Nobody knows it"`,
	}},
	{"brisk consent ban", []string{
		`brisk consent ban quick-figures --by embla.haug --because "Sells what it reads"`,
		`brisk consent ban tidy-notes --by embla.haug --because "Asks for far too much"`,
	}},
	{"brisk consent unban", []string{
		`brisk consent unban tidy-notes --by embla.haug --because "They have explained it"`,
		`brisk consent unban quick-figures --by embla.haug --because "The wrong client"`,
	}},
	{"brisk consent clients", []string{"brisk consent clients", "brisk consent clients --json"}},
	{"brisk consent audit", []string{"brisk consent audit", "brisk consent audit --at 2027-01-11T08:00"}},
	{"brisk consent journal", []string{"brisk consent journal", "brisk consent journal --verify"}},
}

// exemplify gives the commands their examples.
func exemplify(root *cobra.Command) {
	for _, x := range examples {
		if c, _, err := root.Find(strings.Fields(x.command)[1:]); err == nil {
			c.Example = "  " + strings.Join(x.calls, "\n  ")
		}
	}
}
