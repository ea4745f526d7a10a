// Package statetest tests that a [state.Store] is as its documentation says.
package statetest

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"briskwarden.example/briskwarden/consent"
	"briskwarden.example/briskwarden/consent/consenttest"
	"briskwarden.example/briskwarden/service/state"
)

// TestStore holds stores against the contract of [state.Store]. Open gives a new, empty one each time, and has it
// closed when the test ends; again opens the one that was opened last once more, as another process would.
func TestStore(t *testing.T, open func(t *testing.T) state.Store, again func(t *testing.T) state.Store) {
	for name, test := range map[string]func(*testing.T, state.Store, state.Store){
		"versions": versions, "conflicts": conflicts, "sets are whole": wholeSets, "any bytes": anyBytes, "lists": lists,
		"what may be deleted": sweeping, "one counter, many hands": counting, "a reading is of one time": oneTime, "the clock is read first": clockFirst, "a context that is done": done,
	} {
		t.Run(name, func(t *testing.T) {
			store := open(t)
			test(t, store, again(t))
		})
	}
	t.Run("consents", func(t *testing.T) {
		consenttest.TestStore(t, func(t *testing.T) consent.Store { return open(t) })
	})
}

func read(t *testing.T, s state.Store, keys ...state.Key) []state.Item {
	t.Helper()
	r, err := s.Read(t.Context(), keys)
	require.NoError(t, err)
	require.Len(t, r.Items, len(keys))
	require.WithinDuration(t, time.Now(), r.At, time.Minute)
	return r.Items
}

func write(t *testing.T, s state.Store, changes ...state.Change) {
	t.Helper()
	require.NoError(t, s.Write(t.Context(), changes)[0])
}

func key(kind state.Kind, owner, id string) state.Key {
	return state.Key{Kind: kind, Owner: owner, ID: id}
}

func versions(t *testing.T, s, other state.Store) {
	k, l := key(state.Marks, "ann", ""), key(state.Marks, "bob", "")
	require.Equal(t, []state.Item{{}, {}}, read(t, s, k, l))
	write(t, s, state.Change{Key: k, Value: []byte("1")})
	first := read(t, other, l, k, k)
	require.Zero(t, first[0].Version)
	require.Equal(t, first[1], first[2], "asked twice")
	require.Equal(t, "1", string(first[1].Value))

	known := k
	known.Known = first[1].Version
	require.Equal(t, []state.Item{{Version: first[1].Version}}, read(t, s, known), "what is known is left out")
	write(t, other, state.Change{Key: k, If: first[1].Version, Value: []byte{}})
	second := read(t, s, known)[0]
	require.NotEqual(t, first[1].Version, second.Version)
	require.NotNil(t, second.Value, "empty is a value")
	require.Empty(t, second.Value)

	write(t, s, state.Change{Key: k, If: second.Version})
	require.Zero(t, read(t, other, known)[0].Version)
	write(t, s, state.Change{Key: k, Value: []byte("3")})
	third := read(t, s, known)[0]
	require.NotContains(t, []int64{0, first[1].Version, second.Version}, third.Version, "versions do not come again")
}

func conflicts(t *testing.T, s, other state.Store) {
	k := key(state.Person, "ann", "")
	write(t, s, state.Change{Key: k, Value: []byte("1")})
	v := read(t, s, k)[0].Version
	write(t, other, state.Change{Key: k, If: v, Value: []byte("2")})
	for name, c := range map[string]state.Change{
		"another version": {Key: k, If: v, Value: []byte("3")}, "there is one": {Key: k, Value: []byte("3")}, "deleting": {Key: k, If: v},
		"there is none": {Key: key(state.Person, "bob", ""), If: v, Value: []byte("3")}, "deleting none": {Key: key(state.Person, "bob", ""), If: v},
	} {
		require.ErrorIs(t, s.Write(t.Context(), []state.Change{c})[0], state.ErrConflict, name)
	}
	require.Equal(t, "2", string(read(t, s, k)[0].Value))
	require.Zero(t, read(t, s, key(state.Person, "bob", ""))[0].Version)
}

