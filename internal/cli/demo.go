package cli

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"unicode"

	"github.com/spf13/cobra"

	"briskwarden.example/briskwarden/demo"
)

func (s *session) demoCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "demo [DIR]",
		Short: "Write the demo rulebook into DIR, and walk through the whole job on it",
		RunE: func(_ *cobra.Command, args []string) error {
			switch {
			case len(args) > 1:
				return usage("name one folder to write into: brisk demo DIR")
			case len(args) == 1:
				return s.demo(args[0])
			}
			dir, err := os.MkdirTemp("", "skerry-line-")
			if err != nil {
				return usage("%w", err)
			}
			return s.demo(dir)
		},
	}
}

// scene is one step of the demo: what it is about, and a command that shows it.
type scene struct {
	title  string
	tell   string
	args   []string
	edit   func(dir string) error // made before the command; undone after it
	status int                    // of the command
}

// slip is a draft with mistakes in it.
const slip = `policy night-ferry {
  about "The night ferry's tills"
  who   group tiket-desk
  to    app ticketing
  case "at sea" when network in ferries and terminals => step-up password
  case "late" when time in watches and device.os >= 12 => grant
  otherwise => block
}
`

const slipFile = "policies/night-ferry.warden"

func writeSlip(dir string) error {
	return os.WriteFile(filepath.Join(dir, filepath.FromSlash(slipFile)), []byte(slip), 0o644)
}

var scenes = []scene{
	{title: "Read what there is",
		tell: "Skerry Line runs ferries between three ports. Its rulebook is a folder of text files: people, groups, apps, networks and the policies over them. Check reads everything.",
		args: []string{"check", "--at", "2026-11-23T08:00"}},
	{title: "A slip is told before it does harm",
		tell:   "A colleague drafts " + slipFile + " in a hurry. Each mistake is named with its place, the line itself and what to do. A rulebook with errors never decides.",
		args:   []string{"check", "--at", "2026-11-23T08:00"},
		edit:   writeSlip,
		status: exitFindings},
	{title: "Try a sign-on",
		tell: "The draft is gone again. Mira, a deckhand, signs on to the roster at a terminal on the quay.",
		args: []string{"decide", "user", "mira.holt", "app", "crew-roster", "ip", "198.51.100.14", "at", "2026-11-23T08:15",
			"device deck-tab-03 { managed yes }", "presenting", "password"}},
	{title: "The same person, elsewhere",
		tell: "In the evening Mira is in Portugal, on her own tablet. The password alone no longer does; the answer says which policy asks, for what, and why.",
		args: []string{"decide", "user", "mira.holt", "app", "crew-roster", "ip", "203.0.113.20", "country", "PT", "at", "2026-11-23T21:40", "presenting", "password"}},
	{title: "A block that says why, and what would mend it",
		tell: "Ylva keeps the payroll, today from a phone without disk encryption.",
		args: []string{"decide", "user", "ylva.fjell", "app", "payroll", "ip", "203.0.113.30", "country", "NO", "at", "2026-11-23T12:00",
			"device ylva-phone { os ios version 17.4 form mobile encrypted no screenlock yes jailbroken no }", "presenting", "password, passkey"}},
	{title: "A missing fact only tightens",
		tell: "The same deckhand as in step 3, but the request came without an address: the case \"at a terminal\" cannot be told, and neither can the others.",
		args: []string{"decide", "user", "mira.holt", "app", "crew-roster", "at", "2026-11-23T08:15", "device deck-tab-03 { managed yes }", "presenting", "password"}},
	{title: "Nobody is locked out for good",
		tell: "Two envelopes lie in two safes. No policy, not even one that blocks everybody, stands in their way; their own demand alone decides.",
		args: []string{"decide", "user", "envelope.red", "app", "harbour-admin", "ip", "203.0.113.200", "at", "2026-11-23T03:12", "presenting", "security-key"}},
	{title: "Watch before you enforce",
		tell: "The policy rosters-in-port is still on watch. It forgot a port: Henrik, who plans rosters in Eastholm, would be locked out. See \"Watched\".",
		args: []string{"decide", "user", "henrik.sund", "app", "crew-roster", "ip", "192.0.2.140", "at", "2026-11-23T09:05", "presenting", "password"}},
	{title: "Keep it so",
		tell: "What must stay true is written down beside the policies and run after every edit.",
		args: []string{"expect"}},
}

func (s *session) demo(dir string) error {
	if err := writeRulebook(dir, demo.SkerryLine()); err != nil {
		return err
	}
	fmt.Fprintf(s.out, "%s\n\nThe rulebook of Skerry Line now lies in %s. All of it is made up.\n", s.paint.bold("Brisk Warden: the job from end to end"), dir)
	for i, sc := range scenes {
		if err := s.scene(i+1, sc, dir); err != nil {
			return err
		}
	}
	fmt.Fprintf(s.out, "\nEdit the files in %s and try again; \"brisk help\" lists the commands.\n", dir)
	return nil
}

func (s *session) scene(number int, sc scene, dir string) error {
	fmt.Fprintf(s.out, "\n%s\n%s\n\n", s.paint.blue(fmt.Sprintf("%d. %s", number, sc.title)), wrapped(sc.tell, 0))
	if sc.edit != nil {
		if err := sc.edit(dir); err != nil {
			return usage("%w", err)
		}
		defer os.Remove(filepath.Join(dir, filepath.FromSlash(slipFile)))
	}
	args := append([]string{sc.args[0], "-r", dir}, sc.args[1:]...)
	fmt.Fprintf(s.out, "%s\n", s.paint.bold("$ brisk "+shellQuoted(args)))
	step := &session{in: s.in, out: s.out, err: s.err, paint: s.paint}
	command := step.command()
	command.SetArgs(args)
	err := command.Execute()
	var e *exit
	switch {
	case errors.As(err, &e) && e.status == sc.status && sc.status != exitDone:
		return nil
	case err == nil && sc.status != exitDone:
		return fmt.Errorf("step %d of the demo should have ended with status %d", number, sc.status)
	}
	return err
}

// shellQuoted is a command line as a person could type it.
func shellQuoted(args []string) string {
	quoted := make([]string, len(args))
	for i, a := range args {
		quoted[i] = a
		if strings.IndexFunc(a, func(r rune) bool { return unicode.IsSpace(r) || strings.ContainsRune(`{}()'"$&;|<>*`, r) }) >= 0 {
			quoted[i] = "'" + strings.ReplaceAll(a, "'", `'\''`) + "'"
		}
	}
	return strings.Join(quoted, " ")
}
