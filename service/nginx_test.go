package service_test

import (
	"bufio"
	"bytes"
	"flag"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// gate is a real nginx before two sites, one of which has a part that is an app of its own.
type gate struct {
	*served
	address string
	passed  chan http.Header // what reached a site
}

// sample is the configuration that the documentation shows.
func sample(t testing.TB) string {
	docs, err := os.ReadFile("../docs/ways-in.md")
	require.NoError(t, err)
	found := regexp.MustCompile("(?s)```nginx\n(.*?)```").FindSubmatch(docs)
	require.NotNil(t, found)
	return string(found[1])
}

// needs finds a program, or leaves the test out where it need not be there.
func needs(t testing.TB, program string) string {
	for _, path := range []string{program, "/usr/sbin/" + program} {
		if found, err := exec.LookPath(path); err == nil {
			return found
		}
	}
	if os.Getenv("BRISK_NEEDS_PROGRAMS") != "" {
		t.Fatalf("%s is not installed", program)
	}
	t.Skipf("needs %s, which is not installed", program)
	return ""
}

// behindNginx starts nginx with the sample, by other addresses.
func behindNginx(t testing.TB, s *served) *gate {
	g := &gate{served: s, passed: make(chan http.Header, 1000)}
	site := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		g.passed <- r.Header.Clone()
		fmt.Fprintf(w, "site %s", r.RequestURI)
	}))
	t.Cleanup(site.Close)
	return g.before(t, site.Listener.Addr().String())
}

// before starts nginx before a site.
func (g *gate) before(t testing.TB, site string) *gate {
	nginx := needs(t, "nginx")
	brisk := httptest.NewServer(g.Service)
	t.Cleanup(brisk.Close)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	g.address = l.Addr().String()
	l.Close()
	dir := t.TempDir()
	require.NoError(t, os.Chmod(dir, 0o755))
	whole := strings.NewReplacer("443 ssl", g.address, "127.0.0.1:8081", site, "127.0.0.1:7575", brisk.Listener.Addr().String(), "the caller's token", "gate").
		Replace(regexp.MustCompile(`(?m)^.*ssl_certificate.*$`).ReplaceAllString(sample(t), ""))
	begin := strings.LastIndex(whole, "server {\n  listen ")
	server := whole[begin:]
	other := strings.ReplaceAll(server, "roster.skerry.example", "open.skerry.example")
	bare := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(http.StatusNoContent) }))
	t.Cleanup(bare.Close)
	other += strings.ReplaceAll(strings.ReplaceAll(server, "roster.skerry.example", "bare.skerry.example"), brisk.Listener.Addr().String(), bare.Listener.Addr().String())
	config := fmt.Sprintf("daemon off;\nerror_log %[1]s/error.log;\npid %[1]s/nginx.pid;\nworker_processes 1;\nevents { worker_connections 512; }\nhttp {\naccess_log off;\nclient_body_temp_path %[1]s/b;\nproxy_temp_path %[1]s/p;\nfastcgi_temp_path %[1]s/f;\nuwsgi_temp_path %[1]s/u;\nscgi_temp_path %[1]s/s;\n%[2]s\n%[3]s}\n",
		dir, whole, other)
	file := filepath.Join(dir, "nginx.conf")
	require.NoError(t, os.WriteFile(file, []byte(config), 0o644))
	c := exec.Command(nginx, "-e", dir+"/error.log", "-c", file)
	var out bytes.Buffer
	c.Stdout, c.Stderr = &out, &out
	require.NoError(t, c.Start())
	t.Cleanup(func() { _ = c.Process.Signal(os.Interrupt); _ = c.Wait() })
	require.Eventually(t, func() bool {
		conn, err := net.Dial("tcp", g.address)
		if err == nil {
			conn.Close()
		}
		return err == nil
	}, 10*time.Second, 20*time.Millisecond, "%s", &out)
	return g
}

// send sends a request as it is written, and gives the answer's status and where it leads.
func (g *gate) send(request string, header ...string) (status int, location string, body string) {
	g.Helper()
	conn, err := net.Dial("tcp", g.address)
	require.NoError(g, err)
	defer conn.Close()
	_ = conn.SetDeadline(time.Now().Add(10 * time.Second))
	fmt.Fprintf(conn, "%s\r\n%s\r\nConnection: close\r\n\r\n", request, strings.Join(header, "\r\n"))
	r, err := http.ReadResponse(bufio.NewReader(conn), nil)
	require.NoError(g, err, request)
	defer r.Body.Close()
	var b bytes.Buffer
	_, _ = b.ReadFrom(r.Body)
	return r.StatusCode, r.Header.Get("Location"), b.String()
}

