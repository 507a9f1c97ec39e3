package plan

// HostState is whether a host can take part.
type HostState string

// All states of a host. One that rests takes nothing new.
const (
	HostUp          HostState = "up"
	HostResting     HostState = "resting"
	HostUnreachable HostState = "unreachable"
)

// PoolState is whether a pool can take part.
type PoolState string

// All states of a pool. A free one belongs to a drive that is not there and is named by no host.
const (
	PoolReady    PoolState = "ready"
	PoolResting  PoolState = "resting"
	PoolReadOnly PoolState = "read-only"
	PoolAway     PoolState = "away"
	PoolFree     PoolState = "free"
)
