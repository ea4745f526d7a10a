package replay

// What is here only because of the processor's caches. Entries were decoded a while ago, so that their
// memory lies far away; BenchmarkReplayBesideDecoding takes about 1.1 times as long without.

// batchSize is how many entries are touched, then decided, then counted, so that each kind of work
// finds its code in the cache.
const batchSize = 32

// prefetcher is a sum of what it touched: kept, or the compiler would leave the touching out.
type prefetcher int

// touch reads something of entries before they are decided, and then of what they point to: all at
// once, so that the processor fetches their memory side by side.
func (l *prefetcher) touch(entries []*entry) {
	n := 0
	for _, t := range entries {
		n += t.Number + len(t.App) + len(t.Country) + len(t.Session.ID) + len(t.Evidence) + len(t.decision)
	}
	for _, t := range entries {
		if t.Device != nil {
			n += len(t.Device.ID) + len(t.Device.Attributes)
		}
		if len(t.Presented) > 0 {
			n += len(t.Presented[0])
		}
		for i := range t.Evidence {
			n += len(t.Evidence[i].Method) + len(t.Evidence[i].App)
		}
		if t.ID != "" {
			n += int(t.ID[0])
		}
	}
	*l += prefetcher(n)
}
