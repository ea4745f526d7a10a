package cli_test

import (
	"bufio"
	"bytes"
	"cmp"
	"flag"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"briskwarden.example/briskwarden/internal/postgrestest"
)

// served is a small rulebook that several nodes serve, openly: whoever the tests provision into crew gets in with a
// password in the session.
const served = `rulebook served { floor none }
user root.key { methods security-key }
group crew { user root.key }
app roster { }
policy roster { who group crew to app roster otherwise => step-up password every session }
`

// node is a running "brisk serve".
type node struct {
	*exec.Cmd
	program             string // empty is this version of brisk
	args                []string
	address, operations atomic.Value // strings
	log                 logBuffer
}

// logBuffer is what a process wrote so far.
type logBuffer struct {
	mu   sync.Mutex
	text bytes.Buffer
}

func (b *logBuffer) Write(p []byte) (int, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.text.Write(p)
}

func (b *logBuffer) String() string {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.text.String()
}

var servedAt = regexp.MustCompile(`serves \S+ at http://(\S+)|operations: http://([^/]+)`)

// startNode starts a node, which is killed when the test ends. Before, if there is something, stands before its call.
func startNode(t *testing.T, before string, args ...string) *node {
	t.Helper()
	n := &node{args: append([]string{"serve", "--open", "--listen", "127.0.0.1:0", "--operations", "127.0.0.1:0"}, args...)}
	n.start(t, before)
	t.Cleanup(n.kill)
	return n
}

func (n *node) start(t *testing.T, before string) {
	t.Helper()
	if n.Cmd = exec.Command(cmp.Or(n.program, "brisk"), n.args...); before != "" {
		n.Cmd = exec.Command("sh", append([]string{"-c", before + `; exec brisk "$@"`, "brisk"}, n.args...)...)
	}
	n.Stderr = &n.log
	out, err := n.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, n.Start())
	address, operations := "", ""
	lines := bufio.NewScanner(out)
	for operations == "" && lines.Scan() {
		if m := servedAt.FindStringSubmatch(lines.Text()); m != nil {
			address, operations = address+m[1], m[2]
		}
	}
	require.NotEmpty(t, operations, "%s", &n.log)
	n.address.Store(address)
	n.operations.Store(operations)
	go func() { _, _ = io.Copy(io.Discard, out) }()
}

func (n *node) kill() {
	_ = n.Process.Kill() // which may be dead already
	_ = n.Wait()
}

var client = &http.Client{Timeout: 15 * time.Second, Transport: &http.Transport{MaxIdleConnsPerHost: 64, DisableKeepAlives: true}}

// send sends a request to a node; a status of 0 is that there was no answer.
func (n *node) send(method, path, body string) (int, string) {
	r, err := http.NewRequest(method, "http://"+n.address.Load().(string)+path, strings.NewReader(body))
	if err != nil {
		return 0, err.Error()
	}
	r.Header.Set("Content-Type", "application/json")
	answer, err := client.Do(r)
	if err != nil {
		return 0, err.Error()
	}
	defer answer.Body.Close()
	text, err := io.ReadAll(answer.Body)
	if err != nil {
		return 0, err.Error()
	}
	return answer.StatusCode, string(text)
}

// decide gives the outcome of a sign-on; empty is that there was no answer.
func (n *node) decide(user, session string, presenting ...string) string {
	presented := ""
	if len(presenting) > 0 {
		presented = fmt.Sprintf(`,"presented":["%s"]`, strings.Join(presenting, `","`))
	}
	status, body := n.send("POST", "/access/v1/evaluation", fmt.Sprintf(`{"subject":{"type":"user","id":%q},"action":{"name":"sign-on"},`+
		`"resource":{"type":"app","id":"roster"},"context":{"session":{"id":%q}%s}}`, user, session, presented))
	if status != http.StatusOK {
		return ""
	}
	return regexp.MustCompile(`"outcome":"([a-z-]+)"`).FindStringSubmatch(body)[1]
}

