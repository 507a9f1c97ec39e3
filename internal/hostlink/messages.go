package hostlink

import (
	"encoding/json"
	"time"

	"unvora.example/unvora/core/disk"
	"unvora.example/unvora/core/firststart"
	"unvora.example/unvora/core/fit"
	"unvora.example/unvora/core/machine"
	"unvora.example/unvora/core/ovf"
	"unvora.example/unvora/core/plan"
	"unvora.example/unvora/core/wiring"
)

// Protocol is raised when an older agent would misunderstand.
const Protocol = 4

// Hello is what a host tells of itself.
type Hello struct {
	Protocol    int       `json:"protocol"`
	Name        string    `json:"name"`
	Family      string    `json:"family"`
	Driver      string    `json:"driver"`
	Site        string    `json:"site"`
	CPUs        int       `json:"cpus"`
	MemoryBytes int64     `json:"memoryBytes"`
	Time        time.Time `json:"time"`

	Abilities fit.Abilities `json:"abilities"`
}

// Survey is what a host holds. With Full unset, Machines, Packages and Gone
// tell only of what has changed since the revision that was asked about; with
// nothing changed it is Revision alone.
type Survey struct {
	Revision string           `json:"revision"`
	Full     bool             `json:"full,omitempty"`
	Changed  bool             `json:"changed,omitempty"`
	Hello    *Hello           `json:"hello,omitempty"`
	Pools    []Pool           `json:"pools,omitempty"`
	Switches []wiring.Switch  `json:"switches,omitempty"`
	Ports    []wiring.Port    `json:"ports"` // null: the driver makes no switches
	Shelves  []Shelf          `json:"shelves,omitempty"`
	Machines []Folder         `json:"machines,omitempty"`
	Packages []ShelvedPackage `json:"packages,omitempty"`
	Gone     []string         `json:"gone,omitempty"`   // paths of folders and packages
	Bare     []BareFolder     `json:"bare,omitempty"`   // all of them, whenever something has changed
	Unread   []string         `json:"unread,omitempty"` // what could not be read: it may be there
	Jobs     []string         `json:"jobs,omitempty"`   // ids of those that something is kept of, at every survey
}

// BareFolder is a directory in a pool with disk images that no machine names,
// and no descriptor.
type BareFolder struct {
	Path  string   `json:"path"`
	Pool  string   `json:"pool"`  // id
	Disks []string `json:"disks"` // names of files
	Bytes int64    `json:"bytes"` // as allocated
}

// SeenDisk is what a survey tells of a machine's disk.
type SeenDisk struct {
	ID           string           `json:"id"` // in the machine
	Path         string           `json:"path"`
	ImageID      string           `json:"imageId"`
	VirtualBytes int64            `json:"virtualBytes"`
	Layers       []string         `json:"layers,omitempty"`  // paths below the top one
	Samples      []disk.Sample    `json:"samples,omitempty"` // of its contents; none when it can't be read
	Faults       []plan.DiskFault `json:"faults,omitempty"`
	WrittenAt    time.Time        `json:"writtenAt"` // last
}

// Pool as a host sees it.
type Pool struct {
	ID         string         `json:"id"` // from its mark; "" while it is away and was never seen
	Name       string         `json:"name"`
	Path       string         `json:"path"`
	State      plan.PoolState `json:"state"`
	Removable  bool           `json:"removable"`
	Labels     []string       `json:"labels"`
	TotalBytes int64          `json:"totalBytes"`
	FreeBytes  int64          `json:"freeBytes"`
	Ownerless  bool           `json:"ownerless,omitempty"` // its file system keeps no owners and no rights of files
	MaxFile    int64          `json:"maxFile,omitempty"`   // bytes that a file there has at most; 0: no bound known
	Rate       int64          `json:"rate,omitempty"`      // bytes a second that were measured; 0: not yet
	Foreign    string         `json:"foreign,omitempty"`   // manager that it belongs to; "" for none
	Owner      string         `json:"owner,omitempty"`     // a host of another Unvora, which it belongs to
}

// Shelf at a host.
type Shelf struct {
	Name      string `json:"name"`
	Path      string `json:"path"`
	FreeBytes int64  `json:"freeBytes"`
}

// Folder is a machine folder in a pool, or an entry of the register whose
// files are gone.
type Folder struct {
	Path       string           `json:"path"`
	Contested  bool             `json:"contested,omitempty"` // another host lists it too: Problem says which
	Pool       string           `json:"pool"`                // id
	Registered bool             `json:"registered"`
	FilesThere bool             `json:"filesThere"`
	PoolThere  bool             `json:"poolThere"`
	State      machine.State    `json:"state"`
	Why        string           `json:"why,omitempty"` // it came to stand so, where nobody asked for that
	Bytes      int64            `json:"bytes"`         // of its files, as allocated
	Problem    string           `json:"problem,omitempty"`
	Machine    *machine.Machine `json:"machine"`
	Addresses  []string         `json:"addresses,omitempty"` // that its guest is seen to use
	Disks      []SeenDisk       `json:"disks,omitempty"`
}

