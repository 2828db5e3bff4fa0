// Package onserver starts a database server of PostgreSQL for tests, where one is installed, and gives each test a
// schema of its own in it. Only tests import it.
package onserver

import (
	"errors"
	"fmt"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"
)

// Server is a database server in a folder of its own, reached by a socket there.
type Server struct {
	Dir  string // its socket is here, and its data below
	Port int
	bin  string
	cmd  *exec.Cmd
}

// role is the server's only user.
const role = "harbour"

var (
	shared struct {
		once sync.Once
		s    *Server
		err  error
	}
	schemas atomic.Int64
)

// Run runs the tests of a package, and stops the server that they used.
func Run(m *testing.M) int {
	code := m.Run()
	if shared.s != nil {
		shared.s.Remove()
	}
	return code
}

// Records is where the records of an estate of a test are to be: "" for a file, or the address of an empty schema on a
// server, where the environment says IRONSEAL_TEST_RECORDS=server.
func Records(t testing.TB) string {
	t.Helper()
	if os.Getenv("IRONSEAL_TEST_RECORDS") != "server" {
		return ""
	}
	return URL(t)
}

// FilesOnly skips a test about records in a file where they are on a server.
func FilesOnly(t testing.TB) {
	t.Helper()
	if os.Getenv("IRONSEAL_TEST_RECORDS") == "server" {
		t.Skip("this is about records in a file")
	}
}

// URL is the address of an empty schema on a server that all tests of a program share. Where no server is installed,
// the test is skipped; in CI it fails.
func URL(t testing.TB) string {
	t.Helper()
	shared.once.Do(func() { shared.s, shared.err = New(0) })
	if shared.err != nil {
		unavailable(t, shared.err.Error())
	}
	return shared.s.URL(fmt.Sprintf("estate%d", schemas.Add(1)))
}

// Shared is the server that all tests of a program share.
func Shared(t testing.TB) *Server {
	t.Helper()
	URL(t)
	return shared.s
}

func unavailable(t testing.TB, reason string) {
	t.Helper()
	if os.Getenv("CI") == "true" && runtime.GOOS == "linux" { // elsewhere no server is started
		t.Fatal(reason)
	}
	t.Skip(reason)
}

// Start starts a server for one test alone.
func Start(t testing.TB, port int, settings ...string) *Server {
	t.Helper()
	s, err := New(port, settings...)
	if err != nil {
		unavailable(t, err.Error())
	}
	t.Cleanup(s.Remove)
	return s
}

// URL is the address of a schema.
func (s *Server) URL(schema string) string {
	q := url.Values{"host": {s.Dir}, "port": {fmt.Sprint(s.Port)}, "search_path": {schema}}
	return "postgresql://" + role + "@/postgres?" + q.Encode()
}

// New makes a server, and starts it. Without a port it has one that only names its socket.
func New(port int, settings ...string) (*Server, error) {
	bin, err := find()
	if err != nil {
		return nil, err
	}
	dir, err := folder()
	if err != nil {
		return nil, err
	}
	s := &Server{Dir: dir, Port: port, bin: bin}
	if s.Port == 0 {
		s.Port = 5432
	}
	if err := s.Tool("initdb", "-D", s.Data(), "-U", role, "-A", "trust", "-N", "-E", "UTF8"); err != nil {
		s.Remove()
		return nil, err
	}
	if err := s.Configure(append([]string{"listen_addresses = ''", "max_connections = 400", "shared_buffers = '64MB'"},
		settings...)...); err != nil {
		s.Remove()
		return nil, err
	}
	if err := s.Begin(); err != nil {
		s.Remove()
		return nil, err
	}
	return s, nil
}

