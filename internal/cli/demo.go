package cli

// brisk demo: how its steps are walked.

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"briskwarden.example/briskwarden/demo"
	"briskwarden.example/briskwarden/internal/screen"
	"briskwarden.example/briskwarden/internal/spell"
)

func (s *session) demoCommand() *cobra.Command {
	var list bool
	var steps, name string
	c := &cobra.Command{
		Use:   "demo [DIR]",
		Short: "Write the demo rulebook into DIR, and walk through the whole job on it",
		Long: "demo tells the job in a dozen steps, each a command with its answer; chapters go deeper. On a\n" +
			"terminal it waits for Enter after each, and b goes back to the one before.",
		RunE: func(_ *cobra.Command, args []string) error {
			if list {
				s.listSteps()
				return nil
			}
			if len(args) > 1 {
				return usage("name one folder to write into: brisk demo DIR")
			}
			wanted, err := chosen(steps, name)
			if err != nil {
				return err
			}
			dir := ""
			if len(args) == 1 {
				dir = args[0]
			} else if dir, err = os.MkdirTemp("", "skerry-line-"); err != nil {
				return usage("%w", err)
			}
			return s.demo(dir, wanted, steps == "")
		},
	}
	c.Flags().BoolVar(&list, "steps", false, "list the chapters and their steps")
	c.Flags().StringVar(&steps, "step", "", "show this step, or these, such as 4-6, in full")
	c.Flags().StringVar(&name, "chapter", "", "show this chapter instead of the story")
	return c
}

// chapter is a part of the demo.
type chapter struct {
	name, about string
	scenes      []scene
}

// scene is one step of the demo: what it is about, and a command that shows it.
type scene struct {
	title  string
	tell   string
	args   []string
	until  string // begins the line of the answer from which on the story leaves it out
	draft  draft  // written before the command, and taken away after it
	status int    // of the command
	serve  bool   // instead of a command: start the service,
	call   *call  // or ask it,
	mailed *call  // or start one that sends mail to a stand-in, ask it, and show what arrives
}

// draft is a file that a scene adds to the rulebook.
type draft struct{ file, text string }

// step is a scene with its number, and its chapter's first one, from which on what it builds upon is done.
type step struct {
	scene
	number, first int
	chapter       string
}

// allSteps are the steps of all chapters, in order.
func allSteps() (list []step) {
	for _, c := range chapters {
		first := len(list) + 1
		for _, sc := range c.scenes {
			list = append(list, step{sc, len(list) + 1, first, c.name})
		}
	}
	return list
}

// chosen are the steps asked for: those of a chapter, or from one number to another.
func chosen(numbers, name string) (list []step, err error) {
	all := allSteps()
	if numbers != "" && name != "" {
		return nil, usage("give --step or --chapter, not both")
	}
	if numbers == "" {
		var names []string
		for _, c := range chapters {
			names = append(names, c.name)
		}
		if name == "" {
			name = names[0]
		}
		list = slices.DeleteFunc(all, func(s step) bool { return s.chapter != name })
		if len(list) == 0 {
			return nil, usage("--chapter: there is none %q%s; there are %s", name, hint(name, names), strings.Join(names, ", "))
		}
		return list, nil
	}
	from, to, several := strings.Cut(numbers, "-")
	if !several {
		to = from
	}
	first, err1 := strconv.Atoi(from)
	last, err2 := strconv.Atoi(to)
	if err1 != nil || err2 != nil || first < 1 || last > len(all) || first > last {
		return nil, usage("--step: write a number from 1 to %d, or two such as 4-6, not %q", len(all), numbers)
	}
	return all[first-1 : last], nil
}

func (s *session) listSteps() {
	n := 0
	for _, c := range chapters {
		s.out.Printf("%s: %s\n", s.paint.Bold(c.name), c.about)
		for _, sc := range c.scenes {
			n++
			s.out.Printf("  %2d  %s\n", n, sc.title)
		}
	}
	s.out.Println("Show some with --step N or N-M, or a chapter with --chapter NAME.")
}

// stage is where the demo plays: its folders, and what its steps said.
type stage struct {
	*session
	dir     string
	folders *strings.Replacer
	done    map[int]string // the answer of each step that was run
	short   bool           // leave out what until says
	serving *serving       // the service, once it is started
	kept    []string       // what stands for ids in calls, each with its id
}

