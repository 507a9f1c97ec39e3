package door

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"strings"
)

// Own makes the directory of the agent's own records, for its account alone.
func Own(dir string) error {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return fmt.Errorf("directory of the agent's records: %w", err)
	}
	return nil
}

// Unnamed makes a file in a directory of the agent's own that nobody else sees
// and that is gone with the process that has it open, whatever ends it.
func Unnamed(dir string) (*os.File, error) {
	f, err := os.CreateTemp(dir, "spool-*")
	if err != nil {
		return nil, err
	}
	if err := os.Remove(f.Name()); err != nil {
		return nil, errors.Join(err, f.Close())
	}
	return f, nil
}

// WriteOwn writes a file of the agent's own whole, for its account alone.
func WriteOwn(file string, content []byte) error {
	next := file + ".new"
	if err := os.WriteFile(next, content, 0o600); err != nil {
		return err
	}
	return os.Rename(next, file)
}

// DropOwn takes a file of the agent's own away, if it is there.
func DropOwn(file string) error {
	if err := os.Remove(file); !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return nil
}

// bootFile has an id that is another after each start of the computer (proc(5)).
const bootFile = "/proc/sys/kernel/random/boot_id"

// Boot is an id of this start of the computer.
func Boot() (string, error) {
	raw, err := os.ReadFile(bootFile)
	return strings.TrimSpace(string(raw)), err
}