// ready reports whether a node says that it is.
func (n *node) ready() bool {
	r, err := client.Get("http://" + n.operations.Load().(string) + "/readyz")
	if err != nil {
		return false
	}
	r.Body.Close()
	return r.StatusCode == http.StatusOK
}

func rulesIn(t *testing.T) string {
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "rulebook.warden"), []byte(served), 0o600))
	return dir
}

// provisioned makes a user who may sign on, and reports whether that was acknowledged.
func (n *node) provisioned(user, group string) bool {
	status, body := n.send("POST", "/scim/v2/Users", fmt.Sprintf(`{"schemas":["urn:ietf:params:scim:schemas:core:2.0:User"],"userName":%q,`+
		`"urn:brisk-warden:params:scim:schemas:SignOn":{"methods":["password"]}}`, user))
	if status != http.StatusCreated {
		return false
	}
	id := regexp.MustCompile(`"id":"([0-9a-f]+)"`).FindStringSubmatch(body)[1]
	status, _ = n.send("PATCH", "/scim/v2/Groups/"+group, fmt.Sprintf(`{"schemas":["urn:ietf:params:scim:api:messages:2.0:PatchOp"],`+
		`"Operations":[{"op":"add","path":"members","value":[{"value":%q}]}]}`, id))
	return status == http.StatusNoContent
}

// crew makes the group that may sign on, and gives its id.
func (n *node) crew(t *testing.T) string {
	status, body := n.send("POST", "/scim/v2/Groups", `{"schemas":["urn:ietf:params:scim:schemas:core:2.0:Group"],"displayName":"crew"}`)
	require.Equal(t, http.StatusCreated, status, body)
	return regexp.MustCompile(`"id":"([0-9a-f]+)"`).FindStringSubmatch(body)[1]
}

// watch has some users sign on, be signed off and be provisioned on whichever node answers, over and over, until stop
// is closed, and reports whatever is looser than it may be. It tells how much was acknowledged.
type watch struct {
	*testing.T
	nodes        []*node
	group        string
	ended, known atomic.Int64
	late         atomic.Int64
	mu           sync.Mutex
	people       []string // acknowledged
	sessions     [][2]string
}

func (w *watch) run(users int, stop <-chan struct{}) {
	var all sync.WaitGroup
	for u := range users {
		all.Go(func() {
			for i := 0; ; i++ {
				select {
				case <-stop:
					return
				default:
				}
				w.turn(fmt.Sprintf("u%d-%d", u, i/20), fmt.Sprintf("s%d", i))
			}
		})
	}
	all.Wait()
}

func (w *watch) any() *node { return w.nodes[rand.IntN(len(w.nodes))] }

// turn is what one user does.
func (w *watch) turn(user, session string) {
	if strings.HasSuffix(session, "0") && w.any().provisioned(user, w.group) {
		w.known.Add(1)
		w.mu.Lock()
		w.people = append(w.people, user)
		w.mu.Unlock()
	}
	if got := w.any().decide(user, session+"-unproved"); got == "grant" || got == "review" {
		w.Errorf("%s: granted without any proof", user)
	}
	if w.any().decide(user, session, "password") != "grant" {
		return
	}
	if status, _ := w.any().send("DELETE", "/sessions/v1/"+user+"/"+session, ""); status != http.StatusNoContent {
		return
	}
	w.ended.Add(1)
	for _, n := range w.nodes {
		if got := n.decide(user, session, "password"); got != "block" && got != "" {
			w.late.Add(1)
			w.Errorf("%s in %s: %s after the session was ended", user, session, got)
		}
	}
	w.mu.Lock()
	w.sessions = append(w.sessions, [2]string{user, session})
	w.mu.Unlock()
}

// holds asks, at the end, for everything that was acknowledged.
func (w *watch) holds() {
	w.Helper()
	require.NotEmpty(w, w.sessions)
	require.NotEmpty(w, w.people)
	for i, user := range w.people {
		require.Equal(w, "grant", w.nodes[i%len(w.nodes)].decide(user, "last", "password"), user)
	}
	for i, s := range w.sessions {
		require.Equal(w, "block", w.nodes[i%len(w.nodes)].decide(s[0], s[1], "password"), s)
	}
}

