package ground

import (
	"path/filepath"
	"time"

	"unvora.example/unvora/core/fit"
	"unvora.example/unvora/core/wiring"
	"unvora.example/unvora/internal/agent/door"
)

// Config is an agent's configuration, read from a TOML file.
type Config struct {
	Name     string          `toml:"name"`
	Site     string          `toml:"site"`
	Family   string          `toml:"family"`
	Driver   string          `toml:"driver"`
	Listen   string          `toml:"listen"` // address:port
	State    string          `toml:"state"`  // directory of the agent's own records
	CPUs     int             `toml:"cpus"`
	MemoryMB int64           `toml:"memory_mib"`
	Pools    []PoolConfig    `toml:"pool"`
	Shelves  []ShelfConfig   `toml:"shelf"`
	Switches []wiring.Switch `toml:"switch"`
	Ports    []wiring.Port   `toml:"port"`
	Machines []MachineConfig `toml:"machine"`
	// Abilities are what the hypervisor can do beyond its family.
	Abilities fit.Abilities `toml:"abilities"`
	// Web are addresses that packages may be fetched from beside those of the public
	// internet: names, addresses, or networks as 192.0.2.0/24.
	Web []string `toml:"web,omitempty"`
	// TrashDays is how long what was taken away is kept; 14 when it is not said.
	TrashDays int `toml:"trash_days"`
	// StopSeconds is how long a guest has to shut down before its machine is turned off; 90 when it is not said.
	StopSeconds int `toml:"stop_seconds,omitempty"`
	// Acceleration is on or off; "" when it is found out whether the hardware runs guests.
	Acceleration string `toml:"acceleration,omitempty"`
	// ReturnSeconds is after which time a change of switches that cut the host
	// off is taken back; 60 when it is not said.
	ReturnSeconds int `toml:"return_seconds"`
}

// MachineConfig is a machine that the host lists when its agent starts for the
// first time.
type MachineConfig struct {
	Folder  string `toml:"folder"`
	Running bool   `toml:"running"`
}

// PoolConfig is a directory where machine folders lie.
type PoolConfig struct {
	Name      string   `toml:"name"`
	Path      string   `toml:"path"`
	Removable bool     `toml:"removable"`
	Labels    []string `toml:"labels"`
	MaxFile   int64    `toml:"max_file,omitempty"` // bytes; 0: as the file system says
	Rate      int64    `toml:"rate,omitempty"`     // bytes a second; 0: it is measured
	Manager   string   `toml:"manager,omitempty"`  // that it belongs to; "" for none
}

// ShelfConfig is a directory where packages are kept.
type ShelfConfig struct {
	Name string `toml:"name"`
	Path string `toml:"path"`
}

// CodeFile is where the code lies by which an agent is added, until it was: a log,
// where it would end if it was printed, is read by more people.
func (c *Config) CodeFile() string { return filepath.Join(c.State, "code") }

// Door is the way to the files of the host's pools and shelves.
func (c Config) Door() *door.Door {
	var roots []string
	for _, p := range c.Pools {
		roots = append(roots, p.Path)
	}
	for _, s := range c.Shelves {
		roots = append(roots, s.Path)
	}
	return door.New(roots...)
}

// TrashTerm is how long what was taken away is kept.
func (c Config) TrashTerm() time.Duration {
	days := c.TrashDays
	if days == 0 {
		days = 14
	}
	return time.Duration(days) * 24 * time.Hour
}

// ReturnAfter is after which time a change of switches that nobody confirmed is taken back.
func (c Config) ReturnAfter() time.Duration {
	if c.ReturnSeconds == 0 {
		return time.Minute
	}
	return time.Duration(c.ReturnSeconds) * time.Second
}
