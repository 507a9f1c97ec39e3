package plan

import (
	"unvora.example/unvora/core/fit"
	"unvora.example/unvora/core/lineage"
	"unvora.example/unvora/core/machine"
	"unvora.example/unvora/core/ovf"
	"unvora.example/unvora/core/wiring"
)

// HostFacts is what is known of a host that takes part.
type HostFacts struct {
	ID, Name    string
	State       string // up, resting, unreachable
	CPUs        int
	MemoryBytes int64
	Family      fit.Family
	Pools       []PoolFacts // in the host's order of preference
	Switches    []wiring.Switch
	MACPrefix   string // of its site's range
}

// PoolFacts is a pool as that host sees it.
type PoolFacts struct {
	ID, Name, Path        string
	State                 string // ready, resting, read-only, away
	Removable             bool
	TotalBytes, FreeBytes int64
}

// ShelfFacts is a shelf and what is needed to write to it.
type ShelfFacts struct {
	ID, Name, Path   string
	HostID, HostName string
	HostState        string // up, resting, unreachable
	FreeBytes        int64
	Taken            map[string]bool // file names that are there
}

// ExportFacts is what Export is worked out from.
type ExportFacts struct {
	Copy      lineage.Known
	PoolState string
	Machine   *machine.Machine // as last seen in its folder
	Host      HostFacts
	Shelf     *ShelfFacts // nil: to the caller's computer
	Busy      string      // the job that is at work on the copy
}

// ImportFacts is what Import is worked out from.
type ImportFacts struct {
	Package  *ovf.Package // nil when Problem says why not
	Problem  *ovf.Problem
	Source   PackageSource
	Where    string // for people: where the package is
	Host     HostFacts
	Parent   string // copy id of the package, or of what it was made from; "" when unknown
	Lineage  string // "" for a new one
	Origin   lineage.Origin
	SameUUID []lineage.Known
	SameMAC  map[string][]lineage.Known
	Taken    func(name string) bool // names on the host and folders in the pool
}

// PackageSource is where a package's bytes come from.
type PackageSource struct {
	Kind string `json:"kind"` // upload: sent by the caller; file: a path at an agent
	Host string `json:"host"` // id, of a file
	Path string `json:"path"`
}

// Parameters of steps, by kind.
type (
	// Power is that of KindStop and KindStart.
	Power struct {
		Copy   string `json:"copy"`
		Folder string `json:"folder"`
	}
	// Pack is that of KindPack and KindHandOut.
	Pack struct {
		Copy     string            `json:"copy"`
		Folder   string            `json:"folder"`
		FromHost string            `json:"fromHost"` // id of the host that has the folder; "" when it is the step's own
		File     string            `json:"file"`     // path of the package; "" when it is handed out
		Shelf    string            `json:"shelf"`
		Name     string            `json:"name"` // of the machine: the files in the package begin with it
		Passport *machine.Passport `json:"passport"`
		Disks    []PackDisk        `json:"disks"`
	}
	// PackDisk is a disk of a package to be.
	PackDisk struct {
		ID           string `json:"id"`
		File         string `json:"file"` // in the package
		Source       string `json:"source"`
		VirtualBytes int64  `json:"virtualBytes"`
	}
	// GiveIDs is that of KindGiveIDs.
	GiveIDs struct {
		Machine   *machine.Machine  `json:"machine"`
		Choice    map[string]string `json:"choice"` // facet → keep or renew
		MACPrefix string            `json:"macPrefix"`
	}
	// FetchDisk is that of KindFetchDisk.
	FetchDisk struct {
		Source       PackageSource `json:"source"`
		Disk         string        `json:"disk"`
		Entry        ovf.Entry     `json:"entry"`
		Digest       ovf.Digest    `json:"digest"` // that the file must have; empty: none stated
		Pool         string        `json:"pool"`   // path on the host
		File         string        `json:"file"`   // name in the machine folder
		Format       string        `json:"format"`
		VirtualBytes int64         `json:"virtualBytes"`
	}
	// Place is that of KindPlace.
	Place struct {
		Pool       string `json:"pool"`
		PoolID     string `json:"poolId"`
		Name       string `json:"name"` // of folder and machine
		Descriptor string `json:"descriptor"`
	}
	// Record is that of KindRecord.
	Record struct {
		Form    string            `json:"form"`
		Name    string            `json:"name"`
		Lineage string            `json:"lineage"`
		Parent  string            `json:"parent"`
		Host    string            `json:"host"`
		Pool    string            `json:"pool"`
		Shelf   string            `json:"shelf"`
		Path    string            `json:"path"`
		Choice  map[string]string `json:"choice"`
		Machine *machine.Machine  `json:"machine"`
	}
)
