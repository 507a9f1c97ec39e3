package plan

import (
	"fmt"
	"maps"
	"net/netip"
	"path"
	"slices"
	"strings"

	"unvora.example/unvora/core/firststart"
	"unvora.example/unvora/core/fit"
	"unvora.example/unvora/core/machine"
	"unvora.example/unvora/core/ovf"
)

// FirstStart is what a machine is told when it starts for the first time.
type FirstStart struct {
	Data        *firststart.Data `json:"data,omitempty"`        // that was asked for; nil for none
	Bits        map[string]int   `json:"bits,omitempty"`        // NIC that is given an address → bits of its prefix
	Environment string           `json:"environment,omitempty"` // document that its package asks for
}

// fillFirstStart fills in what a machine is to be told at its first start, once it has its name. What NICs are to get
// there they are given here, unless something else was said of them.
func (req *BringRequest) fillFirstStart(m *machine.Machine) error {
	if req.FirstStart == nil {
		return nil
	}
	d, err := req.FirstStart.For(m.Name, max(1, req.Number))
	if err != nil {
		return fmt.Errorf("first-start data: %w", err)
	}
	if req.filled = d; len(d.Addresses) > 0 {
		m.Static = nil // its guest has those of its origin no more
	}
	addresses := d.Wishes()
	for nic, said := range req.Addresses {
		if wish, also := addresses[nic]; also && wish != said {
			return fmt.Errorf("%s is to get %s, and by the first-start data %s: say one", nic, said, wish)
		}
		addresses[nic] = said
	}
	req.Addresses = addresses
	return nil
}

// dropFirstStart takes out of a machine what another one was told at its first start.
func dropFirstStart(m *machine.Machine) {
	m.Devices = slices.DeleteFunc(m.Devices, holdsFirstStart)
}

// holdsFirstStart tells the drive that first-start data lies in.
func holdsFirstStart(d machine.Device) bool {
	return d.Kind == machine.DeviceCD && path.Base(d.File) == firststart.File
}

// endFirstStart takes what a machine was told at its first start out of its drive; one that runs keeps the drive,
// empty. It returns the step that puts the disc away.
func (b *builder) endFirstStart(facts ChangeFacts, m *machine.Machine) ([]Step, error) {
	at := slices.IndexFunc(m.Devices, holdsFirstStart)
	if at < 0 {
		return nil, fmt.Errorf("no first-start data lies in a drive of %s", m.Name)
	}
	disc := path.Join(facts.Copy.Path, m.Devices[at].File)
	if facts.Copy.State.Active() {
		m.Devices[at].File = ""
	} else {
		dropFirstStart(m)
	}
	return []Step{{Host: facts.Host.Name, What: "Put " + firststart.File + " into the trash of its pool",
		Do: &TakeAway{Folder: disc}}}, nil
}

// firstStart puts what a machine is to be told into a drive of its own: what was asked for, unless its guest would not
// read it, and what its package asks for. told is nil where it comes from no package.
func (b *builder) firstStart(a Arrival, req BringRequest, m *machine.Machine, told *ovf.Environment) error {
	dropFirstStart(m)
	f := &FirstStart{}
	if d := req.filled; d != nil {
		for _, nic := range slices.Sorted(maps.Keys(d.Addresses)) {
			if !hasNIC(m, nic) {
				return fmt.Errorf("first-start data: the machine has no NIC %q; it has %s", nic, nicNames(m))
			}
		}
		if b.readsFirstStart(a.Guest, req.FirstStart.ByHand()) {
			f.Data, f.Bits = d, map[string]int{}
			for _, n := range m.NICs {
				if d.Wishes()[n.Name] == firststart.Give {
					f.Bits[n.Name] = a.Subnets[n.Segment].Bits()
				}
			}
		}
	}
	if told != nil {
		var err error
		if f.Environment, err = b.environment(told, m.Name); err != nil {
			return err
		}
	}
	if f.Data == nil && f.Environment == "" {
		return nil
	}
	drives := 0
	for _, dev := range m.Devices {
		if dev.Kind == machine.DeviceCD {
			drives++
		}
	}
	if most := a.Host.Family.MaxOf[machine.DeviceCD]; drives >= most {
		b.raise(fit.Raise("first-start.no-drive", m.Name, fmt.Sprintf("It has %s already, as many as hosts of the "+
			"family %s give. Take one out first.", count(drives, "drive"), a.Host.Family.Name), nil), "")
		return nil
	}
	m.Devices = append(m.Devices, machine.Device{Kind: machine.DeviceCD, Name: firststart.Drive, File: firststart.File})
	b.first = f
	return nil
}

// readsFirstStart says whether a guest reads first-start data, and what to do by hand where it does not; false: it
// surely doesn't.
func (b *builder) readsFirstStart(g *fit.Guest, byHand string) bool {
	// What is found is told of all that are made together, once.
	const subject = "first start"
	switch {
	case g != nil && g.Initialiser == "" && strings.HasPrefix(g.System, "Windows"):
		b.raise(fit.Raise("first-start.by-hand", subject, sentence(fmt.Sprintf("Its guest, %s, is not seen to read "+
			"first-start data. By hand, inside: %s", g.System, byHand)), nil), "")
		return false
	case g != nil && g.Initialiser != "":
		b.raise(fit.Raise("first-start.read", subject, fmt.Sprintf("%s, seen on its disk, reads this. Once it has: "+
			"unvora change COPY --first-start-done", g.Initialiser), nil), "")
	default:
		b.raise(fit.Raise("first-start.unsure", subject, sentence(fmt.Sprintf("Nothing is seen on its disks that "+
			"reads first-start data. Where nothing does, by hand, inside: %s", byHand)), nil), "")
	}
	return true
}

// Seed is the disc of a copy, its NICs having their MACs, and the addresses that they were given.
func (f *FirstStart) Seed(copyID string, m *machine.Machine, given map[string]string) (*firststart.Seed, error) {
	prefixes := map[string]netip.Prefix{}
	for nic, bits := range f.Bits {
		address, err := netip.ParseAddr(given[nic])
		if err != nil {
			return nil, fmt.Errorf("address of %s: %w", nic, err)
		}
		prefixes[nic] = netip.PrefixFrom(address, bits)
	}
	var s firststart.Seed
	if f.Data != nil {
		var err error
		if s, err = f.Data.Seed(copyID, m.NICs, prefixes); err != nil {
			return nil, err
		}
	}
	s.Environment = f.Environment
	return &s, nil
}
