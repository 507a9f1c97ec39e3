package plan

import (
	"cmp"
	"time"

	"unvora.example/unvora/core/lineage"
	"unvora.example/unvora/core/machine"
	"unvora.example/unvora/core/ovf"
	"unvora.example/unvora/core/wiring"
)

// Power names a copy that is stopped or started.
type Power struct {
	Copy   string `json:"copy"` // "" for the one that the step's part of the plan makes
	Folder string `json:"folder"`
}

// Stop shuts a machine down.
type Stop struct {
	Power
	Manner machine.Manner `json:"manner,omitempty"`
}

// Start starts a machine, or lets it go on where it was paused or suspended.
type Start struct {
	Power
	Boot string `json:"boot,omitempty"` // what it starts from, this once; "" for its own order

	// Again starts only a machine that the plan's own step found running when it stopped it: one that was shut down
	// between the planning and that step stays off.
	Again bool `json:"again,omitempty"`
	Off   bool `json:"off,omitempty"` // it was off by then. Filled in when it is carried out
}

// Pause lets a machine stand still while it runs.
type Pause struct{ Power }

// Suspend writes a machine's state to a file beside its disks, and ends it.
type Suspend struct{ Power }

// Adapt brings the devices of a machine that runs to what its descriptor is to say.
type Adapt struct {
	Power
	Machine *machine.Machine `json:"machine"` // filled in when it is carried out
}

// FrozenDisk is a disk that is frozen, with the layer that is put on it.
type FrozenDisk struct {
	Disk        string `json:"disk"`
	Path        string `json:"path"`  // of what is frozen
	Below       string `json:"below"` // the same, as the descriptor names it
	BelowFormat string `json:"belowFormat"`
	File        string `json:"file"` // name of the layer, in the machine folder
	Format      string `json:"format"`
}

// Freeze lets disks of a machine take no more writes, at one instant over all of them: layers take them from then on.
type Freeze struct {
	Power
	Disks   []FrozenDisk `json:"disks"`
	ForGood bool         `json:"forGood"` // others are to stand on them
	// Snapshot is what the descriptor is to say of them; nil for nothing.
	Snapshot *machine.Snapshot `json:"snapshot,omitempty"`
	With     []FrozenMachine   `json:"with,omitempty"` // others whose disks are frozen at the very same instant
}

// FrozenMachine is a machine whose disks are frozen.
type FrozenMachine struct {
	Folder   string            `json:"folder"`
	Disks    []FrozenDisk      `json:"disks"`
	Snapshot *machine.Snapshot `json:"snapshot,omitempty"` // what its descriptor is to say of them
}

// SnapshotName is that of its snapshot; "" for none.
func (m FrozenMachine) SnapshotName() string {
	if m.Snapshot == nil {
		return ""
	}
	return m.Snapshot.Name
}

// Machines are all whose disks are frozen.
func (f *Freeze) Machines() []FrozenMachine {
	return append([]FrozenMachine{{f.Folder, f.Disks, f.Snapshot}}, f.With...)
}

// Commit writes what such layers hold into what lies below, and takes them off.
type Commit struct {
	Power
	Disks    []FrozenDisk `json:"disks"`
	Snapshot string       `json:"snapshot,omitempty"` // that is no more then; "" for none
}

// GoBack has a machine that does not run stand on a snapshot: on new layers above its files.
type GoBack struct {
	Power
	Snapshot string       `json:"snapshot"`
	Disks    []FrozenDisk `json:"disks"`
}

// DropSnapshot takes a snapshot that nothing stands on out of the descriptor. Its files are put away by other steps.
type DropSnapshot struct {
	Power
	Snapshot string `json:"snapshot"`
}

// MergeSnapshot has a snapshot be no more that one other stands on: what that holds goes into its files, which are the
// other's from then on.
type MergeSnapshot struct {
	Power
	Snapshot string        `json:"snapshot"` // that is no more
	Into     string        `json:"into"`     // the one that stands on it
	Disks    []MergedLayer `json:"disks"`
}

// MergedLayer is a disk of such snapshots. Its names are those of files in the machine folder.
type MergedLayer struct {
	Disk        string   `json:"disk"`
	Below       string   `json:"below"` // of the one that is no more
	BelowFormat string   `json:"belowFormat"`
	File        string   `json:"file"` // of the one that stands on it; it is no more then
	Format      string   `json:"format"`
	Above       []string `json:"above"` // what stands on File
}

// Packing says what goes into a package.
type Packing struct {
	PackedMachine                  // the first
	Others        []PackedMachine  `json:"others,omitempty"`
	Called        string           `json:"called,omitempty"`    // of several: name of their collection
	Directory     string           `json:"directory,omitempty"` // of the pool, that File lies in
	File          string           `json:"file"`                // path of the package; "" when it is handed out
	Shelf         string           `json:"shelf"`
	Digest        string           `json:"digest"`            // algorithm of the manifest; "" for the usual one
	OVF           string           `json:"ovf,omitempty"`     // version of the descriptor, 1 or 2; "" for its own
	Product       *machine.Product `json:"product,omitempty"` // what several are together
}

