// Package pgtest gives tests a PostgreSQL of their own on loopback, and lets
// connections to it break at a chosen write.
package pgtest

import (
	"context"
	"errors"
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
	"time"

	"github.com/jackc/pgx/v5"
)

// Main runs the tests of a package with PostgreSQL beside them; url is set first.
func Main(m *testing.M, url *string) {
	code, err := run(m, url)
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		code = 1
	}
	os.Exit(code)
}

func run(m *testing.M, url *string) (int, error) {
	found, _ := filepath.Glob("/usr/lib/postgresql/*/bin/postgres")
	if len(found) == 0 {
		return 1, errors.New("PostgreSQL is missing: apt-get install postgresql (make test does that)")
	}
	bin := filepath.Dir(found[len(found)-1])
	dir, err := os.MkdirTemp("", "pgtest-")
	if err != nil {
		return 1, err
	}
	defer func() { _ = os.RemoveAll(dir) }()
	attr := &syscall.SysProcAttr{}
	if os.Geteuid() == 0 { // PostgreSQL refuses to run as root
		u, err := user.Lookup("postgres")
		if err != nil {
			return 1, err
		}
		uid, _ := strconv.Atoi(u.Uid)
		gid, _ := strconv.Atoi(u.Gid)
		attr.Credential = &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}
		if err := os.Chown(dir, uid, gid); err != nil {
			return 1, err
		}
	}
	run := func(name string, args ...string) *exec.Cmd {
		cmd := exec.Command(filepath.Join(bin, name), args...)
		cmd.SysProcAttr, cmd.Dir = attr, "/"
		return cmd
	}
	data := filepath.Join(dir, "data")
	if out, err := run("initdb", "-D", data, "-U", "unvora", "--auth=trust", "-E", "UTF8", "--locale=C.UTF-8",
		"--no-sync").CombinedOutput(); err != nil {
		return 1, fmt.Errorf("initdb: %w\n%s", err, out)
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return 1, err
	}
	port := l.Addr().(*net.TCPAddr).Port
	l.Close()
	server := run("postgres", "-D", data, "-h", "127.0.0.1", "-p", strconv.Itoa(port), "-k", "", "-F")
	if err := server.Start(); err != nil {
		return 1, err
	}
	defer func() {
		_ = server.Process.Signal(syscall.SIGINT)
		_ = server.Wait()
	}()
	*url = fmt.Sprintf("postgres://unvora@127.0.0.1:%d/postgres?sslmode=disable", port)
	for began := time.Now(); ; time.Sleep(50 * time.Millisecond) {
		conn, err := pgx.Connect(context.Background(), *url)
		if err == nil {
			conn.Close(context.Background())
			break
		}
		if time.Since(began) > 30*time.Second {
			return 1, err
		}
	}
	return m.Run(), nil
}

// Database makes a database of its own for a test and returns its address.
func Database(t testing.TB, url string) string {
	t.Helper()
	conn, err := pgx.Connect(t.Context(), url)
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close(context.Background())
	name := fmt.Sprintf("test_%d", databases.Add(1))
	if _, err := conn.Exec(t.Context(), "create database "+name); err != nil {
		t.Fatal(err)
	}
	config := conn.Config()
	return fmt.Sprintf("postgres://%s@127.0.0.1:%d/%s?sslmode=disable", config.User, config.Port, name)
}

var databases atomic.Int64
