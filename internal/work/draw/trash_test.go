package draw

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"unvora.example/unvora/core/plan"
	"unvora.example/unvora/internal/hostlink"
	"unvora.example/unvora/internal/inventory"
)

// lies is something in a trash, that was put there so many minutes ago.
func lies(job, name, pool string, minutes int) hostlink.Trashed {
	at := time.Date(2026, 11, 29, 12, 0, 0, 0, time.UTC)
	return hostlink.Trashed{Job: job, Name: name, Pool: pool, PoolID: "id of " + pool, Bytes: 10,
		Path: "/" + pool + "/.unvora/trash/" + job + "/" + name, Was: "/" + pool + "/" + name,
		TakenAt: at.Add(-time.Duration(minutes) * time.Minute)}
}

// TestTrashOf: disks that lay elsewhere go with their machine, what a share holds counts once, and the latest comes
// first.
func TestTrashOf(t *testing.T) {
	gannet, petrel := &inventory.Host{Name: "gannet"}, &inventory.Host{Name: "petrel"}
	aside := lies("j1", "d.qcow2", "kelp", 5)
	aside.Of = "tide-gauge"
	list := &Trash{}
	list.Items = append(list.Items, trashOf(petrel, []hostlink.Trashed{lies("j1", "tide-gauge", "harbour", 5)})...)
	list.Items = append(list.Items, trashOf(gannet, []hostlink.Trashed{lies("j1", "tide-gauge", "harbour", 5), aside,
		lies("j2", "tide-gauge", "reef", 1), lies("j0", "buoy-ingest", "reef", 9)})...)
	list.Silent = []Silent{{"skua", "it sleeps"}, {"fulmar", "it is away"}}
	list.inOrder()
	var told []string
	for _, x := range list.Items {
		told = append(told, x.Job+" "+x.Host+" "+x.Name)
	}
	require.Equal(t, []string{"j2 gannet tide-gauge", "j1 gannet tide-gauge", "j0 gannet buoy-ingest"}, told)
	require.Equal(t, "fulmar", list.Silent[0].Host)
	moved := list.Items[1]
	require.EqualValues(t, 20, moved.Bytes)
	require.Equal(t, []plan.GivenBack{{From: "/harbour/.unvora/trash/j1/tide-gauge", To: "/harbour/tide-gauge"},
		{From: "/kelp/.unvora/trash/j1/d.qcow2", To: "/kelp/d.qcow2", Of: "tide-gauge"}}, moved.parts)

	for ref, want := range map[string]string{"buoy-ingest": "j0", "GANNET/buoy-ingest": "j0", moved.ID: "j1"} {
		x, err := list.find(ref)
		require.NoError(t, err)
		require.Equal(t, want, x.Job)
	}
	for ref, says := range map[string]string{
		"tide-gauge":         "called tide-gauge: say which by its id, the latest first: " + list.Items[0].ID,
		"petrel/buoy-ingest": "What skua has is not known: it sleeps",
		"nothing":            "What fulmar has is not known",
	} {
		_, err := list.find(ref)
		require.ErrorContains(t, err, says)
	}
}

// TestReasons: what keeps a machine from several hosts is told once.
func TestReasons(t *testing.T) {
	var why reasons
	require.Empty(t, why.told())
	why.add("petrel", "it is full")
	why.add("skua", "it is suspended")
	why.add("fulmar", "it is full")
	require.Equal(t, []string{"petrel, fulmar: it is full", "skua: it is suspended"}, why.told())
}
