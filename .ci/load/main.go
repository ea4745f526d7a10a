// Command load measures the decision service beside its yardsticks, in one run: see .ci/measure-service.
package main

import (
	"bufio"
	"bytes"
	"crypto/sha256"
	"flag"
	"fmt"
	"io"
	"log"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/go-json-experiment/json"

	"briskwarden.example/briskwarden"
	"briskwarden.example/briskwarden/demo"
	"briskwarden.example/briskwarden/signon"
)

const token = "a token of the measurement"

var (
	seconds = flag.Int("seconds", 5, "how long each measurement takes")
	rounds  = flag.Int("rounds", 3, "how often, the best of which counts")
	brisk   = flag.String("brisk", "brisk", "the command")
	pgURL   = flag.String("postgres", "", "a database; empty is none")
	pgbench = flag.String("pgbench", "", "the command that measures the database")
	soak    = flag.Duration("soak", 0, "how long half of the load is kept up; zero is not at all")
)

func main() {
	flag.Parse()
	if flag.Arg(0) == "bare" {
		bare()
		return
	}
	dir, err := os.MkdirTemp("", "brisk-load-")
	must(err)
	defer os.RemoveAll(dir)
	rules := filepath.Join(dir, "rules")
	must(os.CopyFS(rules, demo.SkerryLine()))
	must(os.WriteFile(filepath.Join(rules, "callers.warden"), []byte(fmt.Sprintf("caller load { token \"sha256:%x\" may decide }\n", sha256.Sum256([]byte(token)))), 0o600))

	self, err := os.Executable()
	must(err)
	yardstick := start(self, "bare")
	best := func(address string, bodies [][]byte, per int) float64 {
		var most float64
		for range *rounds {
			most = max(most, rate(dir, address, path(per), bodies, time.Duration(*seconds)*time.Second)*float64(per))
		}
		return most
	}
	book, err := briskwarden.Open(rules)
	must(err)
	single, hundred := questions(book.Users(), 1), questions(book.Users(), 100)
	plain := best(yardstick.address, single, 1)
	fmt.Printf("bare handler, the same bodies      %8.0f requests a second\n", plain)
	measure := func(name, state string, than float64, of string) {
		s := start(*brisk, "serve", "-r", rules, "--listen", "127.0.0.1:0", "--operations", "127.0.0.1:0", "--state", state)
		defer s.stop()
		rate(dir, s.address, path(1), single, 2*time.Second) // so that every session is known
		idle(s, 10_000)
		one := best(s.address, single, 1)
		fmt.Printf("evaluation on %-20s %8.0f a second, %.2f of %s\n", name, one, one/than, of)
		many := best(s.address, hundred, 100)
		fmt.Printf("evaluations of 100 on %-12s %8.0f a second, %.1f times as many\n", name, many, many/one)
		if *soak > 0 {
			endure(s, single, one/2)
		}
	}
	measure("SQLite", filepath.Join(dir, "brisk.state"), plain, "the bare handler")
	yardstick.stop()
	if *pgURL != "" {
		reads := bench()
		fmt.Printf("pgbench -S, 64 connections         %8.0f transactions a second\n", reads)
		measure("PostgreSQL", *pgURL, reads, "pgbench -S")
	}
}

func must(err error) {
	if err != nil {
		log.Fatal(err)
	}
}

// bare is the yardstick: a handler that decodes and encodes the same bodies with the same library.
func bare() {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	must(err)
	fmt.Printf("brisk serves nothing at http://%s\n", l.Addr())
	must(http.Serve(l, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body, err := io.ReadAll(r.Body)
		must(err)
		s, err := signon.Decode(body)
		must(err)
		answer, err := json.Marshal(signon.Decision{ID: s.ID, Outcome: signon.StepUp, Message: "Please confirm that it is you.", MaxAge: signon.NoMaxAge,
			Next:     []signon.Step{{Do: signon.Verify, AnyOf: [][]string{{"passkey"}, {"app-code"}}}},
			Rulebook: "sha256:0000000000000000000000000000000000000000000000000000000000000000", Session: signon.SessionLimits{Lifetime: "10h", Idle: "30m"}})
		must(err)
		w.Header().Set("Content-Type", "application/json")
		_, _ = w.Write(answer)
	})))
}

