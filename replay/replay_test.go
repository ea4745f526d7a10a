package replay_test

import (
	"bytes"
	"compress/gzip"
	"flag"
	"fmt"
	"io"
	"io/fs"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"
	"testing"
	"testing/fstest"
	"time"

	"github.com/go-json-experiment/json"
	"github.com/stretchr/testify/require"

	"briskwarden.example/briskwarden"
	"briskwarden.example/briskwarden/demo"
	"briskwarden.example/briskwarden/internal/bridge"
	"briskwarden.example/briskwarden/internal/history"
	"briskwarden.example/briskwarden/replay"
	"briskwarden.example/briskwarden/signon"
)

var (
	benchLines = flag.Int("bench.lines", 50_000, "how many sign-ons BenchmarkReplayBesideDecoding replays")
	benchKeep  = flag.String("bench.keep", "", "a file into which BenchmarkReplayBesideDecoding puts its log")
)

// demoLogs are the demo's weeks of sign-ons, by name.
func demoLogs(t testing.TB) (names []string, texts map[string]string) {
	names, err := fs.Glob(demo.SkerryLine(), "signons/*.gz")
	require.NoError(t, err)
	texts = map[string]string{}
	for _, name := range names {
		data, err := fs.ReadFile(demo.SkerryLine(), name)
		require.NoError(t, err)
		z, err := gzip.NewReader(bytes.NewReader(data))
		require.NoError(t, err)
		text, err := io.ReadAll(z)
		require.NoError(t, err)
		texts[name] = string(text)
	}
	return names, texts
}

func skerry(t testing.TB) *briskwarden.Rulebook { return open(t, demo.SkerryLine()) }

func open(t testing.TB, fsys fs.FS) *briskwarden.Rulebook {
	rules, err := briskwarden.OpenFS(fsys)
	require.NoError(t, err)
	return rules
}

func run(t testing.TB, rules *briskwarden.Rulebook, o replay.Options, logs ...replay.Log) *replay.Summary {
	s, err := replay.Run(t.Context(), rules, logs, o)
	require.NoError(t, err)
	return s
}

// plain leaves out what is not a count.
func plain(s *replay.Summary) string {
	var b strings.Builder
	for _, rows := range [][]replay.Row{replay.Rows(s.Apps), replay.Rows(s.Countries), replay.Rows(s.Forms), s.DayRows(), replay.Rows(s.Grounds), s.NetworkRows()} {
		fmt.Fprintln(&b, rows)
	}
	for o := range signon.Outcome(4) {
		cases, _ := s.Reasons(o)
		for _, c := range cases {
			fmt.Fprintln(&b, o, c.Policy, c.Label, c.Taken, c.Decided, c.Open)
		}
	}
	for _, p := range s.PolicyRows() {
		fmt.Fprintln(&b, p.Policy, p.Outcomes, len(p.Cases))
	}
	for _, w := range s.Watched {
		if w.Policy == "rosters-in-port" {
			fmt.Fprintln(&b, w.Policy, w.Applied, w.Block, w.StepUp, w.Already)
		}
	}
	fmt.Fprintln(&b, s.Outcomes, s.Recorded, s.Hours, s.First, s.Last, s.Affected(), s.BadLines, s.Bad)
	return b.String()
}