// TestBehindNginx lets requests through a real gateway, and tries to get around it.
func TestBehindNginx(t *testing.T) {
	g := behindNginx(t, gateway(t))
	ann := g.person("ann", "s1", g.now(), "pwd").String()
	cookie := "Cookie: " + siteCookie + "=" + ann
	status, location, _ := g.send("GET /week?from=1 HTTP/1.1", "Host: roster.skerry.example")
	require.Equal(t, 303, status)
	require.Equal(t, "https://desk.skerry.example/sign-on?from=gate&return=https%3A%2F%2Froster.skerry.example%2Fweek%3Ffrom%3D1", location)
	status, _, body := g.send("GET /week?from=1 HTTP/1.1", "Host: roster.skerry.example", cookie, "Remote-User: root.key", "Remote_User: root.key", "Caller-Token: mine")
	require.Equal(t, 200, status, body)
	require.Equal(t, "site /week?from=1", body)
	got := <-g.passed
	require.Equal(t, []string{"ann"}, got.Values("Remote-User"))
	require.Empty(t, got.Values("Caller-Token"))
	require.Empty(t, got.Values("Remote_User"))
	for _, cookies := range []string{"a=1; " + siteCookie + "=" + ann + "; b=2", siteCookie + " =" + ann + ";a=1;b=2", "a=1;b=2;\t" + siteCookie + "\t=" + ann + " ", "a=" + siteCookie + "; b=2;" + siteCookie + "=" + ann} {
		status, _, body := g.send("GET / HTTP/1.1", "Host: roster.skerry.example", "Cookie: "+cookies, "X-Original-URL: /admin/", "X-Rewrite-URL: /admin/", "Asked-URL: /admin/",
			"X-Forwarded-Host: open.skerry.example", "X-Forwarded-Prefix: /admin", "Forwarded: host=x", "X-Forwarded-For: 198.51.100.7", "X-HTTP-Method-Override: DELETE")
		require.Equal(t, 200, status, "%s: %s", cookies, body)
		got := <-g.passed
		require.NotContains(t, fmt.Sprint(got), ann)
		require.Contains(t, got.Get("Cookie"), "b=2")
		for name := range got {
			require.Contains(t, []string{"Cookie", "Remote-User", "X-Forwarded-For", "X-Forwarded-Proto", "Connection"}, name)
		}
		require.Equal(t, []string{"127.0.0.1"}, got.Values("X-Forwarded-For"))
	}
	status, _, _ = g.send("GET /week HTTP/1.1", "Host: roster.skerry.example", "Authorization: Bearer "+ann)
	require.Equal(t, 200, status)
	require.NotContains(t, fmt.Sprint(<-g.passed), ann)

	outside := []string{"Host: roster.skerry.example", cookie}
	for _, more := range [][]string{
		{"X-Original-URL: https://open.skerry.example/"}, {"X-Original-URL: https://roster.skerry.example/", "X-Original-URL: https://open.skerry.example/"},
		{"X_Original_URL: https://open.skerry.example/"}, {"X-Forwarded-For: 192.0.2.7"}, {"X-Forwarded-For: 192.0.2.7, 192.0.2.8"}, {"Forwarded: for=192.0.2.7;host=open.skerry.example"},
		{"X-Forwarded-Host: open.skerry.example"}, {"X-Original-Method: OPTIONS"}, {"X-Rewrite-URL: /week"}, {"X-HTTP-Method-Override: OPTIONS"}, {"X-Forwarded-Prefix: /week"},
	} {
		status, location, _ := g.send("GET /admin/ HTTP/1.1", append(more, outside...)...)
		require.Equal(t, 303, status, "%q", more)
		require.Contains(t, location, "https://desk.skerry.example/sign-on?acr_values=aal3")
	}
	for _, target := range []string{"/admin", "/admin/x", "/%61dmin", "/%61%64%6d%69%6e/x", "/week/../admin", "/week/%2e%2e/admin/", "/./admin", "/admin/.", "/admin/x/..", "/admin?week", "/admin/?",
		"https://roster.skerry.example/admin", "//admin", "/week//admin", "/admin;x", "/;/admin", "/week/..;/admin", "/week%2f..%2fadmin", "/%2e%2e/admin",
		"/admin%00", "/admin%2f", "/\\admin", "/week/..\\admin", "/admin%5c", "/admin#", "/admin%23/..%2fweek", "/%2561dmin", "/admin/%zz", "/admin%"} {
		status, _, body := g.send("GET "+target+" HTTP/1.1", outside...)
		require.NotEqual(t, 200, status, "%s: %s", target, body)
	}
	for _, request := range []string{"GET /forward HTTP/1.1", "POST /admin HTTP/1.1", "OPTIONS /admin HTTP/1.1", "HEAD /admin HTTP/1.1", "TRACE /admin HTTP/1.1",
		"GET /admin HTTP/1.0"} {
		status, _, _ := g.send(request, outside...)
		require.NotEqual(t, 200, status, request)
	}
	status, _, _ = g.send("GET /week HTTP/1.1", "Host: roster.skerry.example", cookie, "Host: open.skerry.example")
	require.Equal(t, 400, status)
	conn, err := net.Dial("tcp", g.address)
	require.NoError(t, err)
	fmt.Fprintf(conn, "GET /week HTTP/1.1\r\nHost: elsewhere.example\r\n%s\r\n\r\n", cookie)
	said, err := io.ReadAll(conn)
	require.NoError(t, err)
	require.Empty(t, said, "a Host of nobody")
	conn.Close()
	require.Empty(t, drained(g.passed))

	status, location, _ = g.send("GET / HTTP/1.1", "Host: roster.skerry.example", "Cookie: "+siteCookie+"="+g.person("gone", "s2", g.now(), "pwd").String())
	require.Equal(t, 303, status)
	require.Regexp(t, `^https://roster\.skerry\.example/why/v1/[0-9a-f]{32}$`, location)
	_, path, _ := strings.Cut(location, "/why")
	status, _, body = g.send("GET /why"+path+" HTTP/1.1", "Host: roster.skerry.example", "Cookie: "+siteCookie+"="+g.person("gone", "s2", g.now(), "pwd").String())
	require.Equal(t, 200, status)
	require.Contains(t, body, "You were not let in")
	status, _, _ = g.send("GET /why"+path+" HTTP/1.1", "Host: roster.skerry.example", cookie)
	require.Equal(t, 404, status)
}

