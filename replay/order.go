package replay

// The next two stages of a replay: entries are put in the order of their times, and shared out by user.

import "slices"

// Late is how many lines later than where its time belongs a line may stand, and still be
// decided in its place.
const Late = 10_000

// orderer puts entries in the order of their times, and keeps back those that a later line may come before.
type orderer struct {
	window  int      // how many are kept back
	waiting []queued // by time
	bad     []BadLine
	badAll  int
	read    map[string]bool // whether some line could be read, of each log that has any
}

// add lines up the entries of blocks.
func (o *orderer) add(blocks []*block) {
	sorted := true
	for _, b := range blocks {
		n := len(o.waiting)
		o.waiting = append(o.waiting, b.queue...)
		sorted = sorted && b.sorted && slices.IsSortedFunc(o.waiting[max(0, n-1):min(n+1, len(o.waiting))], byTime)
		if len(b.queue)+len(b.bad) > 0 {
			o.read[b.file] = o.read[b.file] || len(b.queue) > 0
		}
		o.badAll += len(b.bad)
		o.bad = append(o.bad, b.bad[:min(len(b.bad), max(0, MostBad-len(o.bad)))]...)
	}
	if !sorted {
		slices.SortStableFunc(o.waiting, byTime)
	}
}

// ready are the entries that no later line can come before; at the end, all that are left.
func (o *orderer) ready(last bool) []queued {
	if last {
		return o.waiting
	}
	return o.waiting[:max(0, len(o.waiting)-o.window)]
}

// forget takes the first entries out.
func (o *orderer) forget(n int) { o.waiting = o.waiting[:copy(o.waiting, o.waiting[n:])] }

// unread are the logs that have lines, none of which could be read.
func (o *orderer) unread() (names []string) {
	for name, some := range o.read {
		if !some {
			names = append(names, name)
		}
	}
	slices.Sort(names)
	return names
}

// partitioner shares entries out, all of a user in one partition and in their order.
type partitioner struct {
	parts   int
	entries []*entry
}

// partitionsEach is how many partitions there are for each worker: enough that the last one to be
// free has little left to do.
const partitionsEach = 16

// split gives the partitions, in each one user mostly after the other, so that what is known of a
// user is at hand. They are good until the next split.
func (p *partitioner) split(ready []queued) (parts [][]*entry) {
	const users = 64 // of a partition, should all be of use
	n := uint64(users * p.parts)
	next := make([]int, n+1)
	for i := range ready {
		next[ready[i].user%n+1]++
	}
	for i := range n {
		next[i+1] += next[i]
	}
	p.entries = slices.Grow(p.entries[:0], len(ready))[:len(ready)]
	for i := range p.parts {
		parts = append(parts, p.entries[next[i*users]:next[(i+1)*users]])
	}
	for i := range ready {
		at := &next[ready[i].user%n]
		p.entries[*at] = ready[i].entry
		*at++
	}
	return parts
}