func (w *watch) recover(n *node) {
	w.Helper()
	require.Eventually(w, n.ready, 30*time.Second, 50*time.Millisecond, "%s", &n.log)
}

// endedAtLeast is how many sessions are ended before the nodes of TestNodesTogether are killed.
var endedAtLeast = flag.Int64("nodes.ended", 20, "how many sessions are ended by nodes together, at least")

// TestNodesTogether runs three nodes on one database, kills one of them and the database itself, and goes on.
func TestNodesTogether(t *testing.T) {
	server := postgrestest.Start(t)
	address, rules := server.Database(t), rulesIn(t)
	w := &watch{T: t}
	for range 3 {
		w.nodes = append(w.nodes, startNode(t, "", "-r", rules, "--state", address))
	}
	w.group = w.nodes[0].crew(t)
	stop := make(chan struct{})
	var load sync.WaitGroup
	load.Go(func() { w.run(6, stop) })
	time.Sleep(2 * time.Second)
	require.Eventually(t, func() bool { return w.ended.Load() >= *endedAtLeast }, 10*time.Minute, 50*time.Millisecond)
	quiet := w.ended.Load()

	w.nodes[1].kill()
	time.Sleep(time.Second)
	require.Greater(t, w.ended.Load(), quiet, "the others go on")
	w.nodes[1].start(t, "")

	server.Kill(t)
	for _, n := range w.nodes {
		require.Equal(t, "block", n.decide("root.key", "s", "security-key"), "no emergency account")
		require.False(t, n.ready())
	}
	server.Run(t)
	for _, n := range w.nodes {
		w.recover(n)
	}
	before := w.ended.Load()
	require.Eventually(t, func() bool { return w.ended.Load() > before+10 }, 20*time.Second, 50*time.Millisecond)
	close(stop)
	load.Wait()
	w.holds()
	t.Logf("%d sessions ended and %d people provisioned: none late", w.ended.Load(), w.known.Load())
}

// TestBesideTheReleaseBefore runs the release before and this version on one database, under load, each kind of change on either
// side; and then each alone, forth and back.
func TestBesideTheReleaseBefore(t *testing.T) {
	before := os.Getenv("BRISK_BEFORE")
	if before == "" {
		t.Skip("needs the release before: BRISK_BEFORE names its brisk, which .ci/run builds")
	}
	server := postgrestest.Start(t)
	address, rules := server.Database(t), rulesIn(t)
	old := &node{program: before, args: []string{"serve", "--open", "--listen", "127.0.0.1:0", "--operations", "127.0.0.1:0", "-r", rules, "--state", address}}
	old.start(t, "")
	t.Cleanup(old.kill)
	now := startNode(t, "", "-r", rules, "--state", address)
	w := &watch{T: t, nodes: []*node{old, now}, group: old.crew(t)}
	load := func(during time.Duration) {
		stop := make(chan struct{})
		time.AfterFunc(during, func() { close(stop) })
		w.run(6, stop)
		w.holds()
	}
	load(5 * time.Second)

	require.True(t, now.provisioned("ann", w.group))
	for i := range 40 { // all sessions of a user, ended by one and asked for by the other
		by, other := w.nodes[i%2], w.nodes[1-i%2]
		session, next := fmt.Sprintf("all%d", i), fmt.Sprintf("next%d", i)
		require.Equal(t, "grant", other.decide("ann", session, "password"))
		time.Sleep(150 * time.Millisecond) // proofs follow
		status, _ := by.send("DELETE", "/sessions/v1/ann", "")
		require.Equal(t, http.StatusNoContent, status)
		for _, n := range w.nodes {
			require.Equal(t, "block", n.decide("ann", session, "password"), "ended by %d", i%2)
			require.Equal(t, "grant", n.decide("ann", next, "password"))
		}
	}

	old.kill()
	w.nodes = []*node{now}
	load(2 * time.Second)
	now.kill()
	old.start(t, "")
	w.nodes = []*node{old}
	load(2 * time.Second)
	require.Equal(t, "block", old.decide("ann", "all39", "password"))
	t.Logf("%d sessions ended and %d people provisioned: none late, none lost", w.ended.Load(), w.known.Load())
}

