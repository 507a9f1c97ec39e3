package work

import (
	"context"
	"sync"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/require"

	"unvora.example/unvora/internal/inventory"
)

// TestTurns: hosts are asked in the order in which they are due, not before, and no more at once than may be.
func TestTurns(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		ctx, stop := context.WithCancel(t.Context())
		turns := newTurns()
		var mu sync.Mutex
		var asked []string
		var now, most atomic.Int64
		began := time.Now()
		var all sync.WaitGroup
		all.Go(func() {
			turns.serve(ctx, 2, func(h *watched) {
				most.Store(max(most.Load(), now.Add(1)))
				mu.Lock()
				asked = append(asked, h.Name)
				mu.Unlock()
				if h.Name == "late" {
					require.GreaterOrEqual(t, time.Since(began), time.Hour)
				}
				time.Sleep(time.Second)
				now.Add(-1)
			})
		})
		turns.add(&watched{Watched: inventory.Watched{Name: "late"}}, time.Hour)
		for _, name := range []string{"c", "b", "a"} {
			turns.add(&watched{Watched: inventory.Watched{Name: name}}, time.Duration(name[0]-'a'+1)*time.Minute)
		}
		for range 5 {
			turns.add(&watched{Watched: inventory.Watched{Name: "together"}}, 30*time.Minute)
		}
		time.Sleep(2 * time.Hour)
		stop()
		all.Wait()
		require.Equal(t, []string{"a", "b", "c", "together", "together", "together", "together", "together", "late"},
			asked)
		require.EqualValues(t, 2, most.Load())
	})
}

// TestPauses: a host that is silent is tried the more seldom the longer it is, and never given up.
func TestPauses(t *testing.T) {
	for silent, pause := range map[time.Duration]time.Duration{0: leastPause, 8 * time.Second: 2 * time.Second,
		time.Minute: 15 * time.Second, time.Hour: mostPause, 1000 * time.Hour: mostPause} {
		require.InDelta(t, pause.Seconds(), pauseOf(time.Now().Add(-silent)).Seconds(), 0.1, silent)
	}
}