func wholeSets(t *testing.T, s, other state.Store) {
	a, b, c := key(state.User, "a", ""), key(state.User, "b", ""), key(state.Group, "c", "")
	write(t, s, state.Change{Key: a, Value: []byte("1")})
	set := func(changes ...state.Change) []state.Change { return changes }
	errs := s.Write(t.Context(),
		set(state.Change{Key: b, Value: []byte("1")}, state.Change{Key: a, Value: []byte("2")}), // a is there
		set(state.Change{Key: c, Value: []byte("1")}),
		set(state.Change{Key: c, Value: []byte("2")}, state.Change{Key: b, Value: []byte("2")}), // c is there now
		set())
	require.Len(t, errs, 4)
	require.ErrorIs(t, errs[0], state.ErrConflict)
	require.NoError(t, errs[1])
	require.ErrorIs(t, errs[2], state.ErrConflict)
	require.NoError(t, errs[3])
	items := read(t, other, a, b, c)
	require.Equal(t, []string{"1", "", "1"}, []string{string(items[0].Value), string(items[1].Value), string(items[2].Value)})
	require.Zero(t, items[1].Version)
	require.Empty(t, s.Write(t.Context()))
}

// odd are names that a store could take for others, or in another order.
var odd = []string{"", " ", "B", "a", "a ", "b", "\u00e9", "e\u0301", "ÿ", "'; --", "%", "_", "\x00", "a\x00b", "\xff\xfe", "🂡", strings.Repeat("x", 4096)}

func anyBytes(t *testing.T, s, _ state.Store) {
	var sets [][]state.Change
	var keys []state.Key
	for _, owner := range odd {
		for _, id := range odd {
			k := key(state.Session, owner, id)
			keys = append(keys, k)
			sets = append(sets, []state.Change{{Key: k, Value: []byte(owner + "|" + id)}})
		}
	}
	for _, err := range s.Write(t.Context(), sets...) {
		require.NoError(t, err)
	}
	for i, item := range read(t, s, keys...) {
		require.Equal(t, keys[i].Owner+"|"+keys[i].ID, string(item.Value))
	}
}

func lists(t *testing.T, s, other state.Store) {
	var sets [][]state.Change
	for _, owner := range odd {
		sets = append(sets, []state.Change{{Key: key(state.User, owner, ""), Value: []byte(owner)}, {Key: key(state.Person, owner, ""), Value: []byte("no")}})
	}
	for i := range 1500 {
		sets = append(sets, []state.Change{{Key: key(state.Group, fmt.Sprintf("g%04d", i), ""), Value: []byte("g")}})
	}
	for _, err := range s.Write(t.Context(), sets...) {
		require.NoError(t, err)
	}
	list := func(kind state.Kind, after string, most int) (owners []string) {
		for l, err := range other.List(t.Context(), key(kind, after, "")) {
			require.NoError(t, err)
			require.Equal(t, kind, l.Kind)
			require.NotZero(t, l.Version)
			if owners = append(owners, l.Owner); len(owners) == most {
				break
			}
		}
		return owners
	}
	want := slices.Sorted(slices.Values(odd))
	require.Equal(t, want[1:], list(state.User, "", -1), "those after the empty one, in the order of bytes")
	require.Equal(t, want[slices.Index(want, "a")+1:], list(state.User, "a", -1))
	require.Len(t, list(state.Group, "", -1), 1500)
	require.Equal(t, []string{"g0701", "g0702"}, list(state.Group, "g0700", 2))
	require.Empty(t, list(state.UserName, "", -1))

	for _, id := range []string{"3", "1", "2"} {
		write(t, s, state.Change{Key: key(state.Member, "g", id), Value: []byte("m")}, state.Change{Key: key(state.Member, "h", id), Value: []byte("m")})
	}
	var members []string
	for l, err := range other.List(t.Context(), key(state.Member, "g", "1")) {
		require.NoError(t, err)
		members = append(members, l.Owner+l.ID)
	}
	require.Equal(t, []string{"g2", "g3", "h1", "h2", "h3"}, members)
}

func sweeping(t *testing.T, s, _ state.Store) {
	now := time.Now()
	for i := range 10 {
		write(t, s, state.Change{Key: key(state.Ended, "ann", fmt.Sprint(i)), Value: []byte("x"), Expires: now.Add(time.Duration(i) * time.Hour)})
	}
	write(t, s, state.Change{Key: key(state.Ended, "ann", "ever"), Value: []byte("x")})
	sweep := func(by time.Time, most int) int {
		n, err := s.Sweep(t.Context(), by, most)
		require.NoError(t, err)
		return n
	}
	require.Equal(t, 2, sweep(now.Add(5*time.Hour), 2))
	require.Equal(t, 4, sweep(now.Add(5*time.Hour), 100), "up to that time, itself included")
	require.Zero(t, sweep(now.Add(5*time.Hour), 100))
	items := read(t, s, key(state.Ended, "ann", "5"), key(state.Ended, "ann", "6"), key(state.Ended, "ann", "ever"))
	require.Zero(t, items[0].Version)
	require.NotZero(t, items[1].Version)
	require.NotZero(t, items[2].Version)
}

