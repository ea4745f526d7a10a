// Package postgrestest starts a PostgreSQL server of a test's own, in a temporary folder, where Debian's packages have
// put one on the machine.
package postgrestest

import (
	"fmt"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strconv"
	"sync/atomic"
	"syscall"
	"testing"

	"github.com/stretchr/testify/require"
)

// Needed names the variable of the environment that says that tests may not be skipped for want of a server.
const Needed = "BRISK_NEEDS_POSTGRESQL"

// Server is a running server.
type Server struct {
	bin, dir string
	port     int
	as       *syscall.Credential
	made     atomic.Int32
}

// Start starts a server that stops when the test ends. Without PostgreSQL on the machine the test is skipped.
func Start(t *testing.T) *Server {
	t.Helper()
	found, _ := filepath.Glob("/usr/lib/postgresql/*/bin/initdb")
	if len(found) == 0 {
		if os.Getenv(Needed) != "" {
			t.Fatal("there is no PostgreSQL on this machine, and " + Needed + " says that there must be")
		}
		t.Skip("there is no PostgreSQL on this machine: install Debian's package postgresql to run this test")
	}
	s := &Server{bin: filepath.Dir(found[len(found)-1])}
	var err error
	s.dir, err = os.MkdirTemp("", "brisk-postgres-")
	require.NoError(t, err)
	if os.Getuid() == 0 { // the server does not run as root
		u, err := user.Lookup("postgres")
		require.NoError(t, err)
		uid, _ := strconv.Atoi(u.Uid)
		gid, _ := strconv.Atoi(u.Gid)
		s.as = &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}
		require.NoError(t, os.Chown(s.dir, uid, gid))
	}
	t.Cleanup(func() {
		_ = s.command("pg_ctl", "-D", s.data(), "-m", "immediate", "stop").Run() // which may be stopped already
		os.RemoveAll(s.dir)
	})
	s.run(t, "initdb", "-D", s.data(), "-U", "brisk", "-A", "trust", "-E", "UTF8", "--no-locale", "--no-sync")
	s.port = free(t)
	s.Run(t)
	return s
}

func free(t *testing.T) int {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	return l.Addr().(*net.TCPAddr).Port
}

func (s *Server) data() string { return filepath.Join(s.dir, "data") }

func (s *Server) command(name string, args ...string) *exec.Cmd {
	c := exec.Command(filepath.Join(s.bin, name), args...)
	c.Dir = s.dir
	c.SysProcAttr = &syscall.SysProcAttr{Credential: s.as}
	return c
}

func (s *Server) run(t *testing.T, name string, args ...string) {
	t.Helper()
	out, err := s.command(name, args...).CombinedOutput()
	require.NoError(t, err, "%s: %s", name, out)
}

// Run starts the server again after it was stopped.
func (s *Server) Run(t *testing.T) {
	t.Helper()
	s.run(t, "pg_ctl", "-D", s.data(), "-l", filepath.Join(s.dir, "log"), "-w", "-o",
		fmt.Sprintf("-p %d -k %s -c listen_addresses=127.0.0.1 -c max_connections=200", s.port, s.dir), "start")
}

// Kill stops the server at once, as a failing machine does.
func (s *Server) Kill(t *testing.T) {
	t.Helper()
	s.run(t, "pg_ctl", "-D", s.data(), "-m", "immediate", "stop")
}

// Address is where the server listens.
func (s *Server) Address() string { return fmt.Sprintf("127.0.0.1:%d", s.port) }

// Database makes an empty database, and gives its address.
func (s *Server) Database(t *testing.T) string {
	t.Helper()
	name := fmt.Sprintf("t%d", s.made.Add(1))
	s.run(t, "createdb", "-h", "127.0.0.1", "-p", strconv.Itoa(s.port), "-U", "brisk", name)
	return fmt.Sprintf("postgres://brisk@%s/%s?sslmode=disable", s.Address(), name)
}
