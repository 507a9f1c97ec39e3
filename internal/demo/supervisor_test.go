package demo

import (
	"fmt"
	"os"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// TestStartAnswers: a start that has worked, or has not, is answered, however
// soon the process is there, and what was started is stopped.
func TestStartAnswers(t *testing.T) {
	dir := t.TempDir()
	s := newSupervisor(dir)
	answered := make(chan error, 1)
	go func() {
		for i := range 50 {
			if err := s.start(process{name: fmt.Sprint("p", i), path: "/bin/sleep",
				args: []string{"600"}}); err != nil {
				answered <- err
				return
			}
		}
		answered <- nil
	}()
	select {
	case err := <-answered:
		require.NoError(t, err)
	case <-time.After(time.Minute):
		require.Fail(t, "a start was not answered")
	}
	require.ErrorContains(t, s.start(process{name: "none", path: dir + "/none"}), "start none:")
	require.FileExists(t, dir+"/pids.json")

	s.stop()
	_, err := os.Stat(dir + "/pids.json")
	require.ErrorIs(t, err, os.ErrNotExist)
	require.ErrorContains(t, s.start(process{name: "late", path: "/bin/sleep"}), "stopping")
}
