package schedule

// When a schedule may open or close.

import "time"

// Turns lists the instants, from the first one on and before the second, at which the schedule may open
// or close: between two of them it does neither. The list is in no order.
func (s *Schedule) Turns(from, until time.Time) (list []time.Time) {
	add := func(at int64) {
		if t := time.Unix(at, 0); !t.Before(from) && t.Before(until) {
			list = append(list, t)
		}
	}
	minutes := map[int]bool{0: true}
	for _, w := range s.Windows {
		minutes[w.Start], minutes[w.End%(24*60)] = true, true
	}
	const day = 24 * 3600
	for at, end := from.Unix(), until.Unix()+1; at < end; {
		o := s.Wall.offsetAt(time.Unix(at, 0))
		first, last := max(o.from, from.Unix()), min(o.to, end)
		add(first)
		for midnight := floorTo(first+o.ahead, day); midnight-o.ahead < last; midnight += day {
			for m := range minutes {
				if turn := midnight + int64(m)*60 - o.ahead; turn >= first && turn < last {
					add(turn)
				}
			}
		}
		at = last
	}
	for _, c := range s.Calendars {
		for _, busy := range c.busy {
			add(busy.start)
			add(busy.end)
		}
	}
	add(Horizon.Unix())
	return list
}

// floorTo is the multiple of a unit that is at or before n.
func floorTo(n, unit int64) int64 {
	rest := n % unit
	if rest < 0 {
		rest += unit
	}
	return n - rest
}
