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

// Active tells whether a machine's disks are open: it runs, or stands still while it runs.
func (s State) Active() bool { return s == Running || s == Paused }
