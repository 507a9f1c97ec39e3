package agent

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"unvora.example/unvora/internal/agent/driver"
	"unvora.example/unvora/internal/agent/driver/qemu"
	"unvora.example/unvora/internal/agent/driver/standin"
)

// MachinesDir is where an agent keeps what belongs to machines that run, in the directory of its state.
const MachinesDir = "machines"

// drivers is the table of drivers, by the name that an agent's file gives.
var drivers = map[string]func(Config) (driver.Driver, error){
	"standin": func(c Config) (driver.Driver, error) { return standin.New(c.Switches, c.Ports, c.Door()), nil },
	"qemu": func(c Config) (driver.Driver, error) {
		return qemu.New(qemu.Options{State: filepath.Join(c.State, MachinesDir), Files: c.Door(),
			Host: qemu.Look(context.Background(), c.Acceleration), Switches: c.Switches,
			Patience: time.Duration(c.StopSeconds) * time.Second})
	},
}

// DriverOf makes the driver that a configuration names.
func DriverOf(c Config) (driver.Driver, error) {
	make, ok := drivers[c.Driver]
	if !ok {
		return nil, fmt.Errorf("there is no driver %q; there is %s", c.Driver,
			strings.Join(slices.Sorted(maps.Keys(drivers)), ", "))
	}
	return make(c)
}

// ShutDown shuts down all machines of a computer. Its agent need not run.
func ShutDown(ctx context.Context, c Config) error {
	d, err := DriverOf(c)
	if err != nil {
		return err
	}
	all, ok := d.(driver.Lasting)
	if !ok {
		return nil // its machines end with the agent
	}
	return errors.Join(all.StopAll(ctx), d.Close())
}
