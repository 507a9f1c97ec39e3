package do

import (
	"context"
	"encoding/json"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"unvora.example/unvora/core/machine"
	"unvora.example/unvora/core/plan"
	"unvora.example/unvora/internal/agent/agenttest"
	"unvora.example/unvora/internal/agent/driver"
	"unvora.example/unvora/internal/agent/driver/standin"
	"unvora.example/unvora/internal/agent/ground"
	"unvora.example/unvora/internal/hostlink"
)

// lasting is a stand-in whose machines go on without the agent; it notes in which order they were started.
type lasting struct {
	*standin.Driver
	started []string
	at      []time.Time
	begins  func(name string) // told before each start; may be nil
}

func (*lasting) StopAll(context.Context) error { return nil }

func (l *lasting) Start(ctx context.Context, folder string, m *machine.Machine) error {
	if l.begins != nil {
		l.begins(m.Name)
	}
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
		require.NoError(t, a.List(folder, ground.Registered{}, ""))
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

// TestStartAndDelist: a machine that is taken off the list while the host starts its machines is not started, and not
// listed again. One that is held still starts once it is let go; one that is being started is not taken away.
func TestStartAndDelist(t *testing.T) {
	a, pool := newAgent(t, 0)
	d := &lasting{Driver: standin.New(nil, nil, a.Config.Door())}
	a.Driver = d
	folders := map[string]string{}
	for turn, name := range []string{"archive-db", "tide-gauge", "buoy-ingest"} {
		folder, m := agenttest.Lying(t, pool, name)
		folders[name] = folder
		m.StartOrder, m.NICs = turn+1, nil
		raw, err := describe("", "", 0, m)
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(filepath.Join(folder, name+".ovf"), raw, 0o644))
		require.NoError(t, a.List(folder, ground.Registered{}, ""))
	}
	letGo, err := a.KeepStill(t.Context(), folders["buoy-ingest"], readWhileRunning)
	require.NoError(t, err)
	d.begins = func(name string) {
		if name != "archive-db" {
			return
		}
		delist := func(name string) error {
			raw, err := json.Marshal(plan.Unlist{Folder: folders[name]})
			require.NoError(t, err)
			tk, err := a.tasks.Start(name+".s1", hostlink.TaskSpec{Job: name, Epoch: 1, Kind: plan.KindDelist,
				Params: raw})
			require.NoError(t, err)
			_, err = doDelist(t.Context(), &run{Worker: a.Worker, Task: tk})
			return err
		}
		require.Equal(t, "state.running", ground.CodeOf(delist("archive-db")), "it is being started")
		require.NoError(t, delist("tide-gauge"))
		time.AfterFunc(time.Second, letGo) // it is waited for
	}
	soon, stop := context.WithTimeout(t.Context(), 200*time.Millisecond)
	defer stop()
	require.True(t, a.startMarked(soon, marked{folders["buoy-ingest"], &machine.Machine{}}), "it is tried again")
	a.startWithHost(t.Context(), "first")
	a.startWithHost(t.Context(), "second")
	require.Equal(t, []string{"archive-db", "buoy-ingest"}, d.started)
	listed := a.Records.Register()
	require.NotContains(t, listed, folders["tide-gauge"])
	require.True(t, listed[folders["buoy-ingest"]].Running)
	require.NoError(t, a.begin(t.Context(), folders["archive-db"], ""))
	require.Len(t, d.started, 2, "who was quicker has started it")
	require.Equal(t, "copy.unknown", ground.CodeOf(a.begin(t.Context(), folders["tide-gauge"], "")))
	_, err = a.noteRunning(t.Context(), folders["tide-gauge"])
	require.NoError(t, err)
	require.NotContains(t, a.Records.Register(), folders["tide-gauge"], "what is noted of it does not list it")
	_, err = a.KeepStill(t.Context(), folders["archive-db"], readWhileRunning)
	require.ErrorContains(t, err, "running")
}
