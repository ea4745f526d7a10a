// Package search finds the sign-ons that come to something sought: of which people, to which apps and for
// which actions there are some, each with one that the engine has decided, and what they have in common.
package search

import (
	"cmp"
	"context"
	"fmt"
	"runtime"
	"sync"

	"briskwarden.example/briskwarden/internal/logic"
	"briskwarden.example/briskwarden/internal/possible"
	"briskwarden.example/briskwarden/signon"
)

// Quest is something that sign-ons can come to.
type Quest interface {
	// Concerns reports whether sign-ons to the app for the action are in its scope.
	Concerns(app, action string) bool
	// Seek tells, in a space, what is in its scope, and what is sought there, by way.
	Seek(sp *possible.Space) (scope logic.Lit, sought []logic.Lit)
	// Judge has the engine decide on a sign-on: which way it is that is sought, if it is any.
	Judge(ctx context.Context, so *signon.SignOn) (way int, is bool, err error)
	// EachWay reports whether every way is sought of everybody, and not only one of them.
	EachWay() bool
}

// Target is what is signed on to, and for what.
type Target struct{ App, Action string }

// Gather makes entries of what was found of every quest.
func Gather(ctx context.Context, found []Found) ([]Batch, error) {
	batches := make([]Batch, len(found))
	errs := make([]error, len(found))
	Parallel(len(found), func(i int) {
		batches[i].Quest = found[i].Quest
		batches[i].Entries, errs[i] = found[i].entries(ctx)
	})
	return batches, cmp.Or(errs...)
}

// Found is what was found of one quest.
type Found struct {
	Quest Quest
	Hits  []Hit // by target, in the order of the targets
	Empty bool  // nothing is in its scope
	Hard  []Hardship
}

// Hit is a sign-on that comes to what is sought, and of whom that was found.
type Hit struct {
	Target
	SignOn signon.SignOn
	Way    int
	Kinds  []*possible.Kind
}

// Hardship is a question that could not be answered in time.
type Hardship struct {
	Target
	Kinds, Variables, Conflicts int
}

// Unconfirmed is the error that the engine does not confirm what was found: a fault of the analysis.
type Unconfirmed struct {
	SignOn signon.SignOn
	What   string
}

func (e *Unconfirmed) Error() string {
	return fmt.Sprintf("internal error: the engine does not confirm what the analysis found (%s); please report it with the rulebook: %+v", e.What, e.SignOn)
}

// All searches for what every quest seeks, everywhere.
func All(ctx context.Context, w *possible.World, targets []Target, quests []Quest) ([]Found, error) {
	results := make([][]answer, len(targets))
	errs := make([]error, len(targets))
	Parallel(len(targets), func(i int) { results[i], errs[i] = one(ctx, w, targets[i], quests) })
	if err := w.Err(); err != nil {
		return nil, err
	}
	found := make([]Found, len(quests))
	for q := range quests {
		found[q] = Found{Quest: quests[q], Empty: true}
		for i := range targets {
			if errs[i] != nil {
				return nil, errs[i]
			}
			a := &results[i][q]
			found[q].Hits = append(found[q].Hits, a.hits...)
			found[q].Empty = found[q].Empty && !a.occurs
			if a.hard != nil {
				found[q].Hard = append(found[q].Hard, *a.hard)
			}
		}
	}
	return found, nil
}

// Parallel does a number of things, as many at once as there are processors.
func Parallel(n int, do func(int)) {
	var wait sync.WaitGroup
	next := make(chan int)
	for range runtime.GOMAXPROCS(0) {
		wait.Go(func() {
			for i := range next {
				do(i)
			}
		})
	}
	for i := range n {
		next <- i
	}
	close(next)
	wait.Wait()
}

// answer is what was found of one quest at one target.
type answer struct {
	hits   []Hit
	occurs bool // something is in its scope
	hard   *Hardship
}

