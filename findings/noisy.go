package findings

// Alerts that would have been sent too often, by the logs that the rulebook's history begins with.

import (
	"context"
	"io/fs"

	"briskwarden.example/briskwarden"
	"briskwarden.example/briskwarden/internal/bridge"
	"briskwarden.example/briskwarden/internal/rulebook"
	"briskwarden.example/briskwarden/replay"
)

// MostAlertsADay is how often one alert can be sent on a day, on average, before nobody reads it any more.
const MostAlertsADay = 50

// noisy tries the alerts on the rulebook's own logs.
func (c *checker) noisy(ctx context.Context, files fs.FS) error {
	if files == nil || len(c.rb.PastLogs) == 0 || len(c.rb.Alerts) == 0 {
		return nil
	}
	logs, done, err := replay.OpenLogs(files, c.rb.PastLogs)
	defer done()
	if err != nil {
		return err
	}
	tried, err := replay.TryAlerts(ctx, bridge.Open(c.rb).(*briskwarden.Rulebook), logs, replay.AlertOptions{NothingBefore: true})
	if err != nil {
		return err
	}
	declared := map[string]*rulebook.Alert{}
	for _, a := range c.rb.Alerts {
		declared[a.Name] = a
	}
	for _, t := range tried.Alerts {
		if a := declared[t.Name]; t.PerDay > MostAlertsADay {
			c.warn(NoisyAlert, a.Decl.Name, "narrow its condition, or hold more back: at most 1 per user every 4h; try it: brisk alerts LOG",
				"the alert %s would have been sent %.0f times a day over the rulebook's history, on %d days: nobody reads so many", a.Name, t.PerDay, tried.Days)
		}
	}
	return nil
}
