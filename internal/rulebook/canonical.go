package rulebook

// Policies in one form, so that those of two rulebooks can be compared. It goes by names: the number
// of a group, say, may differ between rulebooks.

import (
	"fmt"
	"strings"
)

// CanonicalScope tells for whom, for what and from when a policy is.
func (p *Policy) CanonicalScope() string {
	var b strings.Builder
	p.Who.canonical(&b)
	for _, list := range [][]AppSelector{p.To.Items, p.To.Except} {
		for _, s := range list {
			fmt.Fprintf(&b, "%d %q,", s.Kind, s.Name)
		}
		b.WriteByte(';')
	}
	fmt.Fprintf(&b, "%q", p.Doing)
	for _, s := range p.Stages {
		fmt.Fprintf(&b, "%s %d", s.Stage, s.From.Unix())
		if s.For != nil {
			s.For.canonical(&b)
		}
		b.WriteByte(';')
	}
	return b.String()
}

// Canonical tells whom the selectors select, as they are written.
func (w *Who) Canonical() string {
	var b strings.Builder
	w.canonical(&b)
	return b.String()
}

func (w *Who) canonical(b *strings.Builder) {
	for _, list := range [][]PersonSelector{w.Items, w.Except} {
		for _, s := range list {
			fmt.Fprintf(b, "%d %q,", s.Kind, s.Name)
		}
		b.WriteByte(';')
	}
}

// CanonicalCase tells what decides in a case of the policy, and for how long.
func (p *Policy) CanonicalCase(k *Case) string {
	asked := ""
	if k.Demand != nil {
		asked = k.Demand.Text
	}
	return fmt.Sprintf("%q %q %q %q %q %q", k.Text, k.Word, asked, k.Group, p.Session.LastsText, p.Session.IdleText)
}