// Standby makes a server that follows this one, and starts it.
func (s *Server) Standby(port int) (*Server, error) {
	dir, err := folder()
	if err != nil {
		return nil, err
	}
	f := &Server{Dir: dir, Port: port, bin: s.bin}
	if err := f.Tool("pg_basebackup", "-D", f.Data(), "-h", s.Dir, "-p", fmt.Sprint(s.Port), "-U", role, "-R", "-X",
		"stream", "-c", "fast"); err != nil {
		f.Remove()
		return nil, err
	}
	if err := errors.Join(f.Configure(), f.Begin()); err != nil {
		f.Remove()
		return nil, err
	}
	return f, nil
}

// Data is the folder of the server's data.
func (s *Server) Data() string { return filepath.Join(s.Dir, "data") }

// Configure adds lines to the server's settings.
func (s *Server) Configure(lines ...string) error {
	lines = append(lines, fmt.Sprintf("port = %d", s.Port), fmt.Sprintf("unix_socket_directories = '%s'", s.Dir))
	f, err := os.OpenFile(filepath.Join(s.Data(), "postgresql.conf"), os.O_APPEND|os.O_WRONLY, 0)
	if err != nil {
		return err
	}
	if _, err = f.WriteString("\n" + strings.Join(lines, "\n") + "\n"); err != nil {
		return err
	}
	return f.Close()
}

// Tool runs a program of the server's, such as initdb.
func (s *Server) Tool(name string, args ...string) error {
	cmd := exec.Command(filepath.Join(s.bin, name), args...)
	cmd.Dir, cmd.SysProcAttr = s.Dir, asUser()
	if out, err := cmd.CombinedOutput(); err != nil {
		return fmt.Errorf("%s: %w: %s", name, err, out)
	}
	return nil
}

// Query runs statements as the server's owner, through its own client.
func (s *Server) Query(schema, text string) (string, error) {
	cmd := exec.Command(filepath.Join(s.bin, "psql"), "-XAtq", "-v", "ON_ERROR_STOP=1", "-c", text)
	cmd.Env = append(os.Environ(), "PGHOST="+s.Dir, fmt.Sprintf("PGPORT=%d", s.Port), "PGUSER="+role,
		"PGDATABASE=postgres", "PGOPTIONS=-c search_path="+schema)
	out, err := cmd.CombinedOutput()
	return strings.TrimSpace(string(out)), err
}

// Begin starts the server, and waits until it answers.
func (s *Server) Begin() error {
	log, err := os.OpenFile(filepath.Join(s.Dir, "log"), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o644)
	if err != nil {
		return err
	}
	defer log.Close()
	s.cmd = exec.Command(filepath.Join(s.bin, "postgres"), "-D", s.Data())
	s.cmd.Dir, s.cmd.SysProcAttr, s.cmd.Stdout, s.cmd.Stderr = s.Dir, asUser(), log, log
	if err := s.cmd.Start(); err != nil {
		return err
	}
	for until := time.Now().Add(30 * time.Second); time.Now().Before(until); time.Sleep(50 * time.Millisecond) {
		if _, err = s.Query("public", "SELECT 1"); err == nil {
			return nil
		}
	}
	text, _ := os.ReadFile(filepath.Join(s.Dir, "log")) // what it says is part of the error
	return fmt.Errorf("the database server does not answer: %w\n%s", err, text)
}

// Kill stops the server as a power cut would.
func (s *Server) Kill() {
	if s.cmd != nil {
		crash(s.cmd)
		s.cmd = nil
	}
}

// Remove stops the server and takes its folder away.
func (s *Server) Remove() {
	s.Kill()
	_ = os.RemoveAll(s.Dir) // what is left is in a temporary folder
}

// find finds the server's programs.
func find() (string, error) {
	if runtime.GOOS != "linux" {
		return "", fmt.Errorf("a database server is started on Linux alone")
	}
	list, err := filepath.Glob("/usr/lib/postgresql/*/bin/initdb")
	if err != nil || len(list) == 0 {
		return "", fmt.Errorf("no database server is installed here (package postgresql)")
	}
	return filepath.Dir(list[len(list)-1]), nil
}
