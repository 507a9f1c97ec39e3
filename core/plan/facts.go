package plan

import (
	"net/netip"

	"unvora.example/unvora/core/fit"
	"unvora.example/unvora/core/identity"
	"unvora.example/unvora/core/landing"
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
	Ports       []wiring.Port // nil: its driver makes no switches
	Reached     string        // address by which the host is reached
	MACPrefix   string        // of its site's range

	fit.Abilities
	Protocol      int   // that its agent speaks
	WantsProtocol int   // that the service speaks; 0: not compared
	ClockOff      int64 // seconds by which its clock differs
}

func (h HostFacts) fit() fit.Host {
	return fit.Host{Name: h.Name, CPUs: h.CPUs, MemoryBytes: h.MemoryBytes, Family: h.Family, Abilities: h.Abilities}
}

// PoolFacts is a pool as that host sees it.
type PoolFacts struct {
	ID, Name, Path        string
	State                 string // ready, resting, read-only, away, free
	Labels                []string
	Foreign               string // the manager that it belongs to; "" for none
	MaxFile               int64  // bytes; 0: no bound known
	Ownerless             bool   // whoever reaches its drive reads all of it
	Slow                  string // how slow it was measured to be; "" when it is not
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
	Disks     []FolderDisk
}

// Arrival is what every operation that makes a registered copy is worked out
// from.
type Arrival struct {
	Of        string // name of this machine where several come in; "" for a single one
	Host      HostFacts
	Parent    string // copy id of what it is made from; "" when unknown
	Lineage   string // "" for a new one
	Origin    lineage.Origin
	SameUUID  []lineage.Known
	SameMAC   map[string][]lineage.Known
	Bound     map[identity.Facet]string // facets to which something is bound: licence, reservation
	Rules     []wiring.Rule
	Subnets   map[string]netip.Prefix // of segments
	AddressOf map[string]string       // addresses that are taken → whose
	Guest     *fit.Guest              // found on its disks; nil when nobody looked
	Taken     func(name string) bool  // names on the host and folders in the pool
	Landing   []landing.Rule
	Ranges    map[string]Range // of addresses that segments have to give out
	Called    string           // name of the lineage; "" for a new one
	Caller    string           // who asks
	Wanted    []string         // addresses that were typed
	Usage     map[string]Usage // what owners' machines take of the host
}

// Range is addresses that a segment has to give out.
type Range struct {
	From, To netip.Addr
	Free     netip.Addr // the next one that nobody is known to have; the zero Addr when none is left
}

// Usage is what an owner's machines take of a host.
type Usage struct {
	Machines    int
	MemoryBytes int64
}

// ImportFacts is what Import is worked out from.
type ImportFacts struct {
	Arrival
	Package *ovf.Package // nil when Problem says why not
	Problem *ovf.Problem
	Machine int // which of the package's
	Source  PackageSource
	Where   string // for people: where the package is
}

// Folder is what a host tells of a machine folder, or of disks alone.
type Folder struct {
	Path       string           `json:"path"`
	Pool       string           `json:"pool"` // id
	Registered bool             `json:"registered"`
	State      string           `json:"state"`
	Machine    *machine.Machine `json:"machine"` // nil: Problem says why
	Descriptor string           `json:"descriptor"`
	Problem    string           `json:"problem"`
	Disks      []FolderDisk     `json:"disks"` // those of the machine; of a folder without descriptor, what lies in it
	Files      []string         `json:"files"` // names of all files in it
	Guest      *fit.Guest       `json:"guest"`
}

