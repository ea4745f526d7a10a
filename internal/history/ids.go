package history

// ids are hashes of what was learned last: two tables, of which the older goes when the newer is
// full. The zero value is empty.
type ids struct{ newer, older table }

// add adds an id, and reports whether it was not there.
func (s *ids) add(id uint64) bool {
	if s.older.has(id) || !s.newer.add(id) {
		return false
	}
	if s.newer.count == idsOfShard {
		s.newer, s.older = table{buckets: make([]uint64, len(s.newer.buckets))}, s.newer
	}
	return true
}

func (s *ids) has(id uint64) bool { return s.newer.has(id) || s.older.has(id) }

// table is a hash table of hashes, each in the first bucket that was free from its own on. Half of them stay free.
type table struct {
	buckets []uint64 // as many as a power of two; 0 is free
	count   int
}

// bucket is that of an id, or the free one where it belongs.
func (t *table) bucket(id uint64) *uint64 {
	last := uint64(len(t.buckets) - 1)
	for i := id >> shardBits & last; ; i = (i + 1) & last { // the lowest bits are the same within a shard
		if s := &t.buckets[i]; *s == id || *s == 0 {
			return s
		}
	}
}

func (t *table) has(id uint64) bool {
	return len(t.buckets) > 0 && *t.bucket(max(1, id)) != 0
}

func (t *table) add(id uint64) bool {
	id = max(1, id)
	if 2*t.count >= len(t.buckets) {
		t.grow()
	}
	s := t.bucket(id)
	if *s != 0 {
		return false
	}
	*s = id
	t.count++
	return true
}

func (t *table) grow() {
	old := t.buckets
	t.buckets = make([]uint64, max(64, 2*len(old)))
	for _, id := range old {
		if id != 0 {
			*t.bucket(id) = id
		}
	}
}