// PackedMachine is a machine of a package to be.
type PackedMachine struct {
	Copy     string            `json:"copy"`
	Folder   string            `json:"folder"`
	FromHost string            `json:"fromHost"` // id of the host that has the folder; "" when it is the step's own
	Name     string            `json:"name"`     // of the machine
	Passport *machine.Passport `json:"passport"`
	Disks    []PackDisk        `json:"disks"`
	Frozen   bool              `json:"frozen,omitempty"` // its disks take no writes, though it may run
	Handing  Handing           `json:"handing"`
	Compact  bool              `json:"compact,omitempty"` // what file systems mark as free is left out
}

// Machines are all that go into the package, in its order.
func (p *Packing) Machines() []*PackedMachine {
	list := []*PackedMachine{&p.PackedMachine}
	for i := range p.Others {
		list = append(list, &p.Others[i])
	}
	return list
}

// AllDisks are those of all machines, in the order in which they lie in the package.
func (p *Packing) AllDisks() (list []PackDisk) {
	for _, m := range p.Machines() {
		list = append(list, m.Disks...)
	}
	return list
}

// Stem is what names of files in the package begin with.
func (p *Packing) Stem() string { return cmp.Or(p.Called, p.Name) }

// Algorithm is what the manifest's digests are by.
func (p *Packing) Algorithm() string { return cmp.Or(p.Digest, ovf.SHA256) }

// Pack writes a package to a shelf.
type Pack struct{ Packing }

// HandOut gives a package's disks to the caller's computer.
type HandOut struct{ Packing }

// PackDisk is a disk of a package to be.
type PackDisk struct {
	ID           string `json:"id"`           // in the package
	Of           string `json:"of,omitempty"` // in its machine, where that is another
	File         string `json:"file"`         // in the package
	Source       string `json:"source"`
	VirtualBytes int64  `json:"virtualBytes"`
	Format       string `json:"format,omitempty"`  // of the file; "" for a stream of compressed blocks
	Variant      string `json:"variant,omitempty"` // of that format
}

// Own is the id that its machine has for it.
func (d PackDisk) Own() string { return cmp.Or(d.Of, d.ID) }

// Await lets a job rest before it goes on with what can't wait any more once it is begun: a cut-over.
type Await struct {
	At    *time.Time `json:"at,omitempty"`    // it goes on then; nil: when it is told to
	Until *time.Time `json:"until,omitempty"` // a job that comes here later is held; nil for no such end
}

// GiveIDs gives a machine new identity facets, unique in the inventory.
type GiveIDs struct {
	Machine   *machine.Machine  `json:"machine"`
	Choice    map[string]string `json:"choice"` // facet → keep or renew
	MACPrefix string            `json:"macPrefix"`
	Addresses map[string]string `json:"addresses"` // NIC → segment that gives one, or an address
}

// FetchDisk writes a disk of a package in the host's own format.
type FetchDisk struct {
	Source       PackageSource `json:"source"`
	Disk         string        `json:"disk"`
	Entry        ovf.Entry     `json:"entry"`
	Digest       ovf.Digest    `json:"digest"` // that the file must have; empty: none stated
	Pool         string        `json:"pool"`   // path on the host
	File         string        `json:"file"`   // name in the machine folder
	Format       string        `json:"format"`
	VirtualBytes int64         `json:"virtualBytes"`
	Raw          bool          `json:"raw,omitempty"` // the entry is the disk's bytes, whatever they look like
}

// Carry copies a disk, or another file of a machine folder, to a new place.
type Carry struct {
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
	Via      string `json:"via"` // id of the host that reads and converts a manager's image on the way
	// path of what was fetched of it before, of which the source tells only what has changed
	Ahead string `json:"ahead"`
}

// GiveBack takes parts of what a job took away out of the trash.
type GiveBack struct {
	PoolID string      `json:"poolId"` // in whose trash the first lies
	Parts  []GivenBack `json:"parts"`
}

// GivenBack is a machine folder, or a file, that comes out of the trash.
type GivenBack struct {
	From string `json:"from"`         // path in the trash
	To   string `json:"to"`           // path
	Of   string `json:"of,omitempty"` // folder in the trash that it is a disk of
}

// Follow writes what a machine has written into a layer, since a disk was carried, into the disk that Carry has made.
type Follow struct {
	Disk     string `json:"disk"`
	Source   string `json:"source"`   // path of the layer
	FromHost string `json:"fromHost"` // id of the host that has it; "" when it is the step's own
	Folder   string `json:"folder"`   // the machine folder it comes from
	Pool     string `json:"pool"`     // path; the disk is staged there
	File     string `json:"file"`     // name
	Format   string `json:"format"`
}