// one searches for what every quest seeks at one target.
func one(ctx context.Context, w *possible.World, t Target, quests []Quest) ([]answer, error) {
	answers := make([]answer, len(quests))
	if ctx.Err() != nil {
		for i, q := range quests {
			if q.Concerns(t.App, t.Action) {
				answers[i].hard = &Hardship{Target: t}
			}
		}
		return answers, nil
	}
	sp := w.NewSpace(t.App, t.Action)
	sought := make([]seeking, len(quests))
	for i, q := range quests {
		if q.Concerns(t.App, t.Action) {
			scope, ways := q.Seek(sp)
			sought[i] = seeking{q, scope, ways}
		}
	}
	sp.Bind()
	for i := range quests {
		if sought[i].quest == nil {
			continue
		}
		s := seeker{ctx: ctx, world: w, sp: sp, target: t, seeking: sought[i], answer: &answers[i]}
		if err := s.seek(); err != nil {
			return nil, err
		}
	}
	return answers, nil
}

// seeking is a quest in a space.
type seeking struct {
	quest Quest
	scope logic.Lit
	ways  []logic.Lit
}

// seeker looks for what one quest seeks in one space.
type seeker struct {
	ctx    context.Context
	world  *possible.World
	sp     *possible.Space
	target Target
	seeking
	*answer
}

func (s *seeker) seek() error {
	if s.quest.EachWay() {
		for way, l := range s.ways {
			if l == logic.No {
				continue
			}
			if err := s.ofWay(l, way); err != nil || s.hard != nil {
				return err
			}
		}
	} else if err := s.ofWay(s.sp.Or(s.ways...), -1); err != nil {
		return err
	}
	if s.occurs = len(s.hits) > 0; !s.occurs && s.hard == nil {
		s.occurs = s.sp.Solve(s.ctx, s.scope) == logic.Possible
	}
	return nil
}

// ofWay looks for everybody of whom something is so, until there is nobody left.
func (s *seeker) ofWay(sought logic.Lit, way int) error {
	groups, ofGroup := s.sp.Groups()
	open := s.sp.Variable() // it is nobody of whom it was found already
	left := make([]bool, len(groups))
	for i := range left {
		left[i] = true
	}
	for {
		conflicts := s.sp.Conflicts
		switch s.sp.Solve(s.ctx, open, s.scope, sought) {
		case logic.Undecided:
			s.hard = &Hardship{s.target, len(groups), s.sp.Variables(), s.sp.Conflicts - conflicts}
			return nil
		case logic.Impossible:
			return nil
		}
		hit, err := s.hit(way)
		if err != nil {
			return err
		}
		for g, kinds := range groups {
			if !left[g] || !kinds[0].CanBe(&hit.SignOn) {
				continue
			}
			so := hit.SignOn
			so.User = kinds[0].People[0]
			if found, is, err := s.quest.Judge(s.ctx, &so); err != nil {
				return err
			} else if !is || found != hit.Way {
				continue
			}
			left[g] = false
			hit.Kinds = append(hit.Kinds, kinds...)
			s.sp.Require(open.Not(), ofGroup[g].Not())
		}
		s.hits = append(s.hits, *hit)
	}
}

// hit makes what was found into a sign-on, has the engine confirm it, and leaves out of it what it does not need.
func (s *seeker) hit(way int) (*Hit, error) {
	so, who := s.sp.SignOn()
	if len(who) == 0 {
		return nil, &Unconfirmed{so, "nobody"}
	}
	found, is, err := s.quest.Judge(s.ctx, &so)
	switch {
	case err != nil:
		return nil, &Unconfirmed{so, err.Error()}
	case !is || way >= 0 && found != way:
		return nil, &Unconfirmed{so, fmt.Sprintf("way %d", found)}
	}
	hit := &Hit{Target: s.target, SignOn: so, Way: found}
	hit.simplify(s.world.MethodsOf(who[0]), func(so *signon.SignOn) bool {
		way, is, err := s.quest.Judge(s.ctx, so)
		return err == nil && is && way == found
	})
	return hit, nil
}