// TestReplayIsTheSameHoweverItIsRun replays the demo's log with several workers, with the weeks named
// in another order, with lines that stand too late, and line by line through the engine.
func TestReplayIsTheSameHoweverItIsRun(t *testing.T) {
	rb := skerry(t)
	names, texts := demoLogs(t)
	logs := func(names ...string) (list []replay.Log) {
		for _, n := range names {
			list = append(list, replay.Log{Name: n, In: strings.NewReader(texts[n])})
		}
		return list
	}
	var first bytes.Buffer
	want := run(t, rb, replay.Options{Workers: 1, Decisions: &first}, logs(names...)...)
	require.Equal(t, 2998, want.Outcomes.All())
	backward := slices.Clone(names)
	slices.Reverse(backward)
	for name, o := range map[string]struct {
		workers int
		logs    []replay.Log
	}{"two": {2, logs(names...)}, "seven": {7, logs(names...)}, "backward": {3, logs(backward...)}} {
		var out bytes.Buffer
		got := run(t, rb, replay.Options{Workers: o.workers, Decisions: &out}, o.logs...)
		require.Equal(t, plain(want), plain(got), name)
		require.True(t, bytes.Equal(first.Bytes(), out.Bytes()), "%s: the decisions are the same", name)
	}

	all := ""
	for _, n := range names {
		all += texts[n]
	}
	e, past := bridge.Engine(rb).Learning()
	var counts replay.Outcomes
	var hours [7][24]int
	for line := range strings.Lines(all) {
		l, err := signon.DecodeLogged([]byte(line))
		require.NoError(t, err)
		var d signon.Decision
		require.NoError(t, e.Decide(t.Context(), &l.SignOn, &d, false))
		counts[d.Outcome]++
		local := l.Time.In(rb.Zone())
		hours[(local.Weekday()+6)%7][local.Hour()]++
		if l.Outcome == signon.Grant {
			before, err := e.Query(t.Context(), &l.SignOn)
			require.NoError(t, err)
			past.Learn(&history.SignOn{Query: before, ID: l.ID})
		}
	}
	require.Equal(t, counts, want.Outcomes, "line by line")
	for day := range hours {
		for hour, n := range hours[day] {
			require.Equal(t, n, want.Hours[day][hour].All(), "day %d of the week, %d o'clock", day, hour)
		}
	}

	shuffled := strings.SplitAfter(all, "\n")
	for i := 0; i+40 < len(shuffled); i += 40 { // each stands at most 40 lines late
		slices.Reverse(shuffled[i : i+40])
	}
	late := run(t, rb, replay.Options{}, replay.Log{Name: "late", In: strings.NewReader(strings.Join(shuffled, ""))})
	require.Equal(t, plain(want), plain(late))
}

func TestReplayCountsWhatIsAskedFor(t *testing.T) {
	rb := skerry(t)
	names, texts := demoLogs(t)
	var lines []signon.Logged
	all := ""
	for _, n := range names {
		all += texts[n]
	}
	for line := range strings.Lines(all) {
		l, err := signon.DecodeLogged([]byte(line))
		require.NoError(t, err)
		lines = append(lines, l)
	}
	inside := bridge.Engine(rb).Rulebook()
	finance, _ := inside.Groups.Lookup("finance")
	from, to := time.Date(2026, 11, 3, 0, 0, 0, 0, rb.Zone()), time.Date(2026, 11, 5, 0, 0, 0, 0, rb.Zone())
	for name, c := range map[string]struct {
		o    replay.Options
		asks func(l signon.Logged) bool
	}{
		"user":  {replay.Options{User: "ylva.fjell"}, func(l signon.Logged) bool { return l.User == "ylva.fjell" }},
		"app":   {replay.Options{App: "payroll"}, func(l signon.Logged) bool { return l.App == "payroll" }},
		"group": {replay.Options{Group: "finance"}, func(l signon.Logged) bool { return inside.People[l.User].In(finance) }},
		"days":  {replay.Options{From: from, To: to}, func(l signon.Logged) bool { return !l.Time.Before(from) && l.Time.Before(to) }},
	} {
		n := 0
		for _, l := range lines {
			if c.asks(l) {
				n++
			}
		}
		got := run(t, rb, c.o, replay.Log{Name: "all", In: strings.NewReader(all)})
		require.Equal(t, n, got.Outcomes.All(), name)
		require.Positive(t, n)
	}
	blocks := run(t, rb, replay.Options{Outcome: "block"}, replay.Log{Name: "all", In: strings.NewReader(all)})
	every := run(t, rb, replay.Options{}, replay.Log{Name: "all", In: strings.NewReader(all)})
	require.Equal(t, replay.Outcomes{signon.Block: every.Outcomes[signon.Block]}, blocks.Outcomes)
}