func (s *session) demo(dir string, wanted []step, short bool) error {
	if err := writeRulebook(dir, demo.SkerryLine()); err != nil {
		return err
	}
	folders := []string{original, dir}
	for _, c := range []change{mend, rewrite} {
		copied, err := c.copy()
		if err != nil {
			return usage("%w", err)
		}
		folders = append(folders, "{"+c.name+"}", copied)
	}
	play := &stage{session: s, dir: dir, folders: strings.NewReplacer(folders...), done: map[int]string{}, short: short}
	s.out.Printf("%s\n\nThe rulebook of Skerry Line now lies in %s. All of it is made up.\n", s.paint.Bold("Brisk Warden: the job from end to end"), dir)
	err := play.walk(wanted)
	if err = errors.Join(err, play.end()); err != nil || !short {
		return err
	}
	s.out.Printf("\n%s\n", s.paint.Bold("Three things to do next"))
	s.out.Printf("  Try your own:      brisk decide -r %s user mira.holt app payroll\n", dir)
	s.out.Printf("  Change a policy:   edit %s, then brisk expect -r %s\n", filepath.Join(dir, "policies", "crews.warden"), dir)
	s.out.Printf("  Begin with yours:  brisk init my-rulebook\n")
	s.out.Printf("\nThe rest of the demo: brisk demo --chapter sign-ons, consent, certainty, service, watch or review\n")
	return nil
}

// walk shows the steps; on a terminal one at a time, forth and back.
func (p *stage) walk(wanted []step) error {
	for i := 0; i < len(wanted); {
		if err := p.show(&wanted[i]); err != nil {
			return err
		}
		if i++; p.keys == nil || i == len(wanted) {
			continue
		}
		p.out.Printf("\n%s ", p.paint.Faint(fmt.Sprintf("%d of %d · Enter goes on, b back, q ends:", i, len(wanted))))
		_ = p.out.Flush()
		answer, err := p.keys.ReadString('\n')
		switch word := strings.ToLower(strings.TrimSpace(answer)); {
		case err != nil || word == "q":
			p.out.Println()
			return nil
		case word == "b":
			i = max(0, i-2)
		}
	}
	return nil
}

// show prints a step, and runs it first, with what it builds upon, if that was not done.
func (p *stage) show(st *step) error {
	for _, before := range allSteps()[st.first-1 : st.number] {
		if _, done := p.done[before.number]; !done {
			answer, err := p.run(&before)
			if err != nil {
				return err
			}
			p.done[before.number] = answer
		}
	}
	p.out.Printf("\n%s\n%s\n\n", p.paint.Blue(fmt.Sprintf("%d. %s", st.number, st.title)), screen.Wrapped(st.tell, 0))
	shown, left := p.done[st.number], 0
	if cut := strings.Index(shown, "\n"+st.until); p.short && st.until != "" && cut >= 0 {
		left = strings.Count(strings.TrimSpace(shown[cut:]), "\n") + 1
		shown = strings.TrimRight(shown[:cut], "\n") + "\n"
	}
	p.out.Print(screen.Styled(shown)) // it came from a screen
	if left > 0 {
		p.out.Println(p.paint.Faint(fmt.Sprintf("… and %s: brisk demo --step %d", spell.Plural(left, "more line"), st.number)))
	}
	return nil
}

// copy writes the demo rulebook with the change into a temporary folder.
func (c *change) copy() (dir string, err error) {
	if dir, err = os.MkdirTemp("", "skerry-line-"+c.name+"-"); err != nil {
		return "", err
	}
	if err := os.CopyFS(dir, demo.SkerryLine()); err != nil {
		return "", err
	}
	name := filepath.Join(dir, filepath.FromSlash(c.file))
	text, err := os.ReadFile(name)
	if err != nil {
		return "", err
	}
	return dir, os.WriteFile(name, []byte(strings.NewReplacer(c.pairs...).Replace(string(text))), 0o644)
}

// run runs the command of a step, and gives it and its answer.
func (p *stage) run(st *step) (string, error) {
	switch {
	case st.serve:
		return p.serve()
	case st.call != nil:
		return p.call(st.call)
	case st.mailed != nil:
		return p.mailed(st.mailed)
	}
	if st.draft.file != "" {
		name := filepath.Join(p.dir, filepath.FromSlash(st.draft.file))
		if err := os.WriteFile(name, []byte(st.draft.text), 0o644); err != nil {
			return "", usage("%w", err)
		}
		defer os.Remove(name)
	}
	args := slices.Clone(st.args)
	if st.args[0] != "compare" && !slices.Contains(st.args, "-r") {
		command := 1
		if st.args[0] == "consent" {
			command = 2
		}
		args = slices.Insert(args, command, "-r", original)
	}
	for i := range args {
		args[i] = filepath.FromSlash(p.folders.Replace(args[i]))
	}
	var text bytes.Buffer
	out := screen.New(&text)
	out.Printf("%s\n", p.paint.Bold("$ brisk "+spell.Shell(args)))
	quiet := &session{ctx: p.ctx, in: strings.NewReader(""), out: out, err: p.err, side: io.Discard, paint: p.paint}
	command := quiet.command()
	command.SetArgs(args)
	err := command.Execute()
	_ = out.Flush()
	var e *exit
	switch {
	case errors.As(err, &e) && e.status == st.status && st.status != exitDone:
		err = nil
	case err == nil && st.status != exitDone:
		err = fmt.Errorf("step %d of the demo should have ended with status %d", st.number, st.status)
	}
	return text.String(), err
}
