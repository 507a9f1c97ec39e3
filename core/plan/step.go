package plan

import (
	"cmp"
	"path"
)

// Step is one restartable unit of a plan.
type Step struct {
	ID    string `json:"id"`
	Kind  string `json:"kind"` // that of Do
	What  string `json:"what"`
	Host  string `json:"host"`  // name; "" for the service's own steps
	Bytes int64  `json:"bytes"` // that it reads; 0 when that says nothing
	Part  int    `json:"part"`  // which of several machines it is about, from 0
	Do    Params `json:"-"`
}

// Params are the parameters of a step. Each kind of step has a type of its own.
type Params interface {
	Kind() string
}

// The kinds of steps, as records, agents and the interface name them.
const (
	KindStop    = "stop"
	KindStart   = "start"
	KindPause   = "pause"
	KindSuspend = "suspend"
	KindAdapt   = "adapt"
	KindFreeze  = "freeze"
	KindCommit  = "commit"
	KindGoBack  = "go-back"

	KindMergeSnapshot = "merge-snapshot"
	KindDropSnapshot  = "drop-snapshot"
	KindPack          = "pack"
	KindHandOut       = "hand-out"
	KindGiveIDs       = "give-ids"
	KindFetchDisk     = "fetch-disk"
	KindPlace         = "place"
	KindRecord        = "record"
	KindCarry         = "carry"
	KindFollow        = "follow"
	KindGiveBack      = "give-back"
	KindRelink        = "relink"
	KindMend          = "mend"
	KindLayer         = "layer"
	KindAlter         = "alter"
	KindTakeAway      = "take-away"
	KindDelist        = "delist"
	KindFence         = "fence"
	KindFreePool      = "free-pool"
	KindTakePool      = "take-pool"
	KindForget        = "forget"

	KindMakeSwitch = "make-switch"
	KindKeepSwitch = "keep-switch"
	KindDropSwitch = "drop-switch"

	// What is asked of a manager, where the host is one of its own.
	KindTakeImages  = "take-images"
	KindDropImages  = "drop-images"
	KindTellPeer    = "tell-peer"
	KindMakeRoom    = "make-room"
	KindMakeThere   = "make-there"
	KindRemoveThere = "remove-there"

	KindSend      = "send"
	KindNoteAhead = "note-ahead"
	KindUseAhead  = "use-ahead"
	KindLend      = "lend"
	KindAwait     = "await"
)

// Where is who carries a kind of step out.
type Where int

// Who carries steps out.
const (
	AtHost    Where = iota // the agent of a host; a manager, where the host is one of its own
	AtService              // the service itself
	AtPlace                // a manager, always
)

// Trait is what has to be known of a kind of step to order a plan and to carry it out.
type Trait struct {
	// Of is an empty value of the kind's parameters.
	Of Params
	// At says who carries such steps out.
	At Where
	// Administrator steps change a host for all its machines: only an administrator may have them done.
	Administrator bool
	// Final steps can't be taken back. The step before the first of them is the plan's point of no return.
	Final bool
	// Atomic steps leave nothing half-done when they are refused.
	Atomic bool
	// Transfer steps read and write whole disks: only so many run at once.
	Transfer bool
}

// Kinds is the table of all kinds of steps.
var Kinds = table(
	Trait{Of: &Stop{}},
	Trait{Of: &Start{}},
	Trait{Of: &Pause{}},
	Trait{Of: &Suspend{}},
	Trait{Of: &Adapt{}},
	Trait{Of: &Freeze{}},
	Trait{Of: &Commit{}, Final: true},
	Trait{Of: &GoBack{}},
	Trait{Of: &DropSnapshot{}},
	Trait{Of: &MergeSnapshot{}, Final: true},
	Trait{Of: &Pack{}, Transfer: true},
	Trait{Of: &HandOut{}, Transfer: true},
	Trait{Of: &FetchDisk{}, Transfer: true},
	Trait{Of: &Place{}},
	Trait{Of: &Carry{}, Transfer: true},
	Trait{Of: &Follow{}},
	Trait{Of: &Relink{}},
	Trait{Of: &Mend{}},
	Trait{Of: &NewLayer{}},
	Trait{Of: &Alter{}},
	Trait{Of: &TakeAway{}},
	Trait{Of: &GiveBack{}},
	Trait{Of: &Unlist{}},
	Trait{Of: &Fence{}},
	Trait{Of: &FreePool{}},
	Trait{Of: &TakePool{}},
	Trait{Of: &MakeSwitch{}, Administrator: true},
	Trait{Of: &KeepSwitch{}},
	Trait{Of: &DropSwitch{}, Administrator: true},
	Trait{Of: &TakeImages{}, At: AtPlace},
	Trait{Of: &MakeRoom{}, At: AtPlace},
	Trait{Of: &MakeThere{}, At: AtPlace},
	Trait{Of: &Send{}, Transfer: true},
	Trait{Of: &GiveIDs{}, At: AtService},
	Trait{Of: &Record{}, At: AtService},
	Trait{Of: &Forget{}, At: AtService},
	Trait{Of: &Lend{}, At: AtService},
	Trait{Of: &Await{}, At: AtService},
	Trait{Of: &NoteAhead{}, At: AtService, Final: true},
	Trait{Of: &UseAhead{}, Final: true},
	Trait{Of: &DropImages{}, At: AtPlace, Final: true},
	Trait{Of: &RemoveThere{}, At: AtPlace, Final: true},
	Trait{Of: &TellPeer{}, At: AtPlace, Final: true, Atomic: true},
)

func table(traits ...Trait) map[string]Trait {
	kinds := map[string]Trait{}
	for _, t := range traits {
		kinds[t.Of.Kind()] = t
	}
	return kinds
}

// Between are the hosts that a transfer goes between, by id: at is the one that carries it out. Nil: it is none.
func Between(do Params, at string) []string {
	if !Kinds[do.Kind()].Transfer {
		return nil
	}
	if c, ok := do.(*Carry); ok && c.FromHost != "" && c.FromHost != at {
		return []string{at, c.FromHost}
	}
	return []string{at}
}

// Touched is a file at a host.
type Touched struct{ Host, Path string }

// Transferring are the parameters of a transfer.
type Transferring interface {
	Params
	// Touches are the files that it reads and writes; at is the host that carries it out.
	Touches(at string) []Touched
}

func (c *Carry) Touches(at string) []Touched {
	return []Touched{{cmp.Or(c.FromHost, at), c.Source}, {at, path.Join(cmp.Or(c.Into, c.Pool), c.File)}}
}

func (f *FetchDisk) Touches(at string) []Touched { return []Touched{{at, path.Join(f.Pool, f.File)}} }

func (s *Send) Touches(at string) []Touched { return []Touched{{at, s.Source}} }

func (p *Packing) Touches(at string) []Touched {
	list := []Touched{{at, p.File}}
	for _, m := range p.Machines() {
		for _, d := range m.Disks {
			list = append(list, Touched{cmp.Or(m.FromHost, at), d.Source})
		}
	}
	return list
}

func stopStep(host, subject string, p Power) Step {
	return Step{Host: host, What: "Stop " + subject, Do: &Stop{Power: p}}
}

func againStep(host, subject string, p Power) Step {
	return Step{Host: host, What: "Start " + subject + " again", Do: &Start{Power: p, Again: true}}
}