// TakeImages has a manager make images of the volumes of a machine.
type TakeImages struct {
	Machine string            `json:"machine"` // as the manager calls it
	Volumes map[string]string `json:"volumes"` // disk → volume
	Since   map[string]string `json:"since"`   // disk → image that the difference is told from
	Stop    bool              `json:"stop"`    // another Unvora stops it for that long
	Move    bool              `json:"move"`    // and takes it away in the end
	Bytes   int64             `json:"bytes"`   // that will be read
}

// DropImages has a manager remove images: those of the step TakeImages, and others.
type DropImages struct {
	Taken  bool     `json:"taken"`
	Others []string `json:"others"`
}

// MakeRoom has a manager make images that disks are sent into.
type MakeRoom struct {
	Name  string           `json:"name"`
	Disks map[string]int64 `json:"disks"` // disk → bytes
}

// Send sends a disk into a manager's image.
type Send struct {
	Disk   string `json:"disk"`
	Source string `json:"source"` // path of the top layer
	Folder string `json:"folder"` // of the machine, which must not run meanwhile
}

// MakeThere has a manager make a machine of what was sent.
type MakeThere struct {
	Machine *machine.Machine `json:"machine"` // its NICs on the manager's networks
	Host    string           `json:"host"`    // of the manager's, by its own name
	Give    bool             `json:"give"`    // its MACs were given out before
}

// RemoveThere has a manager remove the machine in whose place the new one is.
type RemoveThere struct {
	Machine string `json:"machine"` // as the manager calls it
}

// NoteAhead notes what was fetched ahead of a copy; without Paths, that nothing is any more.
type NoteAhead struct {
	Copy  string            `json:"copy"` // at the manager
	Host  string            `json:"host"`
	Pool  string            `json:"pool"`
	Paths map[string]string `json:"paths"` // disk → file
}

// UseAhead removes files that were fetched ahead: they are of no use any more.
type UseAhead struct {
	Copy  string   `json:"copy"` // at the manager
	Files []string `json:"files"`
}

// TellPeer tells another Unvora that everything was read.
type TellPeer struct{}

// Lend lets another Unvora read a copy from here.
type Lend struct {
	Copy string `json:"copy"`
}

// Relink tells a layer where its parent is now.
type Relink struct {
	Layer  string `json:"layer"`
	Parent string `json:"parent"`
	Force  bool   `json:"force"`
}

// Mend puts right what is inconsistent in an image and needs no guess.
type Mend struct {
	Path string `json:"path"`
}

// NewLayer puts a new layer on a disk.
type NewLayer struct {
	Parent string `json:"parent"`
	Path   string `json:"path"` // of the layer; "" when it is staged
	Pool   string `json:"pool"` // path; a layer of a machine to come is staged there
	File   string `json:"file"` // its name then
	Format string `json:"format"`
	Freeze bool   `json:"freeze"` // the parent takes no more writes, for good
}

// Alter writes a machine folder's descriptor anew where it lies.
type Alter struct {
	Folder     string            `json:"folder"`
	Name       string            `json:"name"`       // of the descriptor's file
	Descriptor string            `json:"descriptor"` // to start from; "" for the one that is there
	RenewIDs   []string          `json:"renewIds"`   // paths of disks that get a new id
	Rename     string            `json:"rename"`     // new name of the folder
	List       bool              `json:"list"`       // register it
	Live       bool              `json:"live"`       // the machine runs, and its devices were changed before
	Machine    *machine.Machine  `json:"machine"`    // filled in when it is carried out
	NewIDs     map[string]string `json:"newIds"`     // likewise
}

// TakeAway moves a machine folder to its pool's trash.
type TakeAway struct {
	Folder string   `json:"folder"`
	Files  []string `json:"files"` // beside it: disks that lie elsewhere
}

// Unlist takes a machine folder off its host's list.
type Unlist struct {
	Folder string `json:"folder"`
}

// Fence marks a machine folder as the host's that carries it out, though another lists it that can't be asked. That one
// obeys the mark once it comes back.
type Fence struct {
	Folder string `json:"folder"`
	From   string `json:"from"` // id of the other's agent; "" where there is no mark of it
}

// FreePool marks a pool as nobody's, with a list of what lies in it.
type FreePool struct {
	ID string `json:"id"`
}

// TakePool marks a pool as of the Unvora whose agent does so.
type TakePool struct {
	ID   string `json:"id"`
	From string `json:"from"` // id of the Unvora that it is taken from; "" for a free one
}