// TestKilledNode kills a node with its state in a file, again and again, while it is asked.
func TestKilledNode(t *testing.T) {
	dir := t.TempDir()
	n := startNode(t, "", "-r", rulesIn(t), "--state", filepath.Join(dir, "brisk.state"), "--signons", filepath.Join(dir, "signons"))
	w := &watch{T: t, nodes: []*node{n}, group: n.crew(t)}
	for range 4 {
		stop := make(chan struct{})
		var load sync.WaitGroup
		load.Go(func() { w.run(4, stop) })
		time.Sleep(time.Duration(300+rand.IntN(500)) * time.Millisecond)
		require.NoError(t, n.Process.Kill())
		close(stop)
		load.Wait()
		_ = n.Wait()
		n.start(t, "")
		w.recover(n)
	}
	w.holds()
	logs, err := filepath.Glob(filepath.Join(dir, "signons", "*"))
	require.NoError(t, err)
	require.Len(t, logs, 1)
	out, err := exec.Command("brisk", "replay", "-r", n.args[7], logs[0], "--state", filepath.Join(dir, "brisk.state")).CombinedOutput()
	require.NoError(t, err, "%s", out)
}

// cut is a proxy that can stall, or cut off what goes through it.
type cut struct {
	net.Listener
	to      string
	mu      sync.Mutex
	through []net.Conn
	stalled chan struct{} // closed while nothing is
	refused bool
}

func newCut(t *testing.T, to string) *cut {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	c := &cut{Listener: l, to: to, stalled: make(chan struct{})}
	close(c.stalled)
	t.Cleanup(func() { l.Close() })
	go func() {
		for {
			in, err := l.Accept()
			if err != nil {
				return
			}
			go c.pass(in)
		}
	}()
	return c
}

func (c *cut) pass(in net.Conn) {
	out, err := net.Dial("tcp", c.to)
	c.mu.Lock()
	if c.through = append(c.through, in); err == nil {
		c.through = append(c.through, out)
	}
	refused := c.refused
	c.mu.Unlock()
	if err != nil || refused {
		in.Close()
		return
	}
	for _, way := range [][2]net.Conn{{in, out}, {out, in}} {
		go func() {
			buffer := make([]byte, 16<<10)
			for {
				n, err := way[0].Read(buffer)
				c.mu.Lock()
				stalled := c.stalled
				c.mu.Unlock()
				<-stalled
				if n > 0 {
					_, err = way[1].Write(buffer[:n])
				}
				if err != nil {
					way[0].Close()
					way[1].Close()
					return
				}
			}
		}()
	}
}

// set has the proxy stall, or refuse and cut off everything.
func (c *cut) set(stall, refuse bool) {
	c.mu.Lock()
	defer c.mu.Unlock()
	select {
	case <-c.stalled:
		if stall {
			c.stalled = make(chan struct{})
		}
	default:
		if !stall {
			close(c.stalled)
		}
	}
	if c.refused = refuse; refuse {
		for _, conn := range c.through {
			conn.Close()
		}
		c.through = nil
	}
}

// TestNetworkCut cuts a node off its database, and stalls what goes between, while another goes on.
func TestNetworkCut(t *testing.T) {
	server := postgrestest.Start(t)
	address, rules := server.Database(t), rulesIn(t)
	proxy := newCut(t, server.Address())
	near := startNode(t, "", "-r", rules, "--state", address)
	far := startNode(t, "", "-r", rules, "--state", strings.Replace(address, server.Address(), proxy.Addr().String(), 1))
	group := near.crew(t)
	require.True(t, near.provisioned("ann", group))
	require.Equal(t, "grant", far.decide("ann", "s", "password"))
	for name, broken := range map[string][2]bool{"cut": {false, true}, "stalled": {true, false}} {
		proxy.set(broken[0], broken[1])
		begun := time.Now()
		require.Equal(t, "block", far.decide("ann", "s", "password"), name)
		require.Less(t, time.Since(begun), 12*time.Second, name)
		status, _ := near.send("DELETE", "/sessions/v1/ann/"+name, "")
		require.Equal(t, http.StatusNoContent, status, "the other goes on")
		proxy.set(false, false)
		(&watch{T: t}).recover(far)
		require.Equal(t, "block", far.decide("ann", name, "password"))
		require.Equal(t, "grant", far.decide("ann", "s2", "password"))
	}
}