// FolderDisk is a disk image as a host sees it.
type FolderDisk struct {
	ID           string      `json:"id"`   // in the machine; made from the file's name for others
	File         string      `json:"file"` // as the descriptor names it
	Path         string      `json:"path"`
	Missing      bool        `json:"missing"`
	Problem      string      `json:"problem"` // why it can't be read
	ProblemCode  string      `json:"problemCode"`
	Pool         string      `json:"pool"` // id of the one that it lies in; "" outside all
	Format       string      `json:"format"`
	DiskID       string      `json:"diskId"`
	VirtualBytes int64       `json:"virtualBytes"`
	FileBytes    int64       `json:"fileBytes"` // that the whole chain takes
	SectorBytes  int         `json:"sectorBytes"`
	Encrypted    bool        `json:"encrypted"`
	Unclean      bool        `json:"unclean"`
	NoData       bool        `json:"noData"`
	Layers       int         `json:"layers"` // of its chain
	Chain        []string    `json:"chain"`  // paths of its layers, base last
	Faults       []DiskFault `json:"faults"`
	SharedBy     []string    `json:"sharedBy"` // registered machines that name the same file
	LayersOf     []string    `json:"layersOf"` // registered machines whose layers rest on it
	IDOf         string      `json:"idOf"`     // another disk of the host that has its id: whose
	Guest        *fit.Guest  `json:"guest"`
}

// DiskFault is something wrong with a chain.
type DiskFault struct {
	Code      string `json:"code"`
	Path      string `json:"path"` // of the layer
	Message   string `json:"message"`
	Candidate string `json:"candidate"` // path of a file that may be the parent
}

// RegisterFacts is what Register is worked out from.
type RegisterFacts struct {
	Arrival
	Folder Folder
	Where  string           // for people
	From   *HostFacts       // the host that has the folder, when it is another one
	Copy   string           // id of the inventory's record of the folder; "" without
	Record *machine.Machine // as last seen, where the descriptor is lost
	Hollow *lineage.Known   // a hollow entry of the same machine on the host
	Newer  *lineage.Known   // a copy of the lineage that has run since this one was made
	Busy   string

	Manager *ManagerFacts // that has it, where From is one of its hosts
	Via     *HostFacts    // that reads and converts what a manager sends; nil: the host itself
}