// TestWatchedPoliciesAreCounted compares what is told of a policy on watch with enforcing it.
func TestWatchedPoliciesAreCounted(t *testing.T) {
	names, texts := demoLogs(t)
	rb := skerry(t)
	enforced := open(t, overlay{demo.SkerryLine(), "policies/crews.warden", "  stage enforce from 2027-01-11\n", ""})
	log := func() replay.Log {
		all := ""
		for _, n := range names {
			all += texts[n]
		}
		return replay.Log{Name: "all", In: strings.NewReader(all)}
	}
	watched, real := run(t, rb, replay.Options{}, log()), run(t, enforced, replay.Options{}, log())
	more := 0
	for _, w := range watched.Watched {
		if w.Policy == "rosters-in-port" {
			for _, n := range w.Block {
				more += n
			}
			require.Empty(t, w.StepUp)
		}
	}
	require.Positive(t, more)
	require.Equal(t, watched.Outcomes[signon.Block]+more, real.Outcomes[signon.Block])
}

// overlay replaces a text in one file.
type overlay struct {
	fs.FS
	file, old, new string
}

func (o overlay) ReadFile(name string) ([]byte, error) {
	data, err := fs.ReadFile(o.FS, name)
	if name == o.file {
		data = bytes.Replace(data, []byte(o.old), []byte(o.new), 1)
	}
	return data, err
}

func TestLogsThatCannotBeRead(t *testing.T) {
	rb := skerry(t)
	_, texts := demoLogs(t)
	good := texts["signons/2026-w44.jsonl.gz"]
	try := func(in io.Reader) (*replay.Summary, error) {
		return replay.Run(t.Context(), rb, []replay.Log{{Name: "x.jsonl", In: in}}, replay.Options{})
	}
	for want, in := range map[string]io.Reader{
		"x.jsonl: the file is UTF-16":            strings.NewReader("\xff\xfe{\x00"),
		"cannot be read on: file already closed": io.MultiReader(strings.NewReader(good), badReader{}),
		"is longer than 16 MiB":                  strings.NewReader(strings.Repeat("x", 40<<20)),
	} {
		_, err := try(in)
		require.ErrorContains(t, err, want)
	}
	s, err := try(strings.NewReader("\ufeff\r\n{}\r\n" + strings.Repeat("nonsense\n", 30) + good))
	require.NoError(t, err)
	require.Equal(t, 31, s.BadLines)
	require.Len(t, s.Bad, replay.MostBad)
	require.Equal(t, replay.BadLine{File: "x.jsonl", Number: 2, Why: "context.time: is missing: a past sign-on says when it was"}, s.Bad[0])
	require.Equal(t, 759, s.Outcomes.All())
}

type badReader struct{}

func (badReader) Read([]byte) (int, error) { return 0, fs.ErrClosed }

// writeLog repeats the demo's log, four weeks later each time.
func writeLog(b *testing.B, name string, lines int) {
	names, texts := demoLogs(b)
	all := ""
	for _, n := range names {
		all += texts[n]
	}
	var list []signon.Logged
	for line := range strings.Lines(all) {
		l, err := signon.DecodeLogged([]byte(line))
		require.NoError(b, err)
		list = append(list, l)
	}
	f, err := os.Create(name)
	require.NoError(b, err)
	defer f.Close()
	var out bytes.Buffer
	for i := range lines {
		l := list[i%len(list)]
		later := time.Duration(i/len(list)) * 28 * 24 * time.Hour
		l.ID, l.Time, l.Session.Started = fmt.Sprintf("s-%07d", i), l.Time.Add(later), l.Session.Started.Add(later)
		l.Evidence = slices.Clone(l.Evidence)
		for j := range l.Evidence {
			l.Evidence[j].Time = l.Evidence[j].Time.Add(later)
		}
		text, err := json.Marshal(l.SignOn)
		require.NoError(b, err)
		out.Write(text[:len(text)-2])
		fmt.Fprintf(&out, `,"outcome":%q,"user_agent":"a browser that says much of itself, as they do","request":"0123456789abcdef-%07d"}}`+"\n", l.Outcome, i)
		if out.Len() > 1<<20 {
			_, err = f.Write(out.Bytes())
			require.NoError(b, err)
			out.Reset()
		}
	}
	_, err = f.Write(out.Bytes())
	require.NoError(b, err)
}

