package steer

import (
	"encoding/json"
	"errors"
	"testing"
	"testing/synctest"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/require"

	"unvora.example/unvora/core/identity"
	"unvora.example/unvora/core/machine"
	"unvora.example/unvora/core/plan"
	"unvora.example/unvora/internal/hostlink"
	"unvora.example/unvora/internal/inventory"
)

// TestDesk: one tick of a job at a time; a job of which nothing is heard by the time that was said is lost.
func TestDesk(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		d, one, other := newDesk(), uuid.New(), uuid.New()
		require.True(t, d.lost(one), "nobody knows of it")
		require.True(t, d.begin(one))
		require.False(t, d.begin(one))
		require.True(t, d.begin(other))
		time.Sleep(tickLimit + tickLost)
		require.False(t, d.lost(one))
		time.Sleep(time.Millisecond)
		require.True(t, d.lost(one), "the tick is given up")

		d.leave(one, time.Now().Add(time.Second))
		require.False(t, d.lost(one))
		require.True(t, d.begin(one), "the one before has ended")
		d.end(one)
		require.True(t, d.begin(one))
	})
}

// TestPauses: rests grow with each failure in a row, up to a bound; a tick that moved the job forgets them.
func TestPauses(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		d, id := newDesk(), uuid.New()
		began := time.Now()
		for n, want := range []time.Duration{tickPause, 2 * tickPause, 4 * tickPause, 8 * tickPause, 16 * tickPause,
			mostTickPause, mostTickPause} {
			pause, since := d.failed(id)
			require.Equal(t, want, pause, "failure %d", n+1)
			require.Equal(t, time.Since(began), since)
			time.Sleep(pause)
		}
		for range 100 {
			pause, _ := d.failed(id)
			require.Equal(t, mostTickPause, pause)
		}
		d.moved(id)
		pause, since := d.failed(id)
		require.Equal(t, tickPause, pause)
		require.Zero(t, since)
	})
}

func raw(t *testing.T, v any) json.RawMessage {
	text, err := json.Marshal(v)
	require.NoError(t, err)
	return text
}

// TestMeasure: disks become as large as the steps say that wrote them: those of this machine, and done.
func TestMeasure(t *testing.T) {
	step := func(part int, state inventory.StepState, disk string, r hostlink.FetchResult) inventory.Step {
		return inventory.Step{ID: disk, Part: part, Kind: plan.KindCarry, State: state, Result: raw(t, r),
			DoWhat: raw(t, plan.Carry{Disk: disk})}
	}
	j := &inventory.Job{Steps: []inventory.Step{
		step(0, "done", "disk1", hostlink.FetchResult{FileBytes: 7, VirtualBytes: 70}),
		step(0, "done", "disk2", hostlink.FetchResult{FileBytes: 8}),
		step(1, "done", "disk1", hostlink.FetchResult{FileBytes: 9, VirtualBytes: 90}),
		step(0, "working", "disk3", hostlink.FetchResult{FileBytes: 10}),
		{ID: "s9", Kind: plan.KindPlace, State: "done", Result: raw(t, "not a disk's")},
	}}
	m := &machine.Machine{Disks: []machine.Disk{{ID: "disk1", VirtualBytes: 1}, {ID: "disk2", VirtualBytes: 2},
		{ID: "disk3", VirtualBytes: 3}}}
	require.NoError(t, measure(j, 0, m))
	require.Equal(t, []machine.Disk{{ID: "disk1", FileBytes: 7, VirtualBytes: 70},
		{ID: "disk2", FileBytes: 8, VirtualBytes: 2}, {ID: "disk3", VirtualBytes: 3}}, m.Disks)
	j.Steps[1].Result = raw(t, "gone")
	require.ErrorContains(t, measure(j, 0, m), "result of step disk2")
}

// TestPackageSize: a package is as large as the step says that packed it, or handed it out.
func TestPackageSize(t *testing.T) {
	for _, kind := range []string{plan.KindPack, plan.KindHandOut} {
		r := &run{j: &inventory.Job{Steps: []inventory.Step{
			{Kind: kind, Result: raw(t, hostlink.PackResult{Bytes: 77})},
			{Kind: plan.KindStart, Result: raw(t, hostlink.PackResult{Bytes: 5})}}}}
		var c inventory.Copy
		r.recordPackage(&c)
		require.EqualValues(t, 77, c.SizeBytes, kind)
		require.EqualValues(t, "unknown", c.State)
	}
}

// TestIdentityOf: one facet that is renewed makes it a renewed identity.
func TestIdentityOf(t *testing.T) {
	require.Equal(t, identity.Keep, identityOf(chosen(nil)))
	require.Equal(t, identity.Keep, identityOf(chosen(map[string]string{"mac": identity.Keep})))
	require.Equal(t, identity.Renew, identityOf(chosen(map[string]string{"mac": identity.Renew,
		"uuid": identity.Keep})))
}

// TestClean: only a step that leaves nothing half-done when it is refused, and is the first that can't be taken back,
// leaves its job as it was.
func TestClean(t *testing.T) {
	job := func(kinds ...string) (j *inventory.Job) {
		j = &inventory.Job{}
		for i, k := range kinds {
			j.Steps = append(j.Steps, inventory.Step{Position: i, Kind: k})
		}
		return j
	}
	j := job(plan.KindRecord, plan.KindTellPeer, plan.KindTellPeer)
	require.False(t, clean(j, &j.Steps[0]))
	require.True(t, clean(j, &j.Steps[1]))
	require.False(t, clean(j, &j.Steps[2]), "one before can't be taken back")
	j = job(plan.KindRecord, plan.KindRemoveThere)
	require.False(t, clean(j, &j.Steps[1]), "who knows what is left of it")
}

// TestPause: a time is waited, none goes on at once, and an error is told instead.
func TestPause(t *testing.T) {
	until, err := pause(time.Second, nil)
	require.NoError(t, err)
	require.NotNil(t, until)
	until, err = pause(0, nil)
	require.NoError(t, err)
	require.Nil(t, until)
	until, err = pause(time.Second, errBehindTest)
	require.ErrorIs(t, err, errBehindTest)
	require.Nil(t, until)
}

var errBehindTest = errors.New("no")
