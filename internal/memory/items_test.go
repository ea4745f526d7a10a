package memory

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"briskwarden.example/briskwarden/internal/history"
	"briskwarden.example/briskwarden/internal/provision"
)

var noon = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)

// TestProofsMerge adds proofs in any order, in any parts and twice: what is kept is the same.
func TestProofsMerge(t *testing.T) {
	var all []proof
	for i := range 300 {
		all = append(all, proof{Method: []string{"password", "passkey"}[i%2], Time: noon.Add(time.Duration(i) * time.Second), Session: fmt.Sprintf("s%d", i%90), Device: []string{"", "d"}[i/7%2]})
	}
	kept := func() []proof {
		list := slices.Concat(all, all[:rand.IntN(len(all))])
		rand.Shuffle(len(list), func(i, j int) { list[i], list[j] = list[j], list[i] })
		var p proofs
		for len(list) > 0 {
			n := 1 + rand.IntN(len(list))
			p.add(list[:n])
			list = list[n:]
		}
		return p.List
	}
	want := kept()
	require.Len(t, want, mostProofs)
	require.Equal(t, all[299], want[0], "the newest")
	for i, p := range want[1:] {
		require.True(t, p.Time.Before(want[i].Time))
	}
	for range 20 {
		require.Equal(t, want, kept())
	}
}

// TestMarks ends many sessions: whose proofs are void is never forgotten, only told less finely.
func TestMarks(t *testing.T) {
	var m marks
	at := func(i int) time.Time { return noon.Add(time.Duration(i) * time.Minute) }
	for i := range 1000 {
		m.end(fmt.Sprintf("s%d", i), at(i))
		m.end(fmt.Sprintf("s%d", i), at(i-1))
	}
	require.Len(t, m.Ended, mostEnded)
	none := &provision.Everybody{}
	void := func(session string, at time.Time) bool {
		return m.void(&proof{Method: "password", Time: at, Session: session, Stated: true}, none, nil)
	}
	for i := range 1000 {
		require.True(t, void(fmt.Sprintf("s%d", i), at(i).Add(-time.Second)), i)
	}
	require.True(t, void("other", at(1000-mostEnded-1)), "of which sessions is no longer known")
	require.False(t, void("other", at(1000-mostEnded)))
	m.end("", at(2000))
	require.True(t, void("other", at(2000)))
	require.False(t, void("other", at(2000).Add(1)))
	require.True(t, m.void(&proof{Time: at(3000)}, &provision.Everybody{Voided: at(3000)}, nil))
}

// TestThePastIsBounded learns more than is kept: what is forgotten makes facts unknown, and never the looser value.
func TestThePastIsBounded(t *testing.T) {
	var p past
	learn := func(i int, device string) {
		p.learn(learned(&history.SignOn{Query: history.Query{User: "ann", At: noon.Add(time.Duration(i) * 30 * time.Minute), Country: "NO", Device: device}}, fmt.Sprint(i), "roster"))
	}
	learn(0, "first")
	require.Len(t, p.SignOns, 1)
	learn(0, "first")
	require.Len(t, p.SignOns, 1, "the same teaches once")
	for i := range 3000 {
		learn(i+1, "usual")
	}
	require.Len(t, p.SignOns, mostPast)
	require.False(t, p.Lost.IsZero())
	now := p.SignOns[len(p.SignOns)-1].At.Add(time.Hour)
	ask := func(p *past, device string) history.Facts {
		return history.NewPast(time.UTC).Individual("ann", p.signOns("ann"), p.Lost).Before(&history.Query{User: "ann", At: now, Country: "NO", Device: device})
	}
	require.Zero(t, ask(&p, "never").NewDevice, "unknown")
	require.Negative(t, ask(&p, "usual").NewDevice, "no")
	p.Lost = time.Time{}
	require.Positive(t, ask(&p, "never").NewDevice, "yes")
	old := past{}
	old.learn(pastSignOn{At: noon})
	old.learn(pastSignOn{At: noon.Add(pastFor + time.Hour), Session: 1})
	require.Len(t, old.SignOns, 1)
	require.True(t, old.Lost.IsZero(), "what is too old to matter is not missed")
}

// TestSessionsTeachSoMuch lets one session come from ever new devices.
func TestSessionsTeachSoMuch(t *testing.T) {
	var s session
	for i := range 400 {
		s.teach(7, fmt.Sprint(i))
	}
	require.Len(t, s.Taught, mostTaught+1)
	require.Equal(t, more, s.Taught[mostTaught])
	require.Empty(t, s.teaches(7, "another"))
	require.Equal(t, "another", s.teaches(8, "another"))
	s.teach(8, "another")
	require.Equal(t, []string{"another"}, s.Taught)
	require.Empty(t, s.teaches(7, "late"))
}