// TestRulebookUnderLoad edits the rulebook while it is served: badly, then well. No request fails.
func TestRulebookUnderLoad(t *testing.T) {
	rules := rulesIn(t)
	n := startNode(t, "", "-r", rules, "--state", filepath.Join(t.TempDir(), "brisk.state"))
	require.True(t, n.provisioned("ann", n.crew(t)))
	stop := make(chan struct{})
	var load sync.WaitGroup
	var asked atomic.Int64
	for range 4 {
		load.Go(func() {
			for {
				select {
				case <-stop:
					return
				default:
				}
				if got := n.decide("ann", "s", "password"); got != "grant" && got != "block" {
					t.Errorf("%q", got)
				}
				asked.Add(1)
			}
		})
	}
	write := func(text string) {
		require.NoError(t, os.WriteFile(filepath.Join(rules, "rulebook.warden"), []byte(text), 0o600))
		require.NoError(t, n.Process.Signal(syscall.SIGHUP))
	}
	stale := func() string {
		r, err := client.Get("http://" + n.operations.Load().(string) + "/readyz")
		require.NoError(t, err)
		defer r.Body.Close()
		require.Equal(t, http.StatusOK, r.StatusCode)
		body, err := io.ReadAll(r.Body)
		require.NoError(t, err)
		return string(body)
	}
	for range 5 {
		write(served + "policy {")
		require.Eventually(t, func() bool { return strings.Contains(stale(), "cannot be loaded") }, 5*time.Second, 20*time.Millisecond)
		require.Equal(t, "grant", n.decide("ann", "s", "password"), "the last good one stays")
		write(strings.ReplaceAll(served, "step-up password every session", "block"))
		require.Eventually(t, func() bool { return n.decide("ann", "s", "password") == "block" }, 5*time.Second, 20*time.Millisecond)
		write(served)
		require.Eventually(t, func() bool { return n.decide("ann", "s", "password") == "grant" }, 5*time.Second, 20*time.Millisecond)
	}
	require.NotContains(t, stale(), "cannot be loaded")
	close(stop)
	load.Wait()
	require.Greater(t, asked.Load(), int64(100))
}

// TestFullDisk lets the files of a node grow no further: nobody is let in whose sign-on cannot be kept, and a log that
// cannot be written stops nobody.
func TestFullDisk(t *testing.T) {
	dir := t.TempDir()
	state, signOns := filepath.Join(dir, "brisk.state"), filepath.Join(dir, "signons")
	full := startNode(t, "ulimit -f 400", "-r", rulesIn(t), "--state", state)
	group := full.crew(t)
	require.True(t, full.provisioned("ann", group))
	blocked := false
	for i := 0; i < 3000 && !blocked; i++ {
		blocked = full.decide("ann", fmt.Sprintf("s%d", i), "password") == "block"
	}
	require.True(t, blocked, "%s", &full.log)
	require.Eventually(t, func() bool { return strings.Contains(full.log.String(), "disk") }, 5*time.Second, 10*time.Millisecond)
	full.kill()
	mended := startNode(t, "", "-r", rulesIn(t), "--state", state)
	require.Equal(t, "grant", mended.decide("ann", "again", "password"))
	mended.kill()

	require.NoError(t, os.MkdirAll(signOns, 0o700))
	host, err := os.Hostname()
	require.NoError(t, err)
	for _, day := range []time.Duration{0, 24 * time.Hour} {
		require.NoError(t, os.Symlink("/dev/full", filepath.Join(signOns, time.Now().UTC().Add(day).Format("2006-01-02")+"."+host+".jsonl")))
	}
	logless := startNode(t, "", "-r", rulesIn(t), "--state", state, "--signons", signOns)
	require.Equal(t, "grant", logless.decide("ann", "more", "password"))
	require.Eventually(t, func() bool { return strings.Contains(logless.log.String(), "could not be logged") }, 5*time.Second, 10*time.Millisecond)
}

