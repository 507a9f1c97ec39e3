// Package identity tells the facets of a machine's identity apart and says
// which of them are renewed. It makes no random value itself: those come from
// a Source that the caller supplies, so that what is given out can be recorded
// and kept unique.
package identity

import (
	"fmt"
	"net"
	"strings"

	"github.com/google/uuid"

	"unvora.example/unvora/core/machine"
)

// Facet names one part of a machine's identity.
type Facet string

const (
	MachineUUID  Facet = "uuid"
	FirmwareUUID Facet = "firmware-uuid" // and the serial number with it
	MAC          Facet = "mac"
	DiskID       Facet = "disk-id"
	GenerationID Facet = "generation-id"
	TPM          Facet = "tpm"
)

// Facets lists all, in the order in which they are told.
var Facets = []Facet{MachineUUID, FirmwareUUID, MAC, DiskID, GenerationID, TPM}

// Usual are the facets that are renewed unless others are named: all but the TPM's, which secrets of the guest may hang
// on.
var Usual = []Facet{MachineUUID, FirmwareUUID, MAC, DiskID, GenerationID}

var words = map[Facet]string{MachineUUID: "machine UUID", FirmwareUUID: "firmware UUID", MAC: "MACs",
	DiskID: "disk ids", GenerationID: "generation id", TPM: "TPM identity"}

// Words names the facet in a sentence.
func (f Facet) Words() string { return words[f] }

// Keep and Renew are the two answers to the question of identity.
const (
	Keep  = "keep"
	Renew = "renew"
)

// IsUUID tells whether an id is one that any format has a place for.
func IsUUID(id string) bool {
	_, err := uuid.Parse(id)
	return err == nil
}

// Choice says for each facet whether it is kept or renewed.
type Choice map[Facet]string

// Choose answers for all facets at once, then lets single ones differ. A TPM's
// identity is renewed only where it is named: the secrets in it are lost then.
func Choose(all string, single map[Facet]string) (Choice, error) {
	c := Choice{}
	for _, f := range Facets {
		c[f] = all
	}
	c[TPM] = Keep
	for f, v := range single {
		if _, ok := c[f]; !ok {
			return nil, fmt.Errorf("unknown facet %q; there are %v", f, Facets)
		}
		if v != Keep && v != Renew {
			return nil, fmt.Errorf("facet %s: %q is neither keep nor renew", f, v)
		}
		c[f] = v
	}
	return c, nil
}

// Renewed lists the facets that are renewed, in the order of Facets.
func (c Choice) Renewed() []string {
	names := []string{}
	for _, f := range Facets {
		if c[f] == Renew {
			names = append(names, string(f))
		}
	}
	return names
}

// Source gives out values that nobody else has.
type Source interface {
	UUID() (string, error)
	MAC() (string, error)
}

// Apply renews in m what the choice says, with values from src. Facets that
// are not stated get a value too: a machine needs them to run.
func Apply(m *machine.Machine, c Choice, src Source) error {
	var err error
	renew := func(f Facet, value *string, next func() (string, error)) {
		if err == nil && (c[f] == Renew || *value == "") {
			*value, err = next()
		}
	}
	renew(MachineUUID, &m.UUID, src.UUID)
	renew(FirmwareUUID, &m.FirmwareUUID, src.UUID)
	for i := range m.NICs {
		renew(MAC, &m.NICs[i].MAC, src.MAC)
	}
	for i := range m.Disks {
		renew(DiskID, &m.Disks[i].Serial, func() (string, error) {
			id, err := src.UUID()
			return strings.ReplaceAll(id, "-", "")[:min(len(id), machine.SerialLength)], err
		})
	}
	renew(GenerationID, &m.GenerationID, src.UUID)
	if c[FirmwareUUID] == Renew {
		m.Serial = ""
	}
	if c[TPM] == Renew {
		m.TPMKey = ""
	}
	return err
}

// RangeMAC is the n-th MAC of a site's range, which its first three octets
// name; n counts from 0 to 2^24-1.
func RangeMAC(prefix string, n int64) (string, error) {
	hw, err := net.ParseMAC(prefix + ":00:00:00")
	if err != nil || len(hw) != 6 {
		return "", fmt.Errorf("%q is not the first three octets of a MAC", prefix)
	}
	if hw[0]&2 == 0 || hw[0]&1 != 0 {
		return "", fmt.Errorf("range %s is not locally administered", prefix)
	}
	if n < 0 || n >= 1<<24 {
		return "", fmt.Errorf("the range %s is used up", prefix)
	}
	hw[3], hw[4], hw[5] = byte(n>>16), byte(n>>8), byte(n)
	return hw.String(), nil
}
