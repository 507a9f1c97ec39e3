package cimi

import (
	"encoding/json"
	"fmt"
	"strconv"
	"strings"
	"time"
)

// Namespace that type and action URIs begin with (DSP0263, 5.4).
const Namespace = "http://schemas.dmtf.org/cimi/2/"

// Relations of operations. Those with a scheme are actions (DSP0263, 5.5.11);
// RelUpload is ours (docs/managers.md).
const (
	RelAdd      = "add"
	RelDelete   = "delete"
	RelStart    = Namespace + "action/start"
	RelStop     = Namespace + "action/stop"
	RelCapture  = Namespace + "action/capture"
	RelUpload   = "https://unvora.example/cimi/upload"
	VersionHead = "CIMI-Specification-Version"
)

// Ref refers to another resource.
type Ref struct {
	Href string `json:"href"`
}

// Operation that can be asked of a resource now.
type Operation struct {
	Rel  string `json:"rel"`
	Href string `json:"href"`
}

// Common is what all resources have (DSP0263, 5.7.1).
type Common struct {
	ResourceURI string            `json:"resourceURI"`
	ID          string            `json:"id"`
	Name        string            `json:"name,omitempty"`
	Description string            `json:"description,omitempty"`
	Created     *time.Time        `json:"created,omitempty"`
	Updated     *time.Time        `json:"updated,omitempty"`
	Properties  map[string]string `json:"properties,omitempty"`
	Operations  []Operation       `json:"operations,omitempty"`
}

// Base is the part that all resources have.
func (c Common) Base() Common { return c }

// Can returns where an operation is asked for; "" when it isn't offered.
func (c Common) Can(rel string) string {
	for _, o := range c.Operations {
		if o.Rel == rel || strings.HasSuffix(o.Rel, strings.TrimPrefix(rel, Namespace)) &&
			strings.HasPrefix(o.Rel, "http://schemas.dmtf.org/cimi/") {
			return o.Href
		}
	}
	return ""
}

// EntryPoint is where everything else is found (DSP0263, 5.11).
type EntryPoint struct {
	Common
	BaseURI      string `json:"baseURI"`
	Machines     *Ref   `json:"machines,omitempty"`
	Volumes      *Ref   `json:"volumes,omitempty"`
	VolumeImages *Ref   `json:"volumeImages,omitempty"`
	Networks     *Ref   `json:"networks,omitempty"`
}

// States of a Machine (DSP0263, 5.14.1).
const (
	Started   = "STARTED"
	Stopped   = "STOPPED"
	Paused    = "PAUSED"
	Suspended = "SUSPENDED"
)

// Machine of the provider. Volumes and interfaces are expanded in lists.
type Machine struct {
	Common
	State             string                       `json:"state"`
	CPU               int                          `json:"cpu"`
	Memory            int64                        `json:"memory"` // KiB
	CPUArch           string                       `json:"cpuArch,omitempty"`
	Volumes           Collection[MachineVolume]    `json:"volumes"`
	NetworkInterfaces Collection[NetworkInterface] `json:"networkInterfaces"`
}

// MachineVolume attaches a volume to a machine.
type MachineVolume struct {
	Common
	InitialLocation string `json:"initialLocation,omitempty"`
	Volume          Ref    `json:"volume"`
}

// NetworkInterface of a machine.
type NetworkInterface struct {
	Common
	Network    Ref    `json:"network"`
	State      string `json:"state,omitempty"`
	MACAddress string `json:"macAddress,omitempty"`
}

// Volume holds a disk's blocks.
type Volume struct {
	Common
	State    string `json:"state"`
	Capacity int64  `json:"capacity"` // kilobytes, of 1000 bytes each
	Bootable bool   `json:"bootable"`
}

// Network that interfaces are connected to.
type Network struct {
	Common
	State string `json:"state,omitempty"`
}

// States of a VolumeImage.
const (
	Creating  = "CREATING"
	Available = "AVAILABLE"
	Failed    = "ERROR"
)

// VolumeImage is what a volume held at one moment. The kind PartialSnapshot, as
// of machine images, is an image that holds only what differs from RelatedImage.
type VolumeImage struct {
	Common
	State         string `json:"state,omitempty"`
	Kind          string `json:"type,omitempty"`
	ImageLocation *Ref   `json:"imageLocation,omitempty"`
	RelatedImage  *Ref   `json:"relatedImage,omitempty"`
	Bootable      bool   `json:"bootable,omitempty"`
}

// PartialSnapshot is a kind of image (DSP0263, 5.15.1).
const PartialSnapshot = "PARTIAL_SNAPSHOT"

// Member of a collection, whose array in JSON is called after it.
type Member interface {
	members() string
	Base() Common
}

func (Machine) members() string          { return "machines" }
func (MachineVolume) members() string    { return "volumes" }
func (NetworkInterface) members() string { return "networkInterfaces" }
func (Volume) members() string           { return "volumes" }
func (VolumeImage) members() string      { return "volumeImages" }
func (Network) members() string          { return "networks" }

// Collection of resources (DSP0263, 5.5.12), with its members, or only a
// reference to where they are.
type Collection[T Member] struct {
	Common
	Href    string
	Count   int // of all, also when only some are told
	Members []T
}

type collection struct {
	Common
	Href  string `json:"href,omitempty"`
	Count int    `json:"count"`
}

// MarshalJSON names the array of members after what they are.
func (c Collection[T]) MarshalJSON() ([]byte, error) {
	if c.Members == nil {
		return json.Marshal(Ref{c.Href})
	}
	head, err := json.Marshal(collection{c.Common, c.Href, c.Count})
	if err != nil {
		return nil, err
	}
	list, err := json.Marshal(c.Members)
	if err != nil {
		return nil, err
	}
	var none T
	return fmt.Appendf(head[:len(head)-1], ",%q:%s}", none.members(), list), nil
}

// UnmarshalJSON reads what MarshalJSON wrote.
func (c *Collection[T]) UnmarshalJSON(raw []byte) error {
	var head collection
	if err := json.Unmarshal(raw, &head); err != nil {
		return err
	}
	c.Common, c.Href, c.Count = head.Common, head.Href, head.Count
	var all map[string]json.RawMessage
	if err := json.Unmarshal(raw, &all); err != nil {
		return err
	}
	var none T
	if list := all[none.members()]; list != nil {
		return json.Unmarshal(list, &c.Members)
	}
	return nil
}

// VolumeCreate asks for a volume with an image's contents.
type VolumeCreate struct {
	Common
	VolumeTemplate struct {
		VolumeConfig struct {
			Capacity int64 `json:"capacity"` // kilobytes
		} `json:"volumeConfig"`
		VolumeImage Ref `json:"volumeImage"`
	} `json:"volumeTemplate"`
}

// MachineCreate asks for a machine of volumes that are there.
type MachineCreate struct {
	Common
	MachineTemplate struct {
		MachineConfig struct {
			CPU    int   `json:"cpu"`
			Memory int64 `json:"memory"` // KiB
		} `json:"machineConfig"`
		Volumes           []MachineVolume    `json:"volumes"`
		NetworkInterfaces []NetworkInterface `json:"networkInterfaces"`
	} `json:"machineTemplate"`
}

// major is the version that a type URI or a version header speaks of; 0 when it
// can't be told.
func major(text string) int {
	text = strings.TrimPrefix(text, "http://schemas.dmtf.org/cimi/")
	first, _, _ := strings.Cut(strings.ReplaceAll(text, "/", "."), ".")
	n, _ := strconv.Atoi(first)
	return n
}