// TestLateLinesAreDecidedInTheirPlace: what a line further down taught was known before.
func TestLateLinesAreDecidedInTheirPlace(t *testing.T) {
	rb := open(t, fstest.MapFS{"rulebook.warden": {Data: []byte(`rulebook r { floor none }
user ann { }
app news { }
policy p { who everyone to app news case "away" when new.country => block otherwise => grant }
`)}})
	line := func(hour int) string {
		return fmt.Sprintf(`{"subject":{"id":"ann"},"resource":{"id":"news"},"context":{"time":"2026-11-18T%02d:00:00Z","country":"NO","outcome":"%s"}}`+"\n",
			hour, []string{"grant", "block"}[min(hour-8, 1)])
	}
	s := run(t, rb, replay.Options{}, replay.Log{Name: "log", In: strings.NewReader(line(10) + line(9) + line(8))})
	require.Equal(t, replay.Outcomes{signon.Block: 1, signon.Grant: 2}, s.Outcomes)
}

// TestPolicyCountsOnce: a decision that two cases of a policy give counts once for the policy.
func TestPolicyCountsOnce(t *testing.T) {
	rb := open(t, fstest.MapFS{"rulebook.warden": {Data: []byte(`rulebook r { floor none }
user ann { }
app news { }
network quay { 192.0.2.0/24 }
policy p { who everyone to app news case "away" when network not in quay => block otherwise => block }
`)}})
	log := `{"subject":{"id":"ann"},"resource":{"id":"news"},"context":{"time":"2026-11-18T09:00:00Z"}}` + "\n"
	s := run(t, rb, replay.Options{}, replay.Log{Name: "log", In: strings.NewReader(strings.Repeat(log, 5))})
	rows := s.PolicyRows()
	require.Len(t, rows, 1)
	require.Len(t, rows[0].Cases, 2, "without an address both cases block")
	require.Equal(t, 5, rows[0].All())
}

// BenchmarkReplayBesideDecoding replays a log in turns with only decoding its lines with the
// JSON library, on the same processors, and with jq, where that is installed, which looks for
// one field of them. Of each the fastest turn counts.
func BenchmarkReplayBesideDecoding(b *testing.B) {
	name := filepath.Join(b.TempDir(), "log.jsonl")
	if *benchKeep != "" {
		name = *benchKeep
	}
	writeLog(b, name, *benchLines)
	rb := skerry(b)
	fastest := map[string]time.Duration{}
	clock := func(what string, work func(*os.File)) {
		f, err := os.Open(name)
		require.NoError(b, err)
		defer f.Close()
		runtime.GC()
		start := time.Now()
		work(f)
		took := time.Since(start)
		if best, ran := fastest[what]; !ran || took < best {
			fastest[what] = took
		}
	}
	jq, _ := exec.LookPath("jq")
	for b.Loop() {
		clock("decoding", func(f *os.File) { decodeAll(b, f) })
		clock("replay", func(f *os.File) {
			require.Equal(b, *benchLines, run(b, rb, replay.Options{}, replay.Log{Name: name, In: f}).Outcomes.All())
		})
		if jq != "" {
			clock("jq", func(f *os.File) {
				c := exec.Command(jq, "-c", ".context.ip")
				c.Stdin = f
				require.NoError(b, c.Run())
			})
		}
	}
	var m runtime.MemStats
	runtime.ReadMemStats(&m)
	replaying := fastest["replay"].Seconds()
	b.ReportMetric(replaying/fastest["decoding"].Seconds(), "×decoding")
	if jq != "" {
		b.ReportMetric(fastest["jq"].Seconds()/replaying, "×faster-than-jq")
		b.ReportMetric(fastest["jq"].Seconds()/fastest["decoding"].Seconds(), "×decoding-faster-than-jq")
	}
	b.ReportMetric(float64(*benchLines)/replaying, "sign-ons/s")
	b.ReportMetric(float64(m.Sys)/(1<<20), "MiB-from-system")
}

