package plan

import (
	"net/netip"
	"slices"
	"strings"

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
	State       HostState
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

// Pool is the pool of an id as the host sees it; false where it does not.
func (h HostFacts) Pool(id string) (PoolFacts, bool) {
	i := slices.IndexFunc(h.Pools, func(p PoolFacts) bool { return p.ID == id })
	if i < 0 {
		return PoolFacts{}, false
	}
	return h.Pools[i], true
}

// PoolFacts is a pool as that host sees it.
type PoolFacts struct {
	ID, Name, Path        string
	State                 PoolState
	Labels                []string
	Foreign               string // the manager that it belongs to; "" for none
	Owner                 string // a host of another Unvora, which it belongs to; "" where it is ours, or nobody's
	MaxFile               int64  // bytes; 0: no bound known
	Ownerless             bool   // whoever reaches its drive reads all of it
	Slow                  string // how slow it was measured to be; "" when it is not
	Removable             bool
	TotalBytes, FreeBytes int64
}

// ShelfFacts is a shelf, or a pool, and what is needed to write packages to it.
type ShelfFacts struct {
	ID, Name, Path   string
	Pool             *PoolFacts // that it is; nil for a shelf
	HostID, HostName string
	HostState        HostState
	Protocol         int // that the agent there speaks, and that the service does, as of a host
	WantsProtocol    int
	FreeBytes        int64
	Directory        string          // of a pool, that the package comes into
	OfMachine        bool            // Directory is a machine's folder
	Taken            map[string]bool // file names that are there
}

// ExportFacts is what Export is worked out from.
type ExportFacts struct {
	Copy      lineage.Known
	PoolState PoolState
	Machine   *machine.Machine // as last seen in its folder
	Host      HostFacts
	Shelf     *ShelfFacts // or pool; nil: to the caller's computer
	Busy      string      // the job that is at work on the copy
	Disks     []FolderDisk
	Files     []string // names of all files in its folder
	Answers   Answers  // of one of several, its own; nil for those of the request

	Free map[string]DiskFree // by paths of disks, where it was asked for
}

// DiskFree is what file systems mark as free on a disk, or why that can't be told beforehand.
type DiskFree struct {
	fit.FreeSpace
	Unknown string
}

// Arrival is what every operation that makes a registered copy is worked out
// from.
type Arrival struct {
	Of        string // name of this machine where several come in; "" for a single one
	Host      HostFacts
	Parent    string // copy id of what it is made from; "" when unknown
	Lineage   string // "" for a new one
	Origin    lineage.Origin
	Was       *Was // it is this very copy, which was taken off a list; nil when it is not
	SameUUID  []lineage.Known
	SameMAC   map[string][]lineage.Known
	Bound     map[identity.Facet]string // facets to which something is bound: licence, reservation
	Rules     []wiring.Rule
	Subnets   map[string]netip.Prefix // of segments
	AddressOf map[string]string       // addresses that are taken → whose
	Guest     *fit.Guest              // found on its disks; nil when nobody looked
	Moves     bool                    // it is the machine that it was, at another place: nobody asks for its identity
	Names     []string                // taken on the host, or by folders in the pool, that a new one may run into
	Landing   []landing.Rule
	Ranges    map[string]Range // of addresses that segments have to give out
	Called    string           // name of the lineage; "" for a new one
	Caller    string           // who asks
	Wanted    []string         // addresses that were typed
	Usage     map[string]Usage // what owners' machines take of the host
}

// Was is how a copy was registered that is not now.
type Was struct {
	Host       string // that listed it
	By         string // who took it off the list
	SecondsAgo int64
}

// taken tells whether a name is taken; names that differ by case only collide.
func (a Arrival) taken(name string) bool { return hasName(a.Names, name) }

func hasName(names []string, name string) bool {
	return slices.ContainsFunc(names, func(n string) bool { return strings.EqualFold(n, name) })
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
	State      machine.State    `json:"state"`
	Machine    *machine.Machine `json:"machine"` // nil: Problem says why
	Descriptor string           `json:"descriptor"`
	Problem    string           `json:"problem"`
	// those of the machine; of a folder without descriptor, what lies in it
	Disks   []FolderDisk `json:"disks"`
	Files   []string     `json:"files"`   // names of all files in it
	StoodOn []string     `json:"stoodOn"` // registered machines whose layers rest on files in it
	// the same for each such file, by its path
	Stood map[string][]string `json:"stood"`
	Guest *fit.Guest          `json:"guest"`
	// another host that lists it; nil for none
	ListedBy *ListedBy `json:"listedBy,omitempty"`
}

// ListedBy is another host that lists a machine folder, as the mark in the folder says.
type ListedBy struct {
	ID           string `json:"id"` // of its agent
	Name         string `json:"name"`
	QuietSeconds int64  `json:"quietSeconds"` // since it wrote to the pool that it is there; negative: it never did
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
	TopEmpty     bool        `json:"topEmpty"` // its top layer holds nothing of its own
	Layers       int         `json:"layers"`   // of its chain
	Chain        []string    `json:"chain"`    // paths of its layers, base last
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

	Elsewhere *Elsewhere // another host that lists the folder; nil for none

	Manager *ManagerFacts // that has it, where From is one of its hosts
	Via     *HostFacts    // that reads and converts what a manager sends; nil: the host itself
}

// PackageSource is where a package's bytes come from.
type PackageSource struct {
	Kind string `json:"kind"` // upload: sent by the caller; file: a path at an agent; web: an http(s) address
	Host string `json:"host"` // id, of a file
	Path string `json:"path"`
}
