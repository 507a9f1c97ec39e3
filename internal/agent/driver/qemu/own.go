package qemu

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math"
	"os"
	"path/filepath"

	"golang.org/x/sys/unix"

	"unvora.example/unvora/internal/agent/driver"
)

// What follows reaches the driver's own directory, and the firmware of the computer's system: never what lies in pools,
// to which the agent's door leads.

// runDir is the directory of a machine that runs, or ran.
type runDir string

// make makes it, if it is not there.
func (d runDir) make() error { return os.MkdirAll(string(d), 0o700) }

// read is what is in a file of it; nothing when that is not there.
func (d runDir) read(name string) ([]byte, error) {
	raw, err := os.ReadFile(filepath.Join(string(d), name))
	if errors.Is(err, os.ErrNotExist) {
		err = nil
	}
	return raw, err
}

// readJSON tells whether a file was there and could be read.
func (d runDir) readJSON(name string, into any) bool {
	raw, err := d.read(name)
	return err == nil && len(raw) > 0 && json.Unmarshal(raw, into) == nil
}

// has tells whether a file is there.
func (d runDir) has(name string) (bool, error) {
	_, err := os.Stat(filepath.Join(string(d), name))
	if errors.Is(err, os.ErrNotExist) {
		return false, nil
	}
	return err == nil, err
}

func (d runDir) write(name string, raw []byte) error {
	return os.WriteFile(filepath.Join(string(d), name), raw, 0o600)
}

// writeJSON replaces a file whole.
func (d runDir) writeJSON(name string, value any) error {
	raw, err := json.Marshal(value)
	if err != nil {
		return err
	}
	if err := d.write(name+".new", raw); err != nil {
		return err
	}
	return os.Rename(filepath.Join(string(d), name+".new"), filepath.Join(string(d), name))
}

func (d runDir) remove(name string) error {
	err := os.Remove(filepath.Join(string(d), name))
	if errors.Is(err, os.ErrNotExist) {
		err = nil
	}
	return err
}

// logFile is a part of what a machine has said on its serial port. Its name says where it begins, so that the two are
// never at odds.
type logFile struct {
	path string
	from int64 // position of its first byte
}

const logPattern = "console-*.log"

// logAt is the file that begins at a position.
func (d runDir) logAt(from int64) logFile {
	return logFile{filepath.Join(string(d), fmt.Sprintf("console-%020d.log", from)), from}
}

// logs are all parts, oldest first.
func (d runDir) logs() (list []logFile, err error) {
	paths, err := filepath.Glob(filepath.Join(string(d), logPattern))
	for _, path := range paths { // which are sorted
		var from int64
		if _, err := fmt.Sscanf(filepath.Base(path), "console-%d.log", &from); err == nil {
			list = append(list, logFile{path, from})
		}
	}
	return list, err
}

// said is what a machine has said from a position on, as far as that is kept.
func (d runDir) said(from int64) (driver.Log, error) {
	l := driver.Log{From: from}
	files, err := d.logs()
	if err != nil {
		return l, err
	}
	for _, file := range files {
		at := l.From + int64(len(l.Text))
		if file.from > at { // what was before is not kept
			l, at = driver.Log{From: file.from}, file.from
		}
		f, err := os.Open(file.path)
		if errors.Is(err, os.ErrNotExist) {
			continue // it was dropped just now
		}
		if err != nil {
			return l, err
		}
		text, err := io.ReadAll(io.NewSectionReader(f, at-file.from, math.MaxInt64-at))
		f.Close()
		if err != nil {
			return l, err
		}
		l.Text = append(l.Text, text...)
	}
	return l, nil
}

// open opens the directory itself.
func (d runDir) open() (*os.File, error) { return os.Open(string(d)) }

// runs tells whether its machine runs: the keeper or QEMU holds the lock.
func (d runDir) runs() bool {
	f, err := os.Open(filepath.Join(string(d), lockFile))
	if err != nil {
		return false
	}
	defer f.Close()
	return unix.Flock(int(f.Fd()), unix.LOCK_SH|unix.LOCK_NB) != nil
}

// runDirs are those of all machines, in the directory of a driver, which is made.
func runDirs(state string) (list []runDir, err error) {
	if err := os.MkdirAll(state, 0o700); err != nil {
		return nil, err
	}
	entries, err := os.ReadDir(state)
	for _, e := range entries {
		if e.IsDir() {
			list = append(list, runDir(filepath.Join(state, e.Name())))
		}
	}
	return list, err
}

// firmwareFile opens a file of the computer's own firmware.
func firmwareFile(path string) (*os.File, error) { return os.Open(path) }

// resolved is the path of a program with all links resolved: what may be run is a file, not a name.
func resolved(program string) string {
	if real, err := filepath.EvalSymlinks(program); err == nil {
		return real
	}
	return program
}

// groups are those that a machine's account is in: whoever may use the hardware's virtualisation.
func groups() []uint32 {
	var st unix.Stat_t
	if unix.Stat(kvmDevice, &st) != nil || st.Mode&0o060 != 0o060 || st.Gid == 0 {
		return nil
	}
	return []uint32{st.Gid}
}

// isFile tells a file of the computer's own system from a directory.
func isFile(path string) bool {
	st, err := os.Stat(path)
	return err == nil && !st.IsDir()
}

// reopened is a file that is open already, opened once more for something else.
func reopened(f *os.File, flag int) (*os.File, error) {
	return os.OpenFile(fmt.Sprintf("/proc/self/fd/%d", f.Fd()), flag, 0)
}
