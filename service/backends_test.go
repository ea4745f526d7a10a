package service_test

import (
	"bytes"
	"fmt"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// spellings are ways to write paths that some server may take for the administrators' part.
func spellings() (list []string) {
	for _, word := range []string{"admin", "%61dmin", "a%64min", "%61%64%6D%69%6e", "Admin", "ADMIN", "aDmIn", "%41dmin", "admin%20", "admin.", "admin;x", "admin%3bx=1", "admin%00", "admin%2f", "admin%09", "ad%0amin", "admin%23", "admin%3f",
		"%C3%A1dmin", "adm%C4%B1n", "adm%C4%B0n", "%EF%BD%81dmin"} {
		for _, before := range []string{"/", "//", "/./", "/%2e/", "/week/../", "/week/%2e%2e/", "/week/.%2E/", "/week%2f..%2f", "/week/..;/", "/week/..%3b/", "/;/", "/week//../", "/%20/", "/week/..%20/", "/week\\..\\", "/week%5c..%5c", "/%252e%252e/",
			"/week/%c0%ae%c0%ae/", "/week/%EF%BC%8E%EF%BC%8E/", "/x/y/../../"} {
			list = append(list, before+word)
		}
		for _, after := range []string{"/", "//", "/..", "/../", "/.", "/%2e%2e/", "/.%2E/week", "/..%2fweek", "/..;/week", "/%3b/..", "/x", "/x/..", "/..%00", "?week", "/?x=/..", "/%2e%2e%2fweek", "\\..\\week"} {
			list = append(list, "/"+word+after)
		}
	}
	return list
}

// backends start real sites with an administrators' part.
func backends(t *testing.T) map[string]string {
	mux := http.NewServeMux()
	say := func(what string) http.HandlerFunc {
		return func(w http.ResponseWriter, _ *http.Request) { fmt.Fprint(w, what) }
	}
	mux.HandleFunc("/admin", say("app admin"))
	mux.HandleFunc("/admin/", say("app admin"))
	mux.HandleFunc("/", say("app roster"))
	goSite := httptest.NewServer(mux)
	t.Cleanup(goSite.Close)
	all := map[string]string{"Go": goSite.Listener.Addr().String()}
	for program, file := range map[string]string{"/usr/bin/python3": "site.py", "/usr/bin/node": "site.js"} {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		require.NoError(t, err)
		address := l.Addr().(*net.TCPAddr)
		l.Close()
		c := exec.Command(needs(t, program), "testdata/backends/"+file, strconv.Itoa(address.Port))
		c.Env = append(os.Environ(), "NODE_PATH=/usr/share/nodejs")
		var out bytes.Buffer
		c.Stdout, c.Stderr = &out, &out
		require.NoError(t, c.Start())
		ended := make(chan struct{})
		go func() { _ = c.Wait(); close(ended) }()
		t.Cleanup(func() { _ = c.Process.Kill(); <-ended })
		for up := false; !up; {
			select {
			case <-ended:
				if os.Getenv("BRISK_NEEDS_PROGRAMS") != "" {
					t.Fatalf("%s: %s", file, &out)
				}
				t.Skipf("needs Flask and Express for %s: %s", file, &out)
			case <-time.After(50 * time.Millisecond):
				if conn, err := net.Dial("tcp", address.String()); err == nil {
					conn.Close()
					up = true
				}
			}
		}
		all[file] = address.String()
	}
	return all
}

// TestBackendsReadTheSamePath: behind the documented gateway no spelling is let in as the roster, which a password opens, and
// served as its administrators' part.
func TestBackendsReadTheSamePath(t *testing.T) {
	list := spellings()
	require.Greater(t, len(list), 200)
	for name, address := range backends(t) {
		g := (&gate{served: gateway(t)}).before(t, address)
		direct := &gate{served: g.served, address: address}
		header := []string{"Host: roster.skerry.example", "Cookie: " + siteCookie + "=" + g.person("ann", "s1", g.now(), "pwd").String()}
		status, _, body := g.send("GET /week HTTP/1.1", header...)
		require.Equal(t, 200, status)
		require.Equal(t, "app roster", body)
		served, passed := 0, 0
		for _, path := range list {
			if _, _, body := direct.send("GET "+path+" HTTP/1.1", header...); strings.Contains(body, "app admin") {
				served++
			}
			status, _, body := g.send("GET "+path+" HTTP/1.1", header...)
			require.NotContains(t, body, "app admin", "%s: %s is %d", name, path, status)
			if status == 200 {
				passed++
			}
		}
		t.Logf("%s serves %d of %d spellings as the administrators' part; %d pass as the roster", name, served, len(list), passed)
		require.Greater(t, served, 10, name)
		require.Greater(t, passed, 10, name)
	}
}
