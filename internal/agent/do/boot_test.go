package do

import (
	"context"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"unvora.example/unvora/core/machine"
	"unvora.example/unvora/internal/agent/agenttest"
	"unvora.example/unvora/internal/agent/driver"
	"unvora.example/unvora/internal/agent/driver/standin"
	"unvora.example/unvora/internal/agent/ground"
)

// lasting is a stand-in whose machines go on without the agent; it notes in which order they were started.
type lasting struct {
	*standin.Driver
	started []string
	at      []time.Time
}

func (*lasting) StopAll(context.Context) error { return nil }

func (l *lasting) Start(ctx context.Context, folder string, m *machine.Machine) error {
	err := l.Driver.Start(ctx, folder, m)
	if err == nil {
		l.started, l.at = append(l.started, m.Name), append(l.at, time.Now())
	}
	return err
}

// TestStartWithHost: machines that are marked start with their computer, in order, with pauses; one that can't does not
// keep the others; a new start of the agent alone starts nothing.
func TestStartWithHost(t *testing.T) {
	a, pool := newAgent(t, 0)
	d := &lasting{Driver: standin.New(nil, nil, a.Config.Door())}
	a.Driver = d
	for name, turn := range map[string]int{"tide-gauge": 3, "archive-db": 1, "buoy-ingest": 2, "chart-render": 0} {
		folder, m := agenttest.Lying(t, pool, name)
		m.StartOrder, m.NICs = turn, nil
		if name == "archive-db" {
			m.StartPause = 1
		}
		if name == "buoy-ingest" {
			m.Disks[0].File = "not-there.qcow2"
		}
		raw, err := describe("", "", 0, m)
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(filepath.Join(folder, name+".ovf"), raw, 0o644))
		require.NoError(t, a.Records.List(folder, ground.Registered{}))
	}
	a.startWithHost(t.Context(), "first")
	require.Empty(t, d.started, "the agent is new")
	a.startWithHost(t.Context(), "first")
	require.Empty(t, d.started, "the agent was started anew, and not the computer")
	a.startWithHost(t.Context(), "second")
	require.Equal(t, []string{"archive-db", "tide-gauge"}, d.started)
	require.GreaterOrEqual(t, d.at[1].Sub(d.at[0]), time.Second)
	require.True(t, a.Records.Register()[filepath.Join(pool, "tide-gauge")].Running)
	a.startWithHost(t.Context(), "third")
	require.Len(t, d.started, 2, "they run")
	var _ driver.Lasting = d
}
