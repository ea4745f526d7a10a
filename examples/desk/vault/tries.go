package vault

// How often somebody may guess. Only what is wrong counts, and a key is never guessed: who has a passkey always gets through.

import (
	"net/netip"
	"time"

	"golang.org/x/time/rate"
)

// Try says who proves something, and from where. The zero address is one of its own.
type Try struct {
	User string
	From netip.Addr
}

// limit is how many wrong tries there may be at once, and how long until there may be one more.
type limit struct {
	burst int
	every time.Duration
}

// The limits, with the wrong tries that they leave on the first day. A person at an address from which she has signed on lately
// is held up by what is tried from there alone: nobody elsewhere makes her wait.
var (
	ofPair     = limit{10, 30 * time.Second} // one person from one address: 2,890
	ofStranger = limit{20, time.Minute}      // one person from all addresses from which she has not signed on lately: 1,460
	ofAddress  = limit{100, 5 * time.Second} // all people from one address: 17,380
)

const (
	familiarFor = 30 * 24 * time.Hour // after she has signed on from an address
	mostTries   = 100_000             // limits that are kept
)

// tried is what a limit holds: of a person, an address, or both.
type tried struct {
	user string
	from netip.Prefix
}

// tries keeps what was wrong lately.
type tries struct {
	limits   map[tried]*rate.Limiter
	familiar map[tried]time.Time
}

// network is where an address counts: of IPv6, a network of 64 bits is one home.
func network(a netip.Addr) netip.Prefix {
	a = a.Unmap().WithZone("")
	bits := a.BitLen()
	if a.Is6() {
		bits = 64
	}
	p, err := a.Prefix(bits)
	if err != nil { // the zero address has none
		return netip.Prefix{}
	}
	return p
}

// begin takes a place for a try, in each limit that it falls under; false is that there is none. Whether it was right is told
// afterwards.
func (t *tries) begin(try Try, now time.Time) (end func(right bool), may bool) {
	pair := tried{try.User, network(try.From)}
	if now.Sub(t.familiar[pair]) > familiarFor {
		delete(t.familiar, pair)
	}
	under := map[tried]limit{pair: ofPair, {from: pair.from}: ofAddress}
	if _, known := t.familiar[pair]; !known {
		under[tried{user: try.User}] = ofStranger
	}
	var taken []*rate.Reservation
	free := func() {
		for _, r := range taken {
			r.CancelAt(now)
		}
	}
	for key, l := range under {
		r := t.of(key, l, now).ReserveN(now, 1)
		taken = append(taken, r)
		if r.DelayFrom(now) > 0 {
			free()
			return nil, false
		}
	}
	return func(right bool) {
		if right {
			free()
			t.familiar[pair] = now
		}
	}, true
}

func (t *tries) of(key tried, l limit, now time.Time) *rate.Limiter {
	if t.limits == nil {
		t.limits, t.familiar = map[tried]*rate.Limiter{}, map[tried]time.Time{}
	}
	if t.limits[key] == nil {
		if len(t.limits) >= mostTries {
			t.forget(now)
		}
		t.limits[key] = rate.NewLimiter(rate.Every(l.every), l.burst)
	}
	return t.limits[key]
}

// forget forgets the limits that hold nobody up; where all do, some.
func (t *tries) forget(now time.Time) {
	for key, l := range t.limits {
		if l.TokensAt(now) >= float64(l.Burst()) {
			delete(t.limits, key)
		}
	}
	for key := range t.limits {
		if len(t.limits) < mostTries/2 {
			break
		}
		delete(t.limits, key)
	}
}
