// Package standin plays a foreign management server that speaks CIMI, for the
// sample estate and for trying things out: its machines, volumes and networks lie
// in one directory, its volumes as raw images. It is no product to run machines
// on; what it plays is told in docs/managers.md.
package standin

import (
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"time"

	"unvora.example/unvora/internal/cimi"
)

// State is what the server holds; it lies in state.json of its directory.
type State struct {
	Name     string    `json:"name"`
	Listen   string    `json:"listen"`
	Version  string    `json:"version"` // of the interface, as it tells it
	Accounts []Account `json:"accounts"`
	Hosts    []Host    `json:"hosts"`
	Networks []Network `json:"networks"`
	Machines []Machine `json:"machines"`
	Volumes  []Volume  `json:"volumes"`
	Images   []Image   `json:"images"`
}

// Account that may ask; a reader may change nothing and fetch no disks.
type Account struct {
	Name     string `json:"name"`
	Password string `json:"password"`
	Reader   bool   `json:"reader"`
}

// Host that machines run on. Where Live is unset, only the disks of stopped
// machines are handed out.
type Host struct {
	Name string `json:"name"`
	Live bool   `json:"live"`
}

// Network that machines are connected to.
type Network struct {
	Name string `json:"name"`
	VLAN int    `json:"vlan"`
}

// Machine of the server.
type Machine struct {
	ID         string            `json:"id"`
	Name       string            `json:"name"`
	Host       string            `json:"host"`
	State      string            `json:"state"`
	CPUs       int               `json:"cpus"`
	MemoryKiB  int64             `json:"memoryKiB"`
	Volumes    []string          `json:"volumes"` // ids
	NICs       []NIC             `json:"nics"`
	Properties map[string]string `json:"properties"`
	Updated    time.Time         `json:"updated"`
}

// NIC of a machine.
type NIC struct {
	Network string `json:"network"`
	MAC     string `json:"mac"`
}

// Volume is a raw image in the directory volumes.
type Volume struct {
	ID       string `json:"id"`
	Name     string `json:"name"`
	Bytes    int64  `json:"bytes"`
	Bootable bool   `json:"bootable"`
	Writes   int    `json:"writes"` // of the guest that is played, so far

	Properties map[string]string `json:"properties"`
}

// Image is what a volume held at one moment: raw in images/ID.raw, and as it is
// handed out, in QCOW2, in images/ID.qcow2.
type Image struct {
	ID     string `json:"id"`
	Name   string `json:"name"`
	State  string `json:"state"`
	Since  string `json:"since"` // id of the image that it is a layer on
	Key    string `json:"key"`   // whoever knows it may read, or write, the image
	Upload bool   `json:"upload"`
	Bytes  int64  `json:"bytes"`

	Properties map[string]string `json:"properties"`
}

// Server plays the management server of a directory.
type Server struct {
	dir string
	log *slog.Logger

	mu    sync.Mutex
	state State
	busy  sync.WaitGroup
}

// Open reads a directory.
func Open(dir string, log *slog.Logger) (*Server, error) {
	s := &Server{dir: dir, log: log}
	raw, err := os.ReadFile(filepath.Join(dir, "state.json"))
	if err != nil {
		return nil, err
	}
	if err := json.Unmarshal(raw, &s.state); err != nil {
		return nil, fmt.Errorf("%s: %w", filepath.Join(dir, "state.json"), err)
	}
	for _, sub := range []string{"volumes", "images"} {
		if err := os.MkdirAll(filepath.Join(dir, sub), 0o755); err != nil {
			return nil, err
		}
	}
	for i := range s.state.Images {
		if im := &s.state.Images[i]; im.State == cimi.Creating && !im.Upload {
			im.State = cimi.Failed // it was stopped while it made it
		}
	}
	return s, nil
}

// Save writes a state into a directory, for a server to be opened there.
func Save(dir string, state State) error {
	raw, err := json.MarshalIndent(state, "", "  ")
	if err != nil {
		return err
	}
	file := filepath.Join(dir, "state.json")
	if err := os.WriteFile(file+".new", raw, 0o600); err != nil {
		return err
	}
	return os.Rename(file+".new", file)
}

// save keeps what has changed; the lock is held.
func (s *Server) save() error { return Save(s.dir, s.state) }

// VolumePath is where a volume's blocks lie.
func VolumePath(dir, id string) string { return filepath.Join(dir, "volumes", id+".raw") }

func (s *Server) imagePath(id, ext string) string { return filepath.Join(s.dir, "images", id+ext) }

func find[T any](list []T, is func(*T) bool) *T {
	for i := range list {
		if is(&list[i]) {
			return &list[i]
		}
	}
	return nil
}

func (s *Server) machine(id string) *Machine {
	return find(s.state.Machines, func(m *Machine) bool { return m.ID == id })
}

func (s *Server) volume(id string) *Volume {
	return find(s.state.Volumes, func(v *Volume) bool { return v.ID == id })
}

func (s *Server) image(id string) *Image {
	return find(s.state.Images, func(i *Image) bool { return i.ID == id })
}

// user of a volume; nil when no machine has it.
func (s *Server) user(volume string) *Machine {
	return find(s.state.Machines, func(m *Machine) bool { return slices.Contains(m.Volumes, volume) })
}

// handedOut tells whether images of a volume can be made now.
func (s *Server) handedOut(volume string) bool {
	m := s.user(volume)
	if m == nil || m.State == cimi.Stopped {
		return true
	}
	h := find(s.state.Hosts, func(h *Host) bool { return h.Name == m.Host })
	return h != nil && h.Live
}

// guestWrites plays what a running guest does to its disks: a mebibyte here and there.
func (s *Server) guestWrites(v *Volume) error {
	m := s.user(v.ID)
	if m == nil || m.State != cimi.Started {
		return nil
	}
	f, err := os.OpenFile(VolumePath(s.dir, v.ID), os.O_RDWR, 0)
	if err != nil {
		return err
	}
	defer f.Close()
	block := make([]byte, 1<<20)
	copy(block, fmt.Sprintf("%s wrote this, for the %d. time", m.Name, v.Writes+1))
	const from = 40 << 20
	at := from + int64(v.Writes*7<<20)%(v.Bytes-from-(1<<20))
	v.Writes++
	_, err = f.WriteAt(block, at>>20<<20)
	return err
}

// setState starts or stops a machine.
func (s *Server) setState(m *Machine, state string) error {
	if state == cimi.Stopped {
		for _, id := range m.Volumes {
			if err := s.guestWrites(s.volume(id)); err != nil {
				return err
			}
		}
	}
	m.State, m.Updated = state, time.Now()
	return s.save()
}

// dropImage forgets an image and removes its files.
func (s *Server) dropImage(id string) error {
	s.state.Images = slices.DeleteFunc(s.state.Images, func(i Image) bool { return i.ID == id })
	return errors.Join(s.removeImage(id), s.save())
}

// removeImage removes the files of an image.
func (s *Server) removeImage(id string) error {
	for _, ext := range []string{".raw", ".qcow2", ".upload"} {
		if err := os.Remove(s.imagePath(id, ext)); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	return nil
}

func newID() string { return rand.Text()[:12] }
