// Package replay takes logs of past sign-ons through a rulebook: what would happen to them now, what
// another rulebook would decide differently, and which of them are the riskiest, as the commands
// "brisk replay", "brisk compare --log" and "brisk risk" tell.
//
//	summary, err := replay.Run(ctx, rules, []replay.Log{{Name: "november.jsonl", In: file}}, replay.Options{})
//	…
//	fmt.Println(summary.Outcomes[signon.Block], "would be blocked")
package replay
