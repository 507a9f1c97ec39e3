package agent

import (
	"bytes"
	"context"
	_ "embed"
	"fmt"
	"os"
	"runtime"
	"strconv"
	"strings"
	"text/template"

	"github.com/BurntSushi/toml"
	"golang.org/x/sys/unix"

	"unvora.example/unvora/core/machine"
	"unvora.example/unvora/core/wiring"
	"unvora.example/unvora/internal/agent/driver/qemu"
	"unvora.example/unvora/internal/agent/ground"
	"unvora.example/unvora/internal/hostlink"
)

// Wishes are what somebody says of a host that is proposed; "" for what is found out, or usual.
type Wishes struct{ Name, Site, Listen, State, Pool string }

// Propose is the configuration of an agent on this computer, as far as looking at it tells, and what it lacks. Whatever
// is usual there can be changed.
func Propose(ctx context.Context, w Wishes) (*Config, []hostlink.Check, error) {
	look := qemu.Look(ctx, qemu.AccelerationProbe)
	c := &Config{Name: w.Name, Site: w.Site, Family: "qemu", Driver: "qemu", Listen: w.Listen, State: w.State,
		CPUs: runtime.NumCPU(), Switches: []wiring.Switch{{Name: "quarantine", Segment: wiring.Quarantine}},
		Pools: []ground.PoolConfig{{Name: "machines", Path: w.Pool}}}
	var info unix.Sysinfo_t
	if err := unix.Sysinfo(&info); err != nil {
		return nil, nil, err
	}
	c.MemoryMB = int64(info.Totalram) * int64(info.Unit) >> 20
	if c.Name == "" {
		name, err := os.Hostname()
		if err != nil {
			return nil, nil, err
		}
		c.Name, _, _ = strings.Cut(name, ".")
	}
	if err := machine.CheckName(c.Name); err != nil {
		return nil, nil, fmt.Errorf("the name of the host: %w", err)
	}
	found, err := qemu.Bridges()
	if err != nil {
		return nil, nil, err
	}
	for _, s := range found {
		s.Segment = s.Name // until somebody says which network it is
		c.Switches = append(c.Switches, s)
	}
	return c, look.Checks(), nil
}

// Describe writes a proposed configuration with what is worth knowing of each part.
func Describe(c *Config) ([]byte, error) {
	var b bytes.Buffer
	t := template.Must(template.New("agent").Funcs(template.FuncMap{"quoted": strconv.Quote}).Parse(proposal))
	if err := t.Execute(&b, c); err != nil {
		return nil, err
	}
	var again Config
	if _, err := toml.Decode(b.String(), &again); err != nil {
		return nil, fmt.Errorf("a name or a path has characters that no such file can have: %w", err)
	}
	return b.Bytes(), nil
}

// proposal is an agent's file, as TOML 1.0 writes it.
//
//go:embed proposal.toml
var proposal string
