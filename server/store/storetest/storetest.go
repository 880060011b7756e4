// Package storetest gives tests a database of their own.
package storetest

import (
	"context"
	"crypto/rand"
	"database/sql"
	"encoding/hex"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/go-sql-driver/mysql"

	"latchkey/capture"
	"latchkey/server/store"
)

// shared is the server of a package's tests, started by the first that needs it.
var shared struct {
	once    sync.Once
	server  *Server
	address string
}

// Main runs a package's tests, ends the server that they shared, and returns their exit code.
// A package whose tests take an Address calls it in TestMain.
func Main(m *testing.M) int {
	defer func() {
		if shared.server != nil {
			shared.server.end()
		}
	}()
	return m.Run()
}

// Address returns the address of a fresh, empty database, dropped when the test
// ends. The server is that of LATCHKEY_TEST_DATABASE, or one started for the
// package's tests.
func Address(t testing.TB) string {
	t.Helper()
	dsn := os.Getenv("LATCHKEY_TEST_DATABASE")
	if dsn == "" {
		shared.once.Do(func() {
			shared.server = newServer(t)
			shared.address = shared.server.Start()
		})
		dsn = shared.address
	}
	cfg, err := mysql.ParseDSN(dsn)
	if err != nil {
		t.Fatal(err)
	}
	name := make([]byte, 8)
	if _, err := rand.Read(name); err != nil {
		t.Fatal(err)
	}
	db, err := sql.Open("mysql", dsn)
	if err != nil {
		t.Fatal(err)
	}
	cfg.DBName = "latchkey_test_" + hex.EncodeToString(name)
	if _, err := db.Exec("CREATE DATABASE " + cfg.DBName + " CHARACTER SET utf8mb4 COLLATE utf8mb4_unicode_ci"); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		if _, err := db.Exec("DROP DATABASE " + cfg.DBName); err != nil {
			t.Log(err)
		}
		db.Close()
	})
	return cfg.FormatDSN()
}

// Open returns a migrated store on a database of its own.
func Open(t testing.TB) *store.Store {
	t.Helper()
	return At(t, Address(t))
}

// At returns a migrated store on the database of an address.
func At(t testing.TB, dsn string) *store.Store {
	t.Helper()
	s, err := store.Open(dsn)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.Close() })
	if _, err := s.Migrate(context.Background()); err != nil {
		t.Fatal(err)
	}
	return s
}

// Server is a private MariaDB in a temporary folder.
type Server struct {
	t      testing.TB
	folder string
}

// NewServer prepares a server that is stopped when the test ends.
func NewServer(t testing.TB) *Server {
	t.Helper()
	s := newServer(t)
	t.Cleanup(s.end)
	return s
}

func newServer(t testing.TB) *Server {
	t.Helper()
	folder, err := os.MkdirTemp("", "latchkey-db-")
	if err != nil {
		t.Fatal(err)
	}
	if err := os.Chmod(folder, 0o755); err != nil {
		t.Fatal(err)
	}
	return &Server{t, folder}
}

// end stops the server, whatever became of the test that started it.
func (s *Server) end() {
	if _, err := s.run("stop"); err != nil {
		fmt.Fprintln(os.Stderr, err)
	}
	os.RemoveAll(s.folder)
}

// Start starts the server and returns its address; its port stays the same.
func (s *Server) Start() string { return s.script("start") }

// Stop ends the server by its process id.
func (s *Server) Stop() { s.script("stop") }

// Process returns the server's process, for what a script does not do to it.
func (s *Server) Process() *os.Process {
	s.t.Helper()
	raw, err := os.ReadFile(filepath.Join(s.script("where"), "data", "m.pid"))
	if err != nil {
		s.t.Fatal(err)
	}
	pid, err := strconv.Atoi(strings.TrimSpace(string(raw)))
	if err != nil {
		s.t.Fatal(err)
	}
	p, err := os.FindProcess(pid)
	if err != nil {
		s.t.Fatal(err)
	}
	return p
}

func (s *Server) script(action string) string {
	s.t.Helper()
	out, err := s.run(action)
	if err != nil {
		s.t.Fatal(err)
	}
	return out
}

func (s *Server) run(action string) (string, error) {
	_, here, _, _ := runtime.Caller(0)
	script := filepath.Join(filepath.Dir(here), "..", "..", "..", "scripts", "database")
	cmd := exec.Command(script, action, s.folder, "tests")
	cmd.Stderr = os.Stderr
	out, err := cmd.Output()
	if err != nil {
		return "", fmt.Errorf("scripts/database %s: %w", action, err)
	}
	return strings.TrimSpace(string(out)), nil
}

// Piece captures a disk, as evidence for a drive of a case.
func Piece(t testing.TB, caseID uint64, role string, r io.ReaderAt, size int64) *store.Piece {
	t.Helper()
	m, err := capture.Take(t.Context(), &capture.Device{ReaderAt: r, Size: size, LogicalSectorSize: 512},
		capture.Taking{Source: role, SectorSize: 512, Now: time.Now()})
	if err != nil {
		t.Fatal(err)
	}
	return &store.Piece{Evidence: store.Evidence{CaseID: caseID, Role: role, Filename: role + ".lkcap",
		Capacity: m.Capacity, SectorSize: 512},
		Inside: store.Inside{Extents: m.Extents, Counts: m.Counts}, Sectors: r}
}

// Nobody did it: nothing is added to a history.
var Nobody = store.Entry{}