// server is a running process.
type server struct {
	*exec.Cmd
	address string
}

var served = regexp.MustCompile(`at https?://(\S+)`)

func start(name string, args ...string) *server {
	s := &server{Cmd: exec.Command(name, args...)}
	s.Stderr = os.Stderr
	out, err := s.StdoutPipe()
	must(err)
	must(s.Start())
	line := bufio.NewScanner(out)
	for line.Scan() {
		if m := served.FindStringSubmatch(line.Text()); m != nil {
			s.address = m[1]
			go io.Copy(io.Discard, out)
			return s
		}
	}
	log.Fatalf("%s did not start", name)
	return nil
}

func (s *server) stop() {
	_ = s.Process.Signal(syscall.SIGTERM)
	_ = s.Wait()
}

// resident is the memory of the process, in MiB.
func (s *server) resident() int {
	data, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", s.Process.Pid))
	must(err)
	m := regexp.MustCompile(`VmRSS:\s+(\d+) kB`).FindSubmatch(data)
	kb, _ := strconv.Atoi(string(m[1]))
	return kb >> 10
}

// questions are bodies of evaluations: sessions of all people of the demo, on several apps, every tenth with a proof.
func questions(people []string, each int) (bodies [][]byte) {
	apps := []string{"crew-roster", "noticeboard", "payroll", "ticketing"}
	var items []string
	for i := range 1000 {
		presented := ""
		if i%10 == 0 {
			presented = `,"presented":["password"]`
		}
		items = append(items, fmt.Sprintf(`{"subject":{"type":"user","id":%q},"action":{"name":"sign-on"},"resource":{"type":"app","id":%q},`+
			`"context":{"id":"q-%d","ip":"192.0.2.%d","client":"browser","device":{"id":"deck-tab-%02d","os":"android","version":"14","form":"tablet"},"session":{"id":"w-%d"}%s}}`,
			people[i%len(people)], apps[i/7%len(apps)], i, i%250, i%20, i%100, presented))
	}
	for part := range slices.Chunk(items, each) {
		body := part[0]
		if each > 1 {
			body = `{"evaluations":[` + strings.Join(part, ",") + `]}`
		}
		bodies = append(bodies, []byte(body))
	}
	return bodies
}

func path(per int) string {
	if per > 1 {
		return "/access/v1/evaluations"
	}
	return "/access/v1/evaluation"
}

func request(path string, body []byte) []byte {
	return fmt.Appendf(nil, "POST %s HTTP/1.1\r\nHost: brisk\r\nAuthorization: Bearer %s\r\nContent-Type: application/json\r\nContent-Length: %d\r\n\r\n%s", path, token, len(body), body)
}

// script has wrk send the lines of a file, one after the other, over and over.
const script = `wrk.method = "POST"
wrk.headers["Authorization"] = "Bearer %s"
wrk.headers["Content-Type"] = "application/json"
local requests, n = {}, 0
function init()
  for line in io.lines(%q) do requests[#requests + 1] = wrk.format(nil, %q, nil, line) end
  n = math.random(#requests)
end
function request()
  n = n %% #requests + 1
  return requests[n]
end
function done(summary)
  print("failed: " .. summary.errors.status + summary.errors.read + summary.errors.write + summary.errors.timeout)
end
`