// logLine is a line of a log as a program would take it in.
type logLine struct {
	Subject struct {
		Type string `json:"type"`
		ID   string `json:"id"`
	} `json:"subject"`
	Resource struct {
		Type string `json:"type"`
		ID   string `json:"id"`
	} `json:"resource"`
	Context struct {
		ID      string     `json:"id"`
		Time    time.Time  `json:"time"`
		IP      netip.Addr `json:"ip"`
		Country string     `json:"country"`
		Client  string     `json:"client"`
		Device  *struct {
			ID      string `json:"id"`
			OS      string `json:"os"`
			Version string `json:"version"`
			Form    string `json:"form"`
			Managed *bool  `json:"managed"`
		} `json:"device"`
		Session struct {
			ID      string    `json:"id"`
			Started time.Time `json:"started"`
		} `json:"session"`
		Presented []string `json:"presented"`
		Evidence  []struct {
			Method  string    `json:"method"`
			Time    time.Time `json:"time"`
			Session string    `json:"session"`
			Device  string    `json:"device"`
			App     string    `json:"app"`
		} `json:"evidence"`
		Outcome string `json:"outcome"`
	} `json:"context"`
}

// decodeAll decodes the lines of a log with the JSON library, and does nothing with them.
func decodeAll(b *testing.B, in io.Reader) {
	blocks := make(chan []byte, 8)
	var wg sync.WaitGroup
	for range runtime.GOMAXPROCS(0) {
		wg.Go(func() {
			for block := range blocks {
				for line := range bytes.Lines(block) {
					var l logLine
					if err := json.Unmarshal(line, &l); err != nil {
						b.Error(err)
					}
				}
			}
		})
	}
	var rest []byte
	for {
		block := make([]byte, 256<<10)
		n, err := io.ReadFull(in, block[copy(block, rest):])
		block = block[:len(rest)+n]
		cut := bytes.LastIndexByte(block, '\n') + 1
		rest = block[cut:]
		blocks <- block[:cut]
		if err != nil {
			break
		}
	}
	close(blocks)
	wg.Wait()
}

// TestWindowsAndBlocks replays logs of which lines stand late by as much as the window, and by
// more, in blocks that hold a few lines each and serve again at once.
func TestWindowsAndBlocks(t *testing.T) {
	rb := skerry(t)
	names, texts := demoLogs(t)
	var lines []string
	for _, name := range names {
		lines = append(lines, slices.Collect(strings.Lines(texts[name]))...)
	}
	replayed := func(lines []string, o replay.Options) (string, string) {
		var out bytes.Buffer
		o.Decisions = &out
		s := run(t, rb, o, replay.Log{Name: "log", In: strings.NewReader(strings.Join(lines, ""))})
		return plain(s), out.String()
	}
	at := func(line string) time.Time {
		l, err := signon.DecodeLogged([]byte(line))
		require.NoError(t, err)
		return l.Time
	}
	wantCounts, wantDecisions := replayed(lines, replay.Options{Workers: 1})
	for _, window := range []int{7, 512} {
		for _, block := range []int{512, 4096, 100_000} {
			late := slices.Clone(lines)
			for i := 3; i+window < len(late); i += window + 20 { // as late as may be
				for !at(late[i]).Before(at(late[i+1])) { // so that its place is plain
					i++
				}
				line := late[i]
				late = slices.Insert(slices.Delete(late, i, i+1), i+window, line)
			}
			counts, decisions := replayed(late, replay.Options{Workers: 2, Window: window, BlockSize: block})
			require.Equal(t, wantCounts, counts, "window %d, blocks of %d", window, block)
			require.True(t, wantDecisions == decisions, "window %d, blocks of %d", window, block)
		}
		later := slices.Clone(lines)
		line := later[3]
		later = slices.Insert(slices.Delete(later, 3, 4), len(later)/2, line)
		_, decisions := replayed(later, replay.Options{Workers: 2, Window: window, BlockSize: 512})
		require.False(t, wantDecisions == decisions, "a line that stands later than the window is decided where it stands")
	}
}
