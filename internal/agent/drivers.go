package agent

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"unvora.example/unvora/internal/agent/driver"
	"unvora.example/unvora/internal/agent/driver/standin"
)

// drivers is the table of drivers, by the name that an agent's file gives.
var drivers = map[string]func(Config) (driver.Driver, error){
	"standin": func(c Config) (driver.Driver, error) { return standin.New(c.Switches, c.Ports, c.Door()), nil },
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