// Check is one thing that a host needs, and whether it is there.
type Check struct {
	Name string `json:"name"`
	OK   bool   `json:"ok"`
	Says string `json:"says"` // what is there; else what is missing, and what to do
}

// ConsoleLog is what a machine has said on its serial port.
type ConsoleLog struct {
	From int64  `json:"from"` // position of the first byte of Text
	To   int64  `json:"to"`   // position to go on from
	Text []byte `json:"text"`
}

// Typed is what is typed on a machine's serial port.
type Typed struct {
	Text []byte `json:"text"`
}

// MostConsole is how many bytes of a console are told at once.
const MostConsole = 1 << 20

// ShelvedPackage is a package on a shelf, or in a pool beside the machine folders.
type ShelvedPackage struct {
	Path  string `json:"path"`
	Shelf string `json:"shelf"`          // name; "" for one in a pool
	Pool  string `json:"pool,omitempty"` // id
	Bytes int64  `json:"bytes"`
	// why it can't be read; with a Machine, how it differs from its manifest
	Problem string             `json:"problem,omitempty"`
	Machine *machine.Machine   `json:"machine"`
	Others  []*machine.Machine `json:"others,omitempty"` // those after the first
}

// HeldRequest asks which blocks a disk's layers hold above the layer at a path;
// all of them when Above is "".
type HeldRequest struct {
	Path  string `json:"path"`
	Above string `json:"above"`
}

// FreeRequest asks what the file systems on a disk mark as free, which comes as fit.FreeSpace.
type FreeRequest struct {
	Path string `json:"path"`
}

// SumsRequest asks for sums of a disk's blocks, which come as disk.PackSums.
type SumsRequest struct {
	Path  string      `json:"path"`
	Spans []disk.Span `json:"spans"`
}

// TaskSpec asks an agent for a piece of work. Asking twice for one id starts
// it once. An epoch older than one seen for the job is refused.
type TaskSpec struct {
	Job    string          `json:"job"`
	Epoch  int64           `json:"epoch"`
	Part   int             `json:"part,omitempty"` // which of the job's machines it is about
	Kind   string          `json:"kind"`           // of a plan's step
	Params json.RawMessage `json:"params"`
	Rate   int64           `json:"rate,omitempty"` // bytes per second that it may read of disks; 0: no limit
	Try    int             `json:"try,omitempty"`  // one that has failed is tried again when this is higher than before
}

// States of a task.
const (
	TaskRunning = "running"
	TaskPaused  = "paused" // until it is asked for again
	TaskDone    = "done"
	TaskFailed  = "failed"
)

// Task is how far a piece of work is.
type Task struct {
	ID     string          `json:"id"`
	Kind   string          `json:"kind"`
	State  string          `json:"state"`
	Done   int64           `json:"done"` // bytes
	Needs  *Need           `json:"needs,omitempty"`
	Note   string          `json:"note,omitempty"` // what is done otherwise than planned
	Code   string          `json:"code,omitempty"` // of the finding that a failure is
	Error  string          `json:"error,omitempty"`
	Result json.RawMessage `json:"result,omitempty"`
}

// Need is what a task waits for from the caller's computer.
type Need struct {
	Disk   string `json:"disk"`
	Entry  string `json:"entry"`  // of the package
	Offset int64  `json:"offset"` // in bytes from the entry's start
}

// PowerResult is the Result of a task that starts, stops, pauses or suspends a machine.
type PowerResult struct {
	Was machine.State `json:"was"` // before the task, at its first try
	Is  machine.State `json:"is"`
}

// FetchResult is the Result of a fetch-disk task.
type FetchResult struct {
	FileBytes    int64  `json:"fileBytes"` // as allocated
	VirtualBytes int64  `json:"virtualBytes"`
	SHA256       string `json:"sha256"` // of the package's file
}

// PackResult is the Result of a pack or hand-out task.
type PackResult struct {
	Bytes   int64        `json:"bytes"`
	Members []ovf.Member `json:"members"`
}

// Ticket lets another agent read one file, or the descriptor and disks of a
// machine folder.
type Ticket struct {
	Path    string    `json:"path"`
	For     string    `json:"for"` // id of the host that may use it; "" for any of the inventory
	Expires time.Time `json:"expires"`
	Foreign bool      `json:"foreign"` // for an agent of another Unvora, which is nobody here

	Web *WebDisk `json:"web,omitempty"` // instead of Path: a manager's image, which this agent reads and converts
}