// drained are headers of those that got through, but for ann's own to the site at large.
func drained(passed chan http.Header) (more []http.Header) {
	for {
		select {
		case h := <-passed:
			if user := h.Get("Remote-User"); user != "ann" {
				more = append(more, h)
			}
		default:
			return more
		}
	}
}

// TestSignalsAreObeyedBehindNginx: the request that follows a signal's acknowledgement is refused, a thousand times.
func TestSignalsAreObeyedBehindNginx(t *testing.T) {
	g := behindNginx(t, heard(t, strings.Replace(fleetSource, `who people  sign-on`, `cookie "__Host-skerry-session"  who people  sign-on`, 1)+fmt.Sprintf(
		"app open { url \"https://open.skerry.example/*\" }\npolicy open { who everyone to app open otherwise => grant }\ncaller gate { token %q may forward }\n", digest("gate"))))
	for i := range 1000 {
		session := fmt.Sprint("s", i)
		cookie := "Cookie: " + siteCookie + "=" + g.person("ann", session, g.now(), "pwd").String()
		status, _, body := g.send("GET / HTTP/1.1", "Host: open.skerry.example", cookie)
		require.Equal(t, 200, status, body)
		g.accepted(claims{"format": "complex", "user": user("ann"), "session": user(session)}, caepEvent+"session-revoked", claims{})
		status, _, _ = g.send("GET / HTTP/1.1", "Host: open.skerry.example", cookie)
		require.Equal(t, 303, status, "try %d", i)
	}
}

var forwardFor = flag.Duration("forward.for", 0, "how long to measure gateways; 0 is not at all")

// TestForwardBesideBare measures nginx asking the service beside the same nginx asking a handler that lets all through.
func TestForwardBesideBare(t *testing.T) {
	if *forwardFor == 0 {
		t.Skip("measures where -forward.for says for how long")
	}
	wrk := needs(t, "wrk")
	g := behindNginx(t, gateway(t))
	go func() {
		for range g.passed { // nobody looks at it
		}
	}()
	cookie := "Cookie: " + siteCookie + "=" + g.person("ann", "s1", g.now(), "pwd").String()
	best := map[string]float64{}
	for range 3 {
		for _, site := range []string{"open", "bare"} {
			out, err := exec.Command(wrk, "-t", "1", "-c", "64", "-d", forwardFor.String(), "-H", "Host: "+site+".skerry.example", "-H", cookie, "http://"+g.address+"/").CombinedOutput()
			require.NoError(t, err, "%s", out)
			require.NotContains(t, string(out), "Non-2xx", "%s: %s", site, out)
			found := regexp.MustCompile(`Requests/sec:\s+([0-9.]+)`).FindSubmatch(out)
			require.NotNil(t, found, "%s", out)
			rate, err := strconv.ParseFloat(string(found[1]), 64)
			require.NoError(t, err)
			best[site] = max(best[site], rate)
		}
	}
	t.Logf("%.0f requests a second, and %.0f with a handler that lets all through: %.2f", best["open"], best["bare"], best["open"]/best["bare"])
	require.Greater(t, best["open"]/best["bare"], 0.3)
}
