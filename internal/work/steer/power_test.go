package steer_test

import (
	"encoding/json"
	"testing"

	"github.com/google/uuid"
	"github.com/stretchr/testify/require"

	"unvora.example/unvora/core/plan"
	"unvora.example/unvora/internal/hostlink"
)

// TestStaysOff: a machine that was shut down by the time that a job came to stop it is not started again by it, and
// the inventory does not say that it runs. One that its own step stopped is; one whose manager does not say is too.
func TestStaysOff(t *testing.T) {
	power := plan.Power{Copy: uuid.NewString(), Folder: "/pools/reef/tide-gauge"}
	other := plan.Power{Copy: uuid.NewString(), Folder: "/pools/reef/archive-db"}
	result := func(s string) hostlink.Task {
		return hostlink.Task{State: hostlink.TaskDone, Result: json.RawMessage(s)}
	}
	for was, off := range map[string]bool{`{"was": "stopped", "is": "stopped"}`: true,
		`{"was": "running", "is": "stopped"}`: false, `{"was": "paused", "is": "stopped"}`: false, "null": false} {
		b := newBench(t)
		b.agent.tasks["s1"], b.agent.tasks["s2"] = []hostlink.Task{result(was)},
			[]hostlink.Task{result(`{"was": "stopped", "is": "stopped"}`)}
		j := b.job(plan.Stop{Power: power}, plan.Stop{Power: other}, plan.Start{Power: power, Again: true},
			plan.Start{Power: other})
		for !b.now(j).Over() {
			_, err := b.tick(j)
			require.NoError(t, err)
		}
		require.Equal(t, "done", string(b.now(j).State), b.now(j).Error)
		var asked, always plan.Start
		require.NoError(t, json.Unmarshal(b.agent.specs["s3"].Params, &asked))
		require.Equal(t, plan.Start{Power: power, Off: off}, asked, was)
		require.NoError(t, json.Unmarshal(b.agent.specs["s4"].Params, &always))
		require.False(t, always.Off, "this one is started whatever it was")
	}
}