// counting has many count in one item at once, each trying until it is first.
func counting(t *testing.T, s, other state.Store) {
	k := key(state.Service, "", "")
	const hands, each = 8, 20
	var all sync.WaitGroup
	for hand := range hands {
		store := []state.Store{s, other}[hand%2]
		all.Go(func() {
			for done := 0; done < each; {
				r, err := store.Read(t.Context(), []state.Key{k})
				if err != nil {
					t.Error(err)
					return
				}
				value := append(slices.Clone(r.Items[0].Value), 'x')
				switch err := store.Write(t.Context(), []state.Change{{Key: k, If: r.Items[0].Version, Value: value}})[0]; err {
				case nil:
					done++
				case state.ErrConflict:
				default:
					t.Error(err)
					return
				}
			}
		})
	}
	all.Wait()
	require.Len(t, read(t, s, k)[0].Value, hands*each)
}

// oneTime changes two items together, over and over, while somebody reads both.
func oneTime(t *testing.T, s, other state.Store) {
	a, b := key(state.Marks, "ann", ""), key(state.Ended, "ann", "x")
	stop := make(chan struct{})
	var writer sync.WaitGroup
	writer.Go(func() {
		for i := 0; ; i++ {
			select {
			case <-stop:
				return
			default:
			}
			r, err := s.Read(t.Context(), []state.Key{a, b})
			if err == nil {
				value := []byte(fmt.Sprint(i))
				err = s.Write(t.Context(), []state.Change{{Key: a, If: r.Items[0].Version, Value: value}, {Key: b, If: r.Items[1].Version, Value: value}})[0]
			}
			if err != nil {
				t.Error(err)
				return
			}
		}
	})
	for range 300 {
		items := read(t, other, b, a)
		require.Equal(t, string(items[0].Value), string(items[1].Value))
	}
	close(stop)
	writer.Wait()
}

// clockFirst has one write without pause while others read: a reading holds what was acknowledged before its time. The clocks of
// store and test are one machine's.
func clockFirst(t *testing.T, s, other state.Store) {
	k := key(state.Marks, "ann", "")
	type ack struct {
		value string
		at    time.Time
	}
	var mu sync.Mutex
	var acks []ack
	stop := make(chan struct{})
	var hands sync.WaitGroup
	hands.Go(func() {
		for i := 0; ; i++ {
			select {
			case <-stop:
				return
			default:
			}
			r, err := s.Read(t.Context(), []state.Key{k})
			if err == nil {
				err = s.Write(t.Context(), []state.Change{{Key: k, If: r.Items[0].Version, Value: fmt.Appendf(nil, "%09d", i)}})[0]
			}
			if err != nil {
				t.Error(err)
				return
			}
			mu.Lock()
			acks = append(acks, ack{fmt.Sprintf("%09d", i), time.Now()})
			mu.Unlock()
		}
	})
	var readers sync.WaitGroup
	for reader := range 4 {
		readers.Go(func() {
			for range 500 {
				r, err := []state.Store{s, other}[reader%2].Read(t.Context(), []state.Key{k})
				if err != nil {
					t.Error(err)
					return
				}
				mu.Lock()
				for i := len(acks) - 1; i >= 0 && acks[i].value > string(r.Items[0].Value); i-- {
					if acks[i].at.Before(r.At.Add(-time.Microsecond)) {
						t.Errorf("the reading of %v has not what was acknowledged %v before", r.At, r.At.Sub(acks[i].at))
					}
				}
				mu.Unlock()
			}
		})
	}
	readers.Wait()
	close(stop)
	hands.Wait()
}

func done(t *testing.T, s, _ state.Store) {
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	_, err := s.Read(ctx, []state.Key{key(state.Marks, "ann", "")})
	require.ErrorIs(t, err, context.Canceled)
	require.ErrorIs(t, s.Write(ctx, []state.Change{{Key: key(state.Marks, "ann", ""), Value: []byte("1")}})[0], context.Canceled)
	require.Zero(t, read(t, s, key(state.Marks, "ann", ""))[0].Version)
}