// Forget notes what the inventory no longer counts.
type Forget struct {
	Copy string       `json:"copy"`
	Form lineage.Form `json:"form"` // that it has from now on; "" for gone
}

// Place writes the descriptor of a staged machine, renames the folder into place and registers it.
type Place struct {
	Pool       string   `json:"pool"`
	PoolID     string   `json:"poolId"`
	Name       string   `json:"name"`       // of folder and machine
	Descriptor string   `json:"descriptor"` // "" for a new one
	Machine    int      `json:"machine"`    // which of the descriptor's; the others are left out
	Besides    []Beside `json:"besides"`
	// what the machine is told when it starts for the first time; nil for nothing
	FirstStart *FirstStart `json:"firstStart,omitempty"`
}

// Beside is a file that lies in another pool than its machine folder.
type Beside struct {
	Pool string `json:"pool"` // path; the file is staged there
	Dir  string `json:"dir"`  // in the pool
	File string `json:"file"`
}

// SwitchWork names a virtual switch of a host.
type SwitchWork struct {
	Switch wiring.Switch `json:"switch"`
	Return bool          `json:"return"` // the host takes the change back unless a step KeepSwitch comes in time
}

// MakeSwitch makes a virtual switch.
type MakeSwitch struct{ SwitchWork }

// KeepSwitch tells the host that it is still reached: the change of switches stays.
type KeepSwitch struct{ SwitchWork }

// DropSwitch takes a virtual switch away.
type DropSwitch struct{ SwitchWork }

// Record writes a copy into the inventory.
type Record struct {
	Form    lineage.Form      `json:"form"`
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
	Number  int               `json:"number,omitempty"` // of a package's machine, from 0
	Rel     string            `json:"rel,omitempty"`    // of a package: path within its pool; "" for its name
	Made    string            `json:"made"`             // id of the copy that is made; filled in when the job begins
}

// The kind of each type of parameters.

func (Stop) Kind() string         { return KindStop }
func (Start) Kind() string        { return KindStart }
func (Pause) Kind() string        { return KindPause }
func (Suspend) Kind() string      { return KindSuspend }
func (Adapt) Kind() string        { return KindAdapt }
func (Freeze) Kind() string       { return KindFreeze }
func (Commit) Kind() string       { return KindCommit }
func (GoBack) Kind() string       { return KindGoBack }
func (DropSnapshot) Kind() string { return KindDropSnapshot }

func (MergeSnapshot) Kind() string { return KindMergeSnapshot }

func (Pack) Kind() string        { return KindPack }
func (HandOut) Kind() string     { return KindHandOut }
func (GiveIDs) Kind() string     { return KindGiveIDs }
func (FetchDisk) Kind() string   { return KindFetchDisk }
func (Place) Kind() string       { return KindPlace }
func (Record) Kind() string      { return KindRecord }
func (Carry) Kind() string       { return KindCarry }
func (Follow) Kind() string      { return KindFollow }
func (GiveBack) Kind() string    { return KindGiveBack }
func (Relink) Kind() string      { return KindRelink }
func (Mend) Kind() string        { return KindMend }
func (NewLayer) Kind() string    { return KindLayer }
func (Alter) Kind() string       { return KindAlter }
func (TakeAway) Kind() string    { return KindTakeAway }
func (Unlist) Kind() string      { return KindDelist }
func (Fence) Kind() string       { return KindFence }
func (FreePool) Kind() string    { return KindFreePool }
func (TakePool) Kind() string    { return KindTakePool }
func (Forget) Kind() string      { return KindForget }
func (MakeSwitch) Kind() string  { return KindMakeSwitch }
func (KeepSwitch) Kind() string  { return KindKeepSwitch }
func (DropSwitch) Kind() string  { return KindDropSwitch }
func (TakeImages) Kind() string  { return KindTakeImages }
func (DropImages) Kind() string  { return KindDropImages }
func (TellPeer) Kind() string    { return KindTellPeer }
func (MakeRoom) Kind() string    { return KindMakeRoom }
func (MakeThere) Kind() string   { return KindMakeThere }
func (RemoveThere) Kind() string { return KindRemoveThere }
func (Send) Kind() string        { return KindSend }
func (NoteAhead) Kind() string   { return KindNoteAhead }
func (UseAhead) Kind() string    { return KindUseAhead }
func (Lend) Kind() string        { return KindLend }
func (Await) Kind() string       { return KindAwait }

// Given is the result of a step GiveIDs: the machine with its new identity.
type Given struct {
	Machine   *machine.Machine  `json:"machine"`
	Addresses map[string]string `json:"addresses,omitempty"` // that NICs were given
}

// Taken is the result of the steps TakeImages and MakeRoom.
type Taken struct {
	Images map[string]string `json:"images"` // disk → image at the manager
	Whole  map[string]bool   `json:"whole"`  // disks of which the manager could not tell the difference
}
