package survey

// How often each way in was used.

import (
	"context"
	"fmt"

	"briskwarden.example/briskwarden"
	"briskwarden.example/briskwarden/internal/bridge"
	"briskwarden.example/briskwarden/internal/engine"
	"briskwarden.example/briskwarden/internal/rulebook"
	"briskwarden.example/briskwarden/replay"
	"briskwarden.example/briskwarden/signon"
)

// Use counts, of the sign-ons of logs, how many the rulebook grants, by row, and how many of them on less than
// aal2. Progress, if it is not nil, is told how many lines were read.
func (r *Report) Use(ctx context.Context, rules *briskwarden.Rulebook, logs []replay.Log, progress func(lines int)) error {
	e := bridge.Engine(rules)
	s := &surveyor{ctx: ctx, engine: e, rb: e.Rulebook()}
	weak := &engine.Question{Without: s.newColumns().levels[2]}
	rows := map[[2]string]*Row{}
	for i := range r.Rows {
		for _, id := range r.Rows[i].People {
			rows[[2]string{r.Rows[i].App, id}] = &r.Rows[i]
		}
	}
	lines := 0
	for _, l := range logs {
		err := replay.Each(l.In, l.Name, func(line *replay.Line) error {
			if err := ctx.Err(); err != nil {
				return err
			}
			if lines++; progress != nil {
				progress(lines)
			}
			so := &line.SignOn
			if so.Action != "" && so.Action != rulebook.SignOn {
				return nil
			}
			row := rows[[2]string{so.App, so.User}]
			v, err := e.Judge(ctx, so, weak)
			if err != nil || row == nil || v.Outcome != signon.Grant {
				return err
			}
			r.Logged++
			row.Used++
			if !v.Met {
				row.Weakly++
			}
			return nil
		}, func(replay.BadLine) {})
		if err != nil {
			return fmt.Errorf("%s: %w", l.Name, err)
		}
	}
	return nil
}
