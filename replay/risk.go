package replay

// What is riskiest in logs.

import (
	"cmp"
	"container/heap"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"briskwarden.example/briskwarden"
	"briskwarden.example/briskwarden/internal/bridge"
	"briskwarden.example/briskwarden/internal/engine"
	"briskwarden.example/briskwarden/internal/history"
	"briskwarden.example/briskwarden/internal/risk"
	"briskwarden.example/briskwarden/signon"
)

// RiskOptions say which sign-ons of a log are told.
type RiskOptions struct {
	From, To time.Time         // from the first on, and before the second; zero is no bound
	Above    int               // with a sure score above this
	Band     string            // with a sure score in this band; empty is any
	Top      int               // at most so many sign-ons, and accounts; 0 is 20
	Progress func(signOns int) // is told how many lines were read; nil for none
}

// Risk is what is riskiest in logs.
type Risk struct {
	Read, Scored int // sign-ons, of the time asked for
	Unscored     int // of users, apps or actions that the rulebook does not know
	Risky        int // those that are told, or would be without a limit
	Open         int // those that only facts that are unknown keep out
	Bad          []BadLine
	ByBand       map[string]int // of those scored
	Bands        []string       // of the risk model, the lowest first

	ctx      context.Context
	engine   *engine.Engine
	past     *history.Past
	options  RiskOptions
	top      riskHeap
	accounts map[string]*Account
}

// Scored is a sign-on with its score.
type Scored struct {
	Line Line
	Risk *signon.Risk
	Band string // of the sure score
}

// Account is what is risky about one user.
type Account struct {
	User    string         `json:"user"`
	Worst   int            `json:"worst"`
	Risky   int            `json:"risky"`
	SignOns int            `json:"sign_ons"`
	Last    time.Time      `json:"last"`    // of the risky ones
	Factors map[string]int `json:"factors"` // how often each held, as it is written
}

// Riskiest goes through logs, one after the other, and keeps what is riskiest. It learns as it
// goes, from what the log says was granted. The error says which option cannot be, or which log
// cannot be read on.
func Riskiest(ctx context.Context, rules *briskwarden.Rulebook, logs []Log, options RiskOptions) (*Risk, error) {
	options.Top = cmp.Or(options.Top, 20)
	e, past := bridge.Engine(rules).Learning()
	r := &Risk{ctx: ctx, engine: e, past: past, options: options, ByBand: map[string]int{}, accounts: map[string]*Account{}}
	if err := r.bind(e.Rulebook().Risk); err != nil {
		return nil, err
	}
	lines := 0
	for _, l := range logs {
		err := Each(l.In, l.Name, func(line *Line) error {
			if lines++; options.Progress != nil {
				options.Progress(lines)
			}
			return r.line(line)
		}, func(b BadLine) { r.Bad = append(r.Bad, b) })
		if err != nil {
			return nil, fmt.Errorf("%s: %w", l.Name, err)
		}
	}
	return r, nil
}

// ErrNoModel says that a rulebook has no risk model.
var ErrNoModel = errors.New("the rulebook has no risk model: declare one with \"risk model { … }\"")

// bind checks the options against the risk model.
func (r *Risk) bind(model *risk.Model) error {
	if model == nil {
		return ErrNoModel
	}
	for _, b := range model.Bands {
		r.Bands = append(r.Bands, b.Name)
	}
	switch o := &r.options; {
	case o.Band != "" && !slices.Contains(r.Bands, o.Band):
		return fmt.Errorf("the risk model has no band %q: it has %s", o.Band, strings.Join(r.Bands, ", "))
	case o.Top < 1:
		return fmt.Errorf("list at least 1, found %d", o.Top)
	}
	return nil
}

func (r *Risk) line(l *Line) error {
	if err := r.ctx.Err(); err != nil {
		return err
	}
	if during(l.SignOn.Time, r.options.From, r.options.To) {
		if err := r.score(l); err != nil {
			return err
		}
	}
	if l.Teaches() {
		return r.engine.Teach(r.ctx, r.past, &l.SignOn)
	}
	return nil
}

func (r *Risk) score(l *Line) error {
	r.Read++
	score, err := r.engine.Risk(r.ctx, &l.SignOn, r.told)
	switch {
	case err != nil:
		return err
	case score == nil:
		r.Unscored++
		return nil
	}
	r.Scored++
	model := r.engine.Rulebook().Risk
	s := Scored{*l, score, model.BandAt(score.Low)}
	r.ByBand[s.Band]++
	a := r.accounts[l.SignOn.User]
	if a == nil {
		a = &Account{User: strings.Clone(l.SignOn.User), Factors: map[string]int{}}
		r.accounts[a.User] = a
	}
	a.SignOns++
	switch {
	case r.told(score.Low):
		r.tell(s, a)
	case r.couldBeTold(score):
		r.Open++
	}
	return nil
}

// told reports whether a sign-on of this score is asked for.
func (r *Risk) told(score int) bool {
	return score > r.options.Above && (r.options.Band == "" || r.engine.Rulebook().Risk.BandAt(score) == r.options.Band)
}

// couldBeTold reports whether unknown facts could lift a score to one that is asked for.
func (r *Risk) couldBeTold(s *signon.Risk) bool {
	for score := s.Low + 1; score <= s.High; score++ {
		if r.told(score) {
			return true
		}
	}
	return false
}

func (r *Risk) tell(s Scored, a *Account) {
	r.Risky++
	a.Risky++
	a.Worst = max(a.Worst, s.Risk.Low)
	if s.Line.SignOn.Time.After(a.Last) {
		a.Last = s.Line.SignOn.Time
	}
	for _, f := range s.Risk.Factors {
		if f.Value == "true" {
			a.Factors[f.When]++
		}
	}
	if heap.Push(&r.top, s); len(r.top) > r.options.Top {
		heap.Pop(&r.top)
	}
}

// SignOns are the riskiest sign-ons, the highest score first.
func (r *Risk) SignOns() []Scored {
	return slices.SortedFunc(slices.Values(r.top), func(a, b Scored) int { return compareRisk(&b, &a) })
}

// Accounts are the users with risky sign-ons: by their worst, then by how often. All is how
// many there are.
func (r *Risk) Accounts() (top []*Account, all int) {
	for _, a := range r.accounts {
		if a.Risky > 0 {
			top = append(top, a)
		}
	}
	slices.SortFunc(top, func(a, b *Account) int {
		return cmp.Or(b.Worst-a.Worst, b.Risky-a.Risky, strings.Compare(a.User, b.User))
	})
	return top[:min(len(top), r.options.Top)], len(top)
}

// riskHeap keeps the least risky at its top.
type riskHeap []Scored

// compareRisk orders by sure score, by what it could be, and by time, the earlier being the riskier.
func compareRisk(a, b *Scored) int {
	return cmp.Or(a.Risk.Low-b.Risk.Low, a.Risk.High-b.Risk.High, b.Line.SignOn.Time.Compare(a.Line.SignOn.Time),
		strings.Compare(b.Line.File, a.Line.File), b.Line.Number-a.Line.Number)
}

func (h riskHeap) Len() int           { return len(h) }
func (h riskHeap) Less(i, j int) bool { return compareRisk(&h[i], &h[j]) < 0 }
func (h riskHeap) Swap(i, j int)      { h[i], h[j] = h[j], h[i] }

// Push is for package heap.
func (h *riskHeap) Push(x any) { *h = append(*h, x.(Scored)) }

// Pop is for package heap.
func (h *riskHeap) Pop() any {
	old := *h
	last := old[len(old)-1]
	*h = old[:len(old)-1]
	return last
}
