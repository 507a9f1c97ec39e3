package qemu

import (
	"encoding/json"
	"errors"
	"os"
	"path/filepath"

	"golang.org/x/sys/unix"
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

func (d runDir) write(name string, raw []byte) error {
	return os.WriteFile(filepath.Join(string(d), name), raw, 0o600)
}

func (d runDir) remove(name string) error {
	err := os.Remove(filepath.Join(string(d), name))
	if errors.Is(err, os.ErrNotExist) {
		err = nil
	}
	return err
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
