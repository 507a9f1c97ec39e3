package machine

// State is whether a machine runs, as its host tells.
type State string

// All states. Unknown is that of a package, which nobody starts; Away that of a copy whose pool is not there.
const (
	Running   State = "running"
	Stopped   State = "stopped"
	Paused    State = "paused"
	Suspended State = "suspended"
	Unknown   State = "unknown"
	Away      State = "away"
)

// States are all of them.
var States = []State{Running, Stopped, Paused, Suspended, Unknown, Away}

// Down tells whether a machine is known to stand, so that its disks are closed.
func (s State) Down() bool { return s == Stopped || s == Suspended }

// Manner is how a machine is stopped.
type Manner string

// The manners of stopping.
const (
	CleanOrOff Manner = ""      // its guest is asked to shut down; one that does not in time is turned off
	CleanOnly  Manner = "clean" // its guest is asked to shut down; one that does not in time goes on
	Off        Manner = "off"   // turned off at once, as by a power cut; a suspended state is dropped
)

// Active tells whether a machine's disks are open: it runs, or stands still while it runs.
func (s State) Active() bool { return s == Running || s == Paused }
