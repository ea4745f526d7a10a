// Package explain lays out decisions for people, as the command "brisk decide" does: the answer, what
// is asked, what decided, what stood by and why.
//
//	d, err := rules.Explain(ctx, s)
//	…
//	fmt.Print(explain.Text(rules, s, d, explain.Options{}))
package explain