// PackageSource is where a package's bytes come from.
type PackageSource struct {
	Kind string `json:"kind"` // upload: sent by the caller; file: a path at an agent; web: an http(s) address
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
		Addresses map[string]string `json:"addresses"` // NIC → segment that gives one, or an address
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
	// Carry is that of KindCarry.
	Carry struct {
		Disk     string `json:"disk"` // id in the machine; "" for another file
		Source   string `json:"source"`
		FromHost string `json:"fromHost"` // id of the host that has it; "" when it is the step's own
		Folder   string `json:"folder"`   // the machine folder it comes from
		Pool     string `json:"pool"`     // path; the file is staged there
		Into     string `json:"into"`     // or the folder that it is put into at once
		File     string `json:"file"`     // name
		Format   string `json:"format"`   // "" for the bytes as they are
		Read     string `json:"read"`     // format of the source; "" as its first bytes say
		Salvage  bool   `json:"salvage"`
		Via      string `json:"via"`   // id of the host that reads and converts a manager's image on the way
		Ahead    string `json:"ahead"` // path of what was fetched of it before, of which the source tells only what has changed
	}
	// TakeImages is that of KindTakeImages.
	TakeImages struct {
		Machine string            `json:"machine"` // as the manager calls it
		Volumes map[string]string `json:"volumes"` // disk → volume
		Since   map[string]string `json:"since"`   // disk → image that the difference is told from
		Stop    bool              `json:"stop"`    // another Unvora stops it for that long
		Move    bool              `json:"move"`    // and takes it away in the end
		Bytes   int64             `json:"bytes"`   // that will be read
	}
	// DropImages is that of KindDropImages: those of the step TakeImages, and others.
	DropImages struct {
		Taken  bool     `json:"taken"`
		Others []string `json:"others"`
	}
	// MakeRoom is that of KindMakeRoom.
	MakeRoom struct {
		Name  string           `json:"name"`
		Disks map[string]int64 `json:"disks"` // disk → bytes
	}
	// Send is that of KindSend.
	Send struct {
		Disk   string `json:"disk"`
		Source string `json:"source"` // path of the top layer
		Folder string `json:"folder"` // of the machine, which must not run meanwhile
	}
	// MakeThere is that of KindMakeThere.
	MakeThere struct {
		Machine *machine.Machine `json:"machine"` // its NICs on the manager's networks
		Host    string           `json:"host"`    // of the manager's, by its own name
		Give    bool             `json:"give"`    // its MACs were given out before
	}
	// RemoveThere is that of KindRemoveThere.
	RemoveThere struct {
		Machine string `json:"machine"` // as the manager calls it
	}
	// NoteAhead is that of KindNoteAhead, and of KindUseAhead with Files alone.
	NoteAhead struct {
		Copy  string            `json:"copy"` // at the manager
		Host  string            `json:"host"`
		Pool  string            `json:"pool"`
		Paths map[string]string `json:"paths"` // disk → file
		Files []string          `json:"files"` // that are removed
	}
	// Lend is that of KindLend.
	Lend struct {
		Copy string `json:"copy"`
	}
	// Relink is that of KindRelink.
	Relink struct {
		Layer  string `json:"layer"`
		Parent string `json:"parent"`
		Force  bool   `json:"force"`
	}
	// Mend is that of KindMend.
	Mend struct {
		Path string `json:"path"`
	}
	// NewLayer is that of KindLayer.
	NewLayer struct {
		Parent string `json:"parent"`
		Path   string `json:"path"`
		Format string `json:"format"`
	}
	// Alter is that of KindAlter.
	Alter struct {
		Folder     string            `json:"folder"`
		Name       string            `json:"name"`       // of the descriptor's file
		Descriptor string            `json:"descriptor"` // to start from; "" for the one that is there
		RenewIDs   []string          `json:"renewIds"`   // paths of disks that get a new id
		Rename     string            `json:"rename"`     // new name of the folder
		List       bool              `json:"list"`       // register it
		Machine    *machine.Machine  `json:"machine"`    // filled in when it is carried out
		NewIDs     map[string]string `json:"newIds"`     // likewise
	}
	// TakeAway is that of KindTakeAway: a machine folder goes to its pool's trash.
	TakeAway struct {
		Folder string   `json:"folder"`
		Files  []string `json:"files"` // beside it: disks that lie elsewhere
	}
	// Unlist is that of KindDelist.
	Unlist struct {
		Folder string `json:"folder"`
	}
	// Forget is that of KindForget: what the inventory no longer counts.
	Forget struct {
		Copy string `json:"copy"`
		Form string `json:"form"` // that it has from now on; "" for gone
	}
	// Place is that of KindPlace.
	Place struct {
		Pool       string   `json:"pool"`
		PoolID     string   `json:"poolId"`
		Name       string   `json:"name"`       // of folder and machine
		Descriptor string   `json:"descriptor"` // "" for a new one
		Machine    int      `json:"machine"`    // which of the descriptor's; the others are left out
		Besides    []Beside `json:"besides"`
	}
	// Beside is a file that lies in another pool than its machine folder.
	Beside struct {
		Pool string `json:"pool"` // path; the file is staged there
		Dir  string `json:"dir"`  // in the pool
		File string `json:"file"`
	}
	// MakeSwitch is that of KindMakeSwitch, KindKeepSwitch and KindDropSwitch.
	MakeSwitch struct {
		Switch wiring.Switch `json:"switch"`
		Return bool          `json:"return"` // take it back unless KindKeepSwitch comes in time
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
		Copy    string            `json:"copy"`   // id, of one that is in the inventory already
		Change  bool              `json:"change"` // it stays the copy that it is
		Owner   string            `json:"owner"`
		Made    string            `json:"made"` // id of the copy that is made; filled in when the job begins
	}
)
