package rulebook

// At which stage a policy is, for whom and from when.

import (
	"time"
)

// Stage is how far a policy is on its way.
type Stage uint8

// Stages names the stages.
var Stages = [...]string{"enforce", "watch", "draft"}

// String names the stage.
func (s Stage) String() string { return Stages[s] }

// StageLine is one line of a policy's life.
type StageLine struct {
	Stage Stage
	For   *Who      // nil for all
	From  time.Time // 00:00 of the date; zero for always
}

// StageOf is the stage of the policy for a person at an instant: that of the first line that
// holds; on watch when there are lines and none does.
func (p *Policy) StageOf(person *Person, now time.Time) Stage {
	for i := range p.Stages {
		l := &p.Stages[i]
		if (l.For == nil || l.For.Holds(person)) && !now.Before(l.From) {
			return l.Stage
		}
	}
	if len(p.Stages) == 0 {
		return Enforce
	}
	return Watch
}

// EnforcedFrom is 00:00 of the date of the first enforce line for the person, or zero where
// none is stated.
func (p *Policy) EnforcedFrom(person *Person) time.Time {
	for i := range p.Stages {
		if l := &p.Stages[i]; l.Stage == Enforce && (l.For == nil || l.For.Holds(person)) {
			return l.From
		}
	}
	return time.Time{}
}

// The stages.
const (
	Enforce Stage = iota
	Watch
	Draft
)
