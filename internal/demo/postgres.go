package demo

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"

	"github.com/cenkalti/backoff/v5"
	"github.com/jackc/pgx/v5"
)

// postgres is PostgreSQL as installed, run with a cluster of our own.
type postgres struct {
	bin        string
	credential *syscall.Credential // of an unprivileged account, when we are root
}

func findPostgres() (*postgres, error) {
	candidates, err := filepath.Glob("/usr/lib/postgresql/*/bin/postgres")
	if err != nil {
		return nil, err
	}
	slices.SortFunc(candidates, func(a, b string) int { return version(b) - version(a) })
	if p, err := exec.LookPath("postgres"); err == nil {
		candidates = append(candidates, p)
	}
	if len(candidates) == 0 {
		return nil, errors.New("PostgreSQL is not installed: apt-get install postgresql (make demo does that)")
	}
	pg := &postgres{bin: filepath.Dir(candidates[0])}
	if os.Geteuid() == 0 {
		if pg.credential, err = unprivileged(); err != nil {
			return nil, err
		}
	}
	return pg, nil
}

func version(path string) int {
	n, _ := strconv.Atoi(filepath.Base(filepath.Dir(filepath.Dir(path))))
	return n
}

// unprivileged is the account of Debian's package: PostgreSQL refuses to run as root.
func unprivileged() (*syscall.Credential, error) {
	c, err := account("postgres", "nobody")
	if c == nil && err == nil {
		err = errors.New("PostgreSQL does not run as root, and there is no account postgres or nobody to run it as: " +
			"start the demo as another user")
	}
	return c, err
}

// account is the first of these that the system has.
func account(names ...string) (*syscall.Credential, error) {
	for _, name := range names {
		u, err := user.Lookup(name)
		if err != nil {
			continue
		}
		uid, err1 := strconv.ParseUint(u.Uid, 10, 32)
		gid, err2 := strconv.ParseUint(u.Gid, 10, 32)
		if err := errors.Join(err1, err2); err != nil {
			return nil, err
		}
		return &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}, nil
	}
	return nil, nil
}

// data is the directory of the cluster, or a link to it: an account that may not
// pass through the demo's directory gets one elsewhere.
func (pg *postgres) data(dir string) string { return filepath.Join(dir, "postgres") }

func (pg *postgres) init(dir, password string) error {
	data := pg.data(dir)
	if _, err := os.Stat(filepath.Join(data, "PG_VERSION")); err == nil {
		return nil
	}
	if err := os.RemoveAll(data); err != nil { // half-made by a start that was cut short
		return err
	}
	real := data
	if pg.credential != nil && !passable(dir) {
		elsewhere, err := os.MkdirTemp("/var/tmp", "unvora-demo-")
		if err != nil {
			return err
		}
		if err := os.Chmod(elsewhere, 0o755); err != nil {
			return err
		}
		real = filepath.Join(elsewhere, "postgres")
		if err := os.Symlink(real, data); err != nil {
			return err
		}
	}
	if err := os.Mkdir(real, 0o700); err != nil {
		return explain(err)
	}
	pwfile := filepath.Join(filepath.Dir(real), "postgres-password")
	if err := os.WriteFile(pwfile, []byte(password+"\n"), 0o600); err != nil {
		return explain(err)
	}
	defer func() { _ = os.Remove(pwfile) }()
	if pg.credential != nil {
		for _, f := range []string{real, pwfile} {
			if err := os.Chown(f, int(pg.credential.Uid), int(pg.credential.Gid)); err != nil {
				return err
			}
		}
	}
	cmd := exec.Command(filepath.Join(pg.bin, "initdb"), "-D", real, "-U", "unvora", "--auth=scram-sha-256",
		"--pwfile="+pwfile, "-E", "UTF8", "--locale=C.UTF-8", "--no-sync")
	cmd.SysProcAttr = &syscall.SysProcAttr{Credential: pg.credential}
	cmd.Dir = "/"
	if out, err := cmd.CombinedOutput(); err != nil {
		_ = os.RemoveAll(real)
		return fmt.Errorf("make the database cluster: %w\n%s", err, strings.TrimSpace(string(out)))
	}
	return nil
}

// passable tells whether other accounts may pass through all directories to dir.
func passable(dir string) bool {
	for ; dir != "/"; dir = filepath.Dir(dir) {
		st, err := os.Stat(dir)
		if err != nil || st.Mode().Perm()&0o001 == 0 {
			return false
		}
	}
	return true
}

func (pg *postgres) process(dir string, port int) process {
	data := pg.data(dir)
	if real, err := filepath.EvalSymlinks(data); err == nil {
		data = real
	}
	return process{
		// a fast shutdown
		name: "postgres", path: filepath.Join(pg.bin, "postgres"), credential: pg.credential, signal: syscall.SIGINT,
		args: []string{"-D", data, "-h", "127.0.0.1", "-p", strconv.Itoa(port), "-k", "", "-c", "max_connections=200",
			"-c", "log_min_messages=warning"},
		env: []string{"LC_ALL=C.UTF-8"},
	}
}

// ready waits for the server, makes the database and returns its address.
func (pg *postgres) ready(ctx context.Context, k *kept) (string, error) {
	address := func(db string) string {
		return fmt.Sprintf("postgres://unvora:%s@127.0.0.1:%d/%s?sslmode=disable", k.DatabasePassword, k.DatabasePort,
			db)
	}
	_, err := backoff.Retry(ctx, func() (struct{}, error) {
		conn, err := pgx.Connect(ctx, address("postgres"))
		if err != nil {
			return struct{}{}, err
		}
		defer conn.Close(ctx)
		var there bool
		if err := conn.QueryRow(ctx,
			`select exists (select 1 from pg_database where datname = 'unvora')`).Scan(&there); err != nil || there {
			return struct{}{}, err
		}
		_, err = conn.Exec(ctx, `create database unvora`)
		return struct{}{}, err
	}, patience()...)
	return address("unvora"), err
}