// rate is how many requests a second are answered over 64 connections that are kept.
func rate(dir, address, path string, bodies [][]byte, length time.Duration) float64 {
	lines, lua := filepath.Join(dir, "bodies"), filepath.Join(dir, "load.lua")
	must(os.WriteFile(lines, append(bytes.Join(bodies, []byte("\n")), '\n'), 0o600))
	must(os.WriteFile(lua, []byte(fmt.Sprintf(script, token, lines, path)), 0o600))
	out, err := exec.Command("wrk", "-t", "2", "-c", "64", "-d", strconv.Itoa(int(length.Seconds()))+"s", "-s", lua, "http://"+address).CombinedOutput()
	m := regexp.MustCompile(`Requests/sec:\s+([\d.]+)`).FindSubmatch(out)
	if err != nil || m == nil || !bytes.Contains(out, []byte("failed: 0")) {
		log.Fatalf("%v: %s", err, out)
	}
	perSecond, err := strconv.ParseFloat(string(m[1]), 64)
	must(err)
	return perSecond
}

func ask(conn net.Conn, in *bufio.Reader, path string, body []byte) {
	_, err := conn.Write(request(path, body))
	must(err)
	r, err := http.ReadResponse(in, nil)
	must(err)
	answer, err := io.ReadAll(r.Body)
	must(err)
	if r.StatusCode != http.StatusOK || bytes.Contains(answer, []byte("cannot reach")) {
		log.Fatalf("%s: %s", r.Status, answer)
	}
}

// idle keeps connections open that have asked once, and tells what they take.
func idle(s *server, many int) {
	before := s.resident()
	var open []net.Conn
	for range many {
		conn, err := net.Dial("tcp", s.address)
		if err != nil {
			fmt.Printf("%d connections could not be opened: %v\n", many, err)
			break
		}
		open = append(open, conn)
		_, err = conn.Write([]byte("GET /.well-known/authzen-configuration HTTP/1.1\r\nHost: brisk\r\n\r\n"))
		must(err)
		_, err = http.ReadResponse(bufio.NewReader(conn), nil)
		must(err)
	}
	fmt.Printf("%d idle connections%s %d MiB, without them %d\n", len(open), "         ", s.resident(), before)
	for _, conn := range open {
		conn.Close()
	}
}

// endure keeps a load up, and tells memory and times.
func endure(s *server, bodies [][]byte, perSecond float64) {
	const connections = 64
	var mu sync.Mutex
	var took []time.Duration
	end := time.Now().Add(*soak)
	var all sync.WaitGroup
	for c := range connections {
		all.Go(func() {
			conn, err := net.Dial("tcp", s.address)
			must(err)
			defer conn.Close()
			in := bufio.NewReader(conn)
			tick := time.NewTicker(time.Duration(float64(connections) / perSecond * float64(time.Second)))
			defer tick.Stop()
			for i := c; time.Now().Before(end); i++ {
				<-tick.C
				begin := time.Now()
				ask(conn, in, path(1), bodies[i%len(bodies)])
				mu.Lock()
				took = append(took, time.Since(begin))
				mu.Unlock()
			}
		})
	}
	first := time.After(*soak / 10)
	<-first
	early := s.resident()
	all.Wait()
	slices.Sort(took)
	fmt.Printf("  half of that for %s: %d MiB after a tenth of it, %d at its end; median %s, 99 of 100 within %s (%.1f times)\n", *soak, early, s.resident(),
		took[len(took)/2], took[len(took)*99/100], float64(took[len(took)*99/100])/float64(took[len(took)/2]))
}

// bench is what the database's own measurement reaches.
func bench() float64 {
	must(exec.Command(*pgbench, "-q", "-i", "-s", "10", *pgURL).Run())
	var most float64
	for range *rounds {
		out, err := exec.Command(*pgbench, "-S", "-n", "-c", "64", "-j", "2", "-M", "prepared", "-T", strconv.Itoa(*seconds), *pgURL).CombinedOutput()
		must(err)
		m := regexp.MustCompile(`tps = ([\d.]+)`).FindSubmatch(out)
		tps, err := strconv.ParseFloat(string(m[1]), 64)
		must(err)
		most = max(most, tps)
	}
	return most
}