// Trashed is a machine folder, or a file, in the trash of a pool.
type Trashed struct {
	Job     string    `json:"job"` // that put it there
	Name    string    `json:"name"`
	Pool    string    `json:"pool"`
	PoolID  string    `json:"poolId"`
	Path    string    `json:"path"`
	Was     string    `json:"was"`          // path that it had
	Of      string    `json:"of,omitempty"` // folder in the trash, of the same job, that it is a disk of
	Copy    string    `json:"copy,omitempty"`
	Bytes   int64     `json:"bytes"` // that it takes
	TakenAt time.Time `json:"takenAt"`
	Until   time.Time `json:"until"` // it is kept
}

// DiskRequest asks, with a ticket for a machine folder, for a name under which
// one of its disks is served over NBD.
type DiskRequest struct {
	Path  string `json:"path"`            // of the disk's top layer
	Layer bool   `json:"layer,omitempty"` // that by itself, without what it stands on
}

// Offer is a name under which a disk, or a display, is reached. It works once, for who asked, and for half a minute.
type Offer struct {
	Name string `json:"name"`
}

// PackTask is what a pack or hand-out task is asked.
type PackTask struct {
	plan.Packing
	From       *Remote   `json:"from,omitempty"`       // where the first machine's folder is, when it is not here
	FromOthers []*Remote `json:"fromOthers,omitempty"` // where those of the others are, in order
}

// CarryTask is what a carry task is asked.
type CarryTask struct {
	plan.Carry
	From   *Remote  `json:"from,omitempty"` // where the machine folder is, when it is not here
	ID     string   `json:"id"`             // of the new image
	KeepID bool     `json:"keepId"`         // the source's id instead, where it states one
	Web    *WebDisk `json:"web,omitempty"`  // a manager's image instead of Source
}

// FollowTask is what a follow task is asked.
type FollowTask struct {
	plan.Follow
	From *Remote `json:"from,omitempty"` // where the machine folder is, when it is not here
}

// WebDisk is an image at a manager.
type WebDisk struct {
	URL         string `json:"url"`         // https; it is all that is needed to read, or write
	Certificate string `json:"certificate"` // PEM, of the server; "" for those that the system trusts
	Manager     string `json:"manager"`     // host of the manager's address, which was added by an administrator
	Change      bool   `json:"change"`      // it holds only what has changed since what was fetched ahead
}

// SendTask is what a send task is asked.
type SendTask struct {
	plan.Send
	To WebDisk `json:"to"`
}

// SendResult is the Result of a send task.
type SendResult struct {
	Bytes int64 `json:"bytes"` // of data that were sent
}

// Remote is where an agent reads a ticket's file.
type Remote struct {
	Address string `json:"address"`
	Host    string `json:"host"` // id, in the certificate
	Ticket  string `json:"ticket"`

	Authority string `json:"authority,omitempty"` // PEM, of another Unvora, whose agent it is
}

// FetchSource is where a fetch-disk task reads: exactly one is set.
type FetchSource struct {
	Upload bool    `json:"upload,omitempty"`
	Path   string  `json:"path,omitempty"`
	Web    string  `json:"web,omitempty"` // http(s) address
	Remote *Remote `json:"remote,omitempty"`
}

// Fetch is what a fetch-disk task is asked.
type Fetch struct {
	Source       FetchSource `json:"source"`
	Disk         string      `json:"disk"`
	Entry        ovf.Entry   `json:"entry"`
	Digest       ovf.Digest  `json:"digest"`
	Pool         string      `json:"pool"`
	File         string      `json:"file"`
	Format       string      `json:"format"`
	VirtualBytes int64       `json:"virtualBytes"`
	ID           string      `json:"id"`            // of the new image
	KeepID       bool        `json:"keepId"`        // the source's id instead, where it states one
	Raw          bool        `json:"raw,omitempty"` // the entry is the disk's bytes, whatever they look like
}

// PlaceTask is what a place task is asked.
type PlaceTask struct {
	Pool       string           `json:"pool"`
	Name       string           `json:"name"`
	Descriptor string           `json:"descriptor"` // to start from; "" for a new one
	Number     int              `json:"number"`     // of the machine in it
	Machine    *machine.Machine `json:"machine"`    // to be made of it
	Besides    []plan.Beside    `json:"besides"`
	Seed       *firststart.Seed `json:"seed,omitempty"` // what it is told when it starts for the first time
}

// Fault is the body of an agent's error.
type Fault struct {
	Code    string `json:"code"`
	Message string `json:"message"`
}

func (f *Fault) Error() string { return f.Message }

// Codes of faults.
const (
	FaultStale   = "stale-epoch" // somebody newer looks after the job
	FaultUnknown = "unknown"
	FaultWrong   = "wrong"
	FaultOffset  = "offset" // a stream does not begin where it is needed
)
