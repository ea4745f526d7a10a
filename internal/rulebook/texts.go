package rulebook

// What people who sign on are told, in their languages.

import (
	"errors"
	"fmt"
	"io"

	"briskwarden.example/briskwarden/internal/diag"
	"briskwarden.example/briskwarden/internal/spell"
	"briskwarden.example/briskwarden/internal/texts"
	"briskwarden.example/briskwarden/language/ast"
)

// TextOfNothing is the code of texts that nobody is ever told.
const TextOfNothing diag.Code = "text-of-nothing"

const mostTexts = 4 << 20 // bytes

func (r *resolver) texts() {
	told := r.told()
	for _, f := range r.decls.rulebook.Texts {
		r.each(f, func(file string, in io.Reader) error {
			tag, err := texts.Tag(file)
			if err != nil {
				return err
			}
			data, err := io.ReadAll(io.LimitReader(in, mostTexts+1))
			switch {
			case err != nil:
				return err
			case len(data) > mostTexts:
				return errors.New("it is larger than 4 MiB")
			}
			said, err := r.rb.Texts.Add(tag, data)
			if err != nil {
				return err
			}
			r.loading(file).add(len(said), "text")
			r.saidInVain(f, file, said, told)
			return nil
		})
	}
	r.rb.Texts.Prepare()
}

// told are all texts that a person who signs on may be told.
func (r *resolver) told() map[string]bool {
	told := map[string]bool{}
	for _, t := range texts.BuiltIn {
		told[string(t)] = true
	}
	for _, name := range r.rb.Methods.Names() {
		told[name] = true
	}
	for _, b := range r.rb.Baselines {
		for _, c := range b.Checks {
			told[c.Label] = true
		}
	}
	for _, p := range r.rb.Policies {
		for _, c := range p.Cases {
			told[c.Message] = c.Message != ""
		}
	}
	for _, a := range r.rb.Apps {
		told[a.Title()] = true
	}
	return told
}

// Title is what people know the app by: what it is, or its name.
func (a *App) Title() string {
	if a.Decl != nil && a.Decl.About.Text != "" {
		return a.Decl.About.Text
	}
	return a.Name
}

// mostInVain is how many texts of a file are told of.
const mostInVain = 10

func (r *resolver) saidInVain(clause ast.Name, file string, said []string, told map[string]bool) {
	var known []string
	more := 0
	for _, text := range said {
		if told[text] {
			continue
		}
		if more++; more > mostInVain {
			continue
		}
		if known == nil {
			known = keysOf(told)
		}
		help := spell.Hint(text, known)
		if help == "" {
			help = "a text stands under its English wording, as policies, checks and apps have it; docs/service.md lists those that are built in"
		}
		r.warn(TextOfNothing, clause, help, "%s says %q, which nobody is ever told", file, text)
	}
	if more > mostInVain {
		r.warn(TextOfNothing, clause, "see above", "%s", fmt.Sprintf("%s has %d more such texts", file, more-mostInVain))
	}
}