// TestHostileClients sends what no client sends: nothing of it takes the service's time or memory for long.
func TestHostileClients(t *testing.T) {
	n := startNode(t, "", "-r", rulesIn(t), "--state", filepath.Join(t.TempDir(), "brisk.state"))
	require.True(t, n.provisioned("ann", n.crew(t)))
	dial := func(text string) net.Conn {
		c, err := net.Dial("tcp", n.address.Load().(string))
		require.NoError(t, err)
		_, err = io.WriteString(c, text)
		require.NoError(t, err)
		return c
	}
	const head = "POST /access/v1/evaluation HTTP/1.1\r\nHost: localhost\r\nContent-Type: application/json\r\n"
	var slow []net.Conn
	for range 200 {
		slow = append(slow, dial("POST /access/v1/evalu"), dial(head+"Content-Length: 1000\r\n\r\n{"), dial(head+"Transfer-Encoding: chunked\r\n\r\n5\r\n{"))
	}
	answer := func(text string) string {
		c := dial(text)
		defer c.Close()
		require.NoError(t, c.SetDeadline(time.Now().Add(5*time.Second)))
		line, _ := bufio.NewReader(c).ReadString('\n')
		return line
	}
	for text, want := range map[string]string{
		head + "Content-Length: 99999999999\r\n\r\n":                                                " 413 ",
		head + "Content-Length: 3\r\nContent-Length: 4\r\n\r\n{}":                                   " 400 ",
		head + "Content-Length: 3\r\nTransfer-Encoding: chunked\r\n\r\n{}\r\n":                      " 400 ",
		head + "X: " + strings.Repeat("x", 1<<20) + "\r\n\r\n":                                      " 431 ",
		"GET / HTTP/9.9\r\nHost: localhost\r\n\r\n":                                                 " 505 ",
		"\x16\x03\x01\x02\x00\x01\x00\x01\xfc\x03\x03":                                              "",
		head + fmt.Sprintf("Content-Length: %d\r\n\r\n%s", 400000, strings.Repeat("[", 400000)):     " 400 ",
		head + "Content-Length: 30\r\n\r\n" + `{"subject":{},"subject":{}}   `:                      " 400 ",
		"POST /access/v1/../v1/evaluation HTTP/1.1\r\nHost: localhost\r\nContent-Length: 0\r\n\r\n": " 307 ",
	} {
		if got := answer(text); want != "" {
			require.Contains(t, got, want, "%.90q", text)
		}
	}
	pipelined := dial(strings.Repeat(head+"Content-Length: 2\r\n\r\n{}", 50))
	require.NoError(t, pipelined.SetDeadline(time.Now().Add(5*time.Second)))
	in := bufio.NewReader(pipelined)
	for range 50 {
		r, err := http.ReadResponse(in, nil)
		require.NoError(t, err)
		_, _ = io.Copy(io.Discard, r.Body)
		require.Equal(t, http.StatusBadRequest, r.StatusCode)
	}
	half := dial(head + "Content-Length: 2\r\n\r\n{}")
	require.NoError(t, half.(*net.TCPConn).CloseWrite())
	_, err := http.ReadResponse(bufio.NewReader(half), nil)
	require.NoError(t, err)

	begun := time.Now()
	require.Equal(t, "grant", n.decide("ann", "s", "password"))
	require.Less(t, time.Since(begun), 5*time.Second, "others are answered meanwhile")
	require.NoError(t, slow[0].SetReadDeadline(time.Now().Add(20*time.Second)))
	_, err = io.ReadAll(slow[0])
	require.NoError(t, err, "a header that does not come is not waited for")
	require.NotContains(t, n.log.String(), "panic")
	for _, c := range slow {
		c.Close()
	}
}
