package replay_test

import (
	"cmp"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/go-json-experiment/json"
	"github.com/stretchr/testify/require"

	"briskwarden.example/briskwarden/replay"
	"briskwarden.example/briskwarden/signon"
)

const rules = `rulebook r { floor none }
user ann { } user bob { risk medium } user cy { active no }
app news { }
risk model {
  add 20 when user.risk at least medium
  add 30 when surely new.country
  add 25 when reported.risk >= 50
  add 40 when surely new.device
  band low to 29, mid to 59, high to 100
}
`

// told is what a naive reading of the log scores one of its lines.
type told struct {
	user      string
	at        time.Time
	low, high int
	number    int
}

// randomLog writes a log and scores it as it goes.
func randomLog(r *rand.Rand) (text string, all []told) {
	base := time.Date(2026, 11, 1, 8, 0, 0, 0, time.UTC)
	seen := map[string]bool{} // a country or device of a user
	for i := range 40 + r.IntN(60) {
		user := []string{"ann", "bob", "cy", "dee"}[r.IntN(4)]
		l := signon.Logged{SignOn: signon.SignOn{ID: fmt.Sprint("s-", i), User: user, App: "news", Time: base.Add(time.Duration(i) * time.Hour),
			Country: []string{"NO", "PT", "DK"}[r.IntN(3)], Device: &signon.Device{ID: []string{"", "a", "b"}[r.IntN(3)]}}}
		x := told{user: user, at: l.Time, number: i + 1}
		switch r.IntN(3) {
		case 0:
			x.high = 25
		default:
			risk := float64(r.IntN(100))
			l.Risk = &risk
			if risk >= 50 {
				x.low, x.high = 25, 25
			}
		}
		add := func(n int) { x.low, x.high = x.low+n, x.high+n }
		if user == "bob" {
			add(20)
		}
		if !seen[user+l.Country] {
			add(30)
		}
		if d := l.Device.ID; d != "" && !seen[user+d] {
			add(40)
		}
		x.low, x.high = min(x.low, 100), min(x.high, 100)
		if l.Recorded = r.IntN(3) > 0; l.Recorded {
			l.Outcome = []signon.Outcome{signon.Block, signon.StepUp, signon.Grant}[r.IntN(3)]
		}
		if !l.Recorded || l.Outcome == signon.Grant {
			seen[user+l.Country], seen[user+l.Device.ID] = true, true
		}
		line, _ := json.Marshal(l)
		text += string(line) + "\n"
		if user == "ann" || user == "bob" {
			all = append(all, x)
		}
	}
	return text, all
}

// TestRiskAgreesWithSorting holds what is told against sorting all scores.
func TestRiskAgreesWithSorting(t *testing.T) {
	rb := open(t, fstest.MapFS{"rulebook.warden": {Data: []byte(rules)}})
	for seed := range uint64(150) {
		r := rand.New(rand.NewPCG(seed, 3))
		text, all := randomLog(r)
		options := replay.RiskOptions{Above: r.IntN(60), Top: 1 + r.IntN(12)}
		if r.IntN(3) == 0 {
			options.Band = []string{"low", "mid", "high"}[r.IntN(3)]
		}
		if r.IntN(2) == 0 {
			options.From, options.To = all[len(all)/4].at, all[len(all)*3/4].at
		}
		half := strings.Index(text, "\n") + 1
		logs := []replay.Log{{Name: "a", In: strings.NewReader(text[:half])}, {Name: "b", In: strings.NewReader(text[half:])}}
		lines := 0
		options.Progress = func(n int) { lines = n }
		risk, err := replay.Riskiest(t.Context(), rb, logs, options)
		require.NoError(t, err)
		require.Equal(t, strings.Count(text, "\n"), lines)

		bands := map[string][2]int{"low": {0, 29}, "mid": {30, 59}, "high": {60, 100}, "": {0, 100}}
		in := func(score int) bool {
			b := bands[options.Band]
			return score > options.Above && score >= b[0] && score <= b[1]
		}
		var want []told
		open, scored := 0, 0
		users := map[string]int{}
		for _, x := range all {
			if !options.From.IsZero() && (x.at.Before(options.From) || !x.at.Before(options.To)) {
				continue
			}
			scored++
			switch {
			case in(x.low):
				want = append(want, x)
				users[x.user]++
			default:
				for s := x.low + 1; s <= x.high; s++ {
					if in(s) {
						open++
						break
					}
				}
			}
		}
		slices.SortFunc(want, func(a, b told) int { return cmp.Or(b.low-a.low, b.high-a.high, a.at.Compare(b.at)) })
		require.Equal(t, []int{len(want), open, scored}, []int{risk.Risky, risk.Open, risk.Scored}, "seed %d", seed)
		var got, expected []string
		for _, s := range risk.SignOns() {
			got = append(got, fmt.Sprint(s.Line.SignOn.ID, " ", s.Risk.Low, " ", s.Risk.High))
		}
		for _, x := range want[:min(len(want), options.Top)] {
			expected = append(expected, fmt.Sprint("s-", x.number-1, " ", x.low, " ", x.high))
		}
		require.Equal(t, expected, got, "seed %d", seed)
		accounts, n := risk.Accounts()
		require.Len(t, users, n)
		for i, a := range accounts {
			require.Equal(t, users[a.User], a.Risky)
			require.True(t, i == 0 || accounts[i-1].Worst >= a.Worst)
		}
	}
}

func TestBadLinesCountForNothing(t *testing.T) {
	rb := open(t, fstest.MapFS{"rulebook.warden": {Data: []byte(rules)}})
	const good = `{"subject":{"id":"ann"},"resource":{"id":"news"},"context":{"time":"2026-11-01T08:00:00Z","country":"NO"}}`
	text := "\ufeff" + good + "\r\n\r\n{\n" + strings.Replace(good, "NO", "XX", 1) + "\n" + strings.Replace(good, `"country"`, `"outcome":"fine","country"`, 1) + "\n" + strings.Replace(good, "ann", "\xff", 1) + "\n" + good
	read := func(text string) (*replay.Risk, error) {
		return replay.Riskiest(t.Context(), rb, []replay.Log{{Name: "log.jsonl", In: strings.NewReader(text)}}, replay.RiskOptions{Top: 5})
	}
	risk, err := read(text)
	require.NoError(t, err)
	require.Equal(t, 2, risk.Scored)
	var at []int
	for _, b := range risk.Bad {
		require.Equal(t, "log.jsonl", b.File)
		require.NotEmpty(t, b.Why)
		at = append(at, b.Number)
	}
	require.Equal(t, []int{3, 4, 5, 6}, at)
	_, err = read("\xff\xfe{\x00")
	require.ErrorContains(t, err, "log.jsonl: line 1: the file is UTF-16")
}
