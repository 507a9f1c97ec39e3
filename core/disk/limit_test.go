package disk

import (
	"context"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/require"
)

// TestLimit: bytes pass at the rate that is set, and another counts within about a second, also for who waits already.
func TestLimit(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		l := NewLimit(1 << 20)
		took := func(bytes int) time.Duration {
			began := time.Now()
			require.NoError(t, l.Wait(t.Context(), bytes))
			return time.Since(began)
		}
		took(gulp) // may pass at once
		require.InDelta(t, 8, took(8<<20).Seconds(), 0.1)
		l.Set(0)
		require.Zero(t, took(1<<30))
		l.Set(64 << 10)
		took(gulp)
		done := make(chan time.Duration)
		go func() { done <- took(64 << 20) }()
		time.Sleep(10 * time.Second)
		l.Set(0)
		require.Less(t, (<-done).Seconds(), 13.0, "it does not wait for what an old rate has reserved")

		l.Set(1 << 10)
		took(gulp)
		ctx, stop := context.WithTimeout(t.Context(), time.Minute)
		defer stop()
		require.Error(t, l.Wait(ctx, 8<<20))
	})
}
